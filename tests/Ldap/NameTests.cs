using CsCheck;
using Xunit;

namespace Oikonom.Ldap.Tests;

/// <summary>Distinguished names in one form (RFC 4514), however they were written.</summary>
public sealed class NameTests
{
    /// <summary>The form as it is defined: taken apart, in lower case, and put together.</summary>
    private static string Slowly(string dn) =>
        string.Join(
            ',',
            LdapDn
                .Parse(dn)
                .Select(rdn =>
                    string.Join(
                        '+',
                        rdn.Select(p => $"{p.Attribute.ToLowerInvariant()}={LdapDn.Escape(p.Value.ToLowerInvariant())}")
                            .Order(StringComparer.Ordinal)
                    )
                )
        );

    [Fact]
    public void The_short_way_to_the_one_form_ends_where_the_long_one_does()
    {
        var letter = Gen.Int[0, 13].Select(i => "aB .,=+\\\"#<;é-"[i]);
        var value = letter.Array[1, 6].Select(c => new string(c));
        var type = Gen.Int[0, 2].Select(i => new[] { "ou", "CN", "dc" }[i]);
        var rdn = Gen.Select(type, value, (t, v) => LdapDn.Rdn(t, v));
        rdn.Array[1, 4]
            .Select(Gen.Bool, (parts, spaced) => string.Join(spaced ? ", " : ",", parts))
            .Sample(dn => LdapDn.Normalise(dn) == Slowly(dn), iter: 50_000);
    }

    [Theory]
    [InlineData("UID=Kaya,OU=People,dc=example", "uid=kaya,ou=people,dc=example")]
    [InlineData("uid = kaya , ou=people", "uid=kaya,ou=people")]
    [InlineData("cn=a\\2cb", "cn=a\\,b")]
    [InlineData("no name at all", "no name at all")]
    [InlineData("cn=x,", "cn=x,")]
    [InlineData("=x", "=x")]
    public void Two_ways_to_write_a_name_become_one(string dn, string form) => Assert.Equal(form, LdapDn.Normalise(dn));

    [Theory]
    [InlineData("ou=people,dc=x", "dc=x", true)]
    [InlineData("OU=People, DC=X", "ou=people,dc=x", true)]
    [InlineData("dc=x", "", true)]
    [InlineData("ou=people,dc=xx", "dc=x", false)]
    [InlineData("ou=people\\,dc=x", "dc=x", false)]
    [InlineData("dc=x", "ou=people,dc=x", false)]
    public void A_name_stands_below_another_by_whole_parts(string dn, string above, bool isBelow) =>
        Assert.Equal(isBelow, LdapDn.IsBelow(dn, above));
}
