using CsCheck;
using Xunit;

namespace Oikonom.Ldap.Tests;

/// <summary>Descriptions of schemas as servers publish them (RFC 4512 section 4.1).</summary>
public sealed class LdapSchemaTests
{
    private static readonly LdapSchema Schema = new(
        [
            "( 2.5.4.3 NAME ( 'cn' 'commonName' ) DESC 'RFC4519: common name(s)' SUP name )",
            "( 2.5.4.4 NAME ( 'sn' 'surname' ) DESC 'it''s ( odd ) $' SUP name )",
            "( 2.5.4.35 NAME 'userPassword' SYNTAX 1.3.6.1.4.1.1466.115.121.1.40{128} )",
            "( 2.5.18.1 NAME 'createTimestamp' SYNTAX 1.3.6.1.4.1.1466.115.121.1.24 SINGLE-VALUE NO-USER-MODIFICATION USAGE directoryOperation )",
            "(1.1.1 NAME'close'SUP name)",
            "( 1.1.2 )",
            "",
            "NAME",
            "( 1.1.3 NAME",
            "( 1.1.4 NAME ( 'open",
        ],
        [
            "( 2.5.6.0 NAME 'top' ABSTRACT MUST objectClass )",
            "( 2.5.6.6 NAME 'person' DESC 'a person' SUP top STRUCTURAL MUST ( sn $ cn ) MAY ( userPassword $ seeAlso ) )",
            "( 2.5.6.7 NAME 'organizationalPerson' SUP person STRUCTURAL MAY ( title $ l ) )",
            "( 1.2.1 NAME 'loop' SUP ( loop $ person ) MAY x )",
        ]
    );

    [Fact]
    public void Names_and_classes_are_read_with_what_they_inherit()
    {
        Assert.Equal(
            ["close", "cn", "commonName", "createTimestamp", "open", "sn", "surname", "userPassword"],
            Schema.Attributes.Order(StringComparer.Ordinal)
        );
        Assert.Equal(4, Schema.Classes.Count);
        var allowed = Schema.Allowed(["organizationalperson"]);
        // Its own, those of the class it is derived from under every name, and what the server keeps.
        foreach (
            var name in new[] { "title", "L", "CN", "commonName", "surname", "userpassword", "seeAlso", "objectClass", "createTimestamp" }
        )
            Assert.Contains(name, allowed);
        Assert.DoesNotContain("close", allowed);
        Assert.DoesNotContain("title", Schema.Allowed(["person"]));
        // A class that names itself is no end of all things, and one that is not known adds nothing.
        Assert.Contains("cn", Schema.Allowed(["loop"]));
        Assert.Equal(["createTimestamp", "objectClass"], Schema.Allowed(["nothing"]).Order(StringComparer.Ordinal));
    }

    [Fact]
    public void Whatever_a_server_sends_is_read_to_its_end() =>
        Gen.String[Gen.Char["()$' NAMESUPMUSTxyz\t"], 0, 60]
            .Array[0, 6]
            .Sample(texts => new LdapSchema(texts, texts).Allowed(texts).Contains("objectClass"), iter: 2000);
}
