using System.Text;
using Oikonom.Standins.Directory;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Ldap.Tests;

/// <summary>The client against a real directory server.</summary>
public sealed class ConformanceTests(DirectoryFixture fixture)
{
    private readonly TestDirectory _directory = fixture.Directory;

    private static string Fresh() => "u" + Guid.NewGuid().ToString("N")[..10];

    [Fact]
    public async Task An_entry_is_added_changed_compared_renamed_and_deleted()
    {
        await using var ldap = await _directory.ConnectAsync();
        var name = Fresh();
        await ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name));
        await ldap.ModifyAsync(
            TestDirectory.Dn(name),
            [
                new(LdapChangeKind.Replace, "title", "Diver"),
                new(LdapChangeKind.Add, "mail", "a@northmere.example", "b@northmere.example"),
                new(LdapChangeKind.Delete, "mail", "a@northmere.example"),
            ]
        );
        var entry = await ldap.ReadAsync(TestDirectory.Dn(name), ["title", "MAIL"]);
        Assert.Equal("Diver", entry!.Text("Title"));
        Assert.Equal(["b@northmere.example"], entry.Texts("mail"));
        Assert.True(await ldap.CompareAsync(TestDirectory.Dn(name), "title", "diver"));
        Assert.False(await ldap.CompareAsync(TestDirectory.Dn(name), "title", "keeper"));
        await ldap.ModifyDnAsync(TestDirectory.Dn(name), LdapDn.Rdn("uid", name + "x"), deleteOldRdn: true);
        Assert.Null(await ldap.ReadAsync(TestDirectory.Dn(name), ["1.1"]));
        await ldap.DeleteAsync(TestDirectory.Dn(name + "x"));
        Assert.Equal(
            LdapCode.NoSuchObject,
            (await Assert.ThrowsAsync<LdapResultException>(() => ldap.DeleteAsync(TestDirectory.Dn(name + "x")))).Code
        );
    }

    [Fact]
    public async Task A_refused_add_tells_the_code()
    {
        await using var ldap = await _directory.ConnectAsync();
        var name = Fresh();
        await ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name));
        Assert.Equal(
            LdapCode.EntryAlreadyExists,
            (await Assert.ThrowsAsync<LdapResultException>(() => ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name)))).Code
        );
        Assert.Equal(
            LdapCode.ObjectClassViolation,
            (
                await Assert.ThrowsAsync<LdapResultException>(() =>
                    ldap.AddAsync(TestDirectory.Dn(Fresh()), [new("objectClass", "inetOrgPerson"), new("uid", "x")])
                )
            ).Code
        );
        Assert.Equal(
            LdapCode.InsufficientAccessRights,
            (await Assert.ThrowsAsync<LdapResultException>(() => ldap.DeleteAsync(DirectoryOptions.Nobody))).Code
        );
    }

    [Fact]
    public async Task The_entry_after_a_change_comes_with_the_answer()
    {
        await using var ldap = await _directory.ConnectAsync();
        var name = Fresh();
        var added = await ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name), [LdapControls.PostRead("entryUUID", "cn")]);
        var after = LdapControls.ReadEntry(added, LdapControls.PostReadOid)!;
        Assert.True(Guid.TryParse(after.Text("entryUUID"), out _));
        var changed = await ldap.ModifyAsync(
            TestDirectory.Dn(name),
            [new(LdapChangeKind.Replace, "cn", "Other")],
            [LdapControls.PreRead("cn")]
        );
        Assert.Equal(name, LdapControls.ReadEntry(changed, LdapControls.PreReadOid)!.Text("cn"));
    }

    [Fact]
    public async Task An_assertion_holds_a_change_back()
    {
        await using var ldap = await _directory.ConnectAsync();
        var name = Fresh();
        await ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name));
        var refused = await Assert.ThrowsAsync<LdapResultException>(() =>
            ldap.ModifyAsync(
                TestDirectory.Dn(name),
                [new(LdapChangeKind.Replace, "cn", "x")],
                [LdapControls.Assertion(LdapFilter.Equal("cn", "somebody else"))]
            )
        );
        Assert.Equal(LdapCode.AssertionFailed, refused.Code);
        await ldap.ModifyAsync(
            TestDirectory.Dn(name),
            [new(LdapChangeKind.Replace, "cn", "x")],
            [LdapControls.Assertion(LdapFilter.Equal("cn", name))]
        );
    }

    [Fact]
    public async Task A_thousand_operations_run_on_one_line_at_once()
    {
        await using var ldap = await _directory.ConnectAsync();
        var prefix = Fresh();
        await Task.WhenAll(
            Enumerable.Range(0, 1000).Select(i => ldap.AddAsync(TestDirectory.Dn($"{prefix}-{i}"), TestDirectory.Person($"{prefix}-{i}")))
        );
        var found = await Task.WhenAll(
            Enumerable
                .Range(0, 1000)
                .Select(i => ldap.SearchAsync(new(DirectoryOptions.People, LdapScope.One, LdapFilter.Equal("uid", $"{prefix}-{i}"), "cn")))
        );
        Assert.All(found.Index(), pair => Assert.Equal($"{prefix}-{pair.Index}", pair.Item.Single().Text("cn")));

        // Page by page all of them come, though the server limits a plain search of others.
        var paged = 0;
        await foreach (
            var entry in ldap.PageAsync(new(DirectoryOptions.People, LdapScope.One, LdapFilter.Parse($"(uid={prefix}-*)"), "uid"), 128)
        )
            paged += entry.Text("uid")!.StartsWith(prefix, StringComparison.Ordinal) ? 1 : 0;
        Assert.Equal(1000, paged);
    }

    [Fact]
    public async Task A_large_value_passes_and_a_too_large_answer_is_refused()
    {
        await using var ldap = await _directory.ConnectAsync();
        var name = Fresh();
        var photo = new byte[1_500_000];
        Random.Shared.NextBytes(photo);
        await ldap.AddAsync(TestDirectory.Dn(name), [.. TestDirectory.Person(name), new LdapAttribute("jpegPhoto", [photo])]);
        Assert.Equal(photo, (await ldap.ReadAsync(TestDirectory.Dn(name), ["jpegPhoto"]))!["jpegPhoto"]!.Values[0]);
        await using var small = await _directory.ConnectAsync(_directory.Options with { MaxMessage = 100_000 });
        Assert.Equal(
            LdapFailure.Protocol,
            (await Assert.ThrowsAsync<LdapConnectionException>(() => small.ReadAsync(TestDirectory.Dn(name), ["jpegPhoto"]))).Failure
        );
        Assert.False(small.IsOpen);
    }

    [Theory]
    [InlineData("a,b=c+d;e<f>g\"h\\i")]
    [InlineData(" leading and trailing ")]
    [InlineData("#hash")]
    [InlineData("Ирина Ōmori 🐙")]
    [InlineData("*)(uid=*")]
    [InlineData("x)(|(objectClass=*)")]
    [InlineData("back\\slash\\2c")]
    public async Task Hostile_names_arrive_as_they_are_and_find_only_themselves(string value)
    {
        await using var ldap = await _directory.ConnectAsync();
        var name = value + Fresh();
        await ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name));
        var found = await ldap.SearchAsync(new(DirectoryOptions.People, LdapScope.One, LdapFilter.Equal("uid", name), "uid", "cn"));
        Assert.Equal(name.Trim(), found.Single().Text("uid")!.Trim());
        Assert.True(LdapDn.Same(found[0].Dn, TestDirectory.Dn(name)), $"{found[0].Dn} is not {TestDirectory.Dn(name)}");
        Assert.Single(
            await ldap.SearchAsync(
                new(DirectoryOptions.People, LdapScope.One, LdapFilter.Parse(LdapFilter.Equal("uid", name).ToString()), "uid")
            )
        );
        await ldap.DeleteAsync(found[0].Dn);
    }

    [Fact]
    public async Task A_password_is_set_works_and_is_changed()
    {
        await using var ldap = await _directory.ConnectAsync();
        var name = Fresh();
        await ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name));
        await ldap.PasswordModifyAsync(TestDirectory.Dn(name), null, "first-password");
        await using var user = await LdapConnection.ConnectAsync(_directory.Options);
        Assert.Equal(
            LdapCode.InvalidCredentials,
            (await Assert.ThrowsAsync<LdapResultException>(() => user.BindAsync(TestDirectory.Dn(name), "wrong"))).Code
        );
        await user.BindAsync(TestDirectory.Dn(name), "first-password");
        await user.PasswordModifyAsync(null, "first-password", "second-password");
        await user.BindAsync(TestDirectory.Dn(name), "second-password");
        Assert.Equal($"dn:{TestDirectory.Dn(name)}", await user.WhoAmIAsync());
        Assert.NotEmpty((await ldap.PasswordModifyAsync(TestDirectory.Dn(name), null, null))!);
    }

    [Fact]
    public async Task A_bind_with_a_name_and_no_password_is_never_sent()
    {
        await using var ldap = await LdapConnection.ConnectAsync(_directory.Options);
        await Assert.ThrowsAsync<ArgumentException>(() => ldap.BindAsync(DirectoryOptions.ServiceName, ""));
    }

    [Fact]
    public async Task What_changed_is_told_by_synchronisation()
    {
        await using var ldap = await _directory.ConnectAsync();
        var name = Fresh();
        await ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name));
        var search = new LdapSearch(DirectoryOptions.People, LdapScope.One, LdapFilter.Equal("uid", name), "cn");
        var (first, cookie) = await RefreshAsync(ldap, search, null);
        Assert.Equal(LdapSyncChange.Add, first.Single().Change);
        await ldap.DeleteAsync(TestDirectory.Dn(name));
        var (second, _) = await RefreshAsync(ldap, search, cookie);
        Assert.DoesNotContain(second, s => s.Change == LdapSyncChange.Add);
    }

    private static async Task<(List<(LdapSyncChange Change, Guid Id, byte[]? Cookie)> States, byte[]? Cookie)> RefreshAsync(
        LdapConnection ldap,
        LdapSearch search,
        byte[]? cookie
    )
    {
        var states = new List<(LdapSyncChange, Guid, byte[]?)>();
        byte[]? next = null;
        await foreach (var item in ldap.StreamAsync(search with { Controls = [LdapControls.Sync(persist: false, cookie)] }))
        {
            if (
                item is LdapSearchItem.Found { Entry.Controls: var controls }
                && controls.FirstOrDefault(c => c.Oid == LdapControls.SyncStateOid) is { } state
            )
                states.Add(LdapControls.SyncState(state));
            if (item is LdapSearchItem.Done { Result: var result })
            {
                Assert.Equal(LdapCode.Success, result.Code);
                next = result.Control(LdapControls.SyncDoneOid) is { } done ? LdapControls.SyncDone(done) : null;
            }
        }
        return (states, next);
    }

    [Fact]
    public async Task StartTls_protects_the_line_and_clear_text_is_refused_by_the_server()
    {
        var options = _directory.Options with { Port = _directory.Server.Options.LdapPort, Security = LdapSecurity.StartTls };
        await using var ldap = await _directory.ConnectAsync(options);
        Assert.StartsWith("dn:cn=oikonom", await ldap.WhoAmIAsync(), StringComparison.Ordinal);
        await using var clear = await LdapConnection.ConnectAsync(options with { Security = LdapSecurity.None });
        Assert.Equal(
            LdapCode.ConfidentialityRequired,
            (
                await Assert.ThrowsAsync<LdapResultException>(() =>
                    clear.BindAsync(DirectoryOptions.ServiceName, _directory.Server.Options.ServicePassword)
                )
            ).Code
        );
    }

    [Fact]
    public void Filters_read_what_they_write()
    {
        foreach (
            var text in new[]
            {
                "(cn=*)",
                "(&(a=b)(!(c=d))(|(e=f)(g>=1)(h<=2)(i~=j)))",
                "(cn=ab*c\\2ad*e)",
                "(cn=*x*)",
                "(cn:dn:2.5.13.2:=x)",
                "(:2.5.13.2:=x)",
                "(objectGUID=\\ff\\00\\80)",
                "(&)",
            }
        )
            Assert.Equal(text, LdapFilter.Parse(text).ToString());
        foreach (
            var text in new[]
            {
                "",
                "cn=x",
                "(cn=x",
                "(cn=x))",
                "(=x)",
                "(cn)",
                "(cn=a**b)",
                "(cn=\\zz)",
                "(!(a=b)(c=d))",
                "(c(n=x)",
                new string('(', 200) + "!",
            }
        )
            Assert.Throws<FormatException>(() => LdapFilter.Parse(text));
        Assert.Equal("(cn=\\2a\\28\\29\\5c\\00)", LdapFilter.Equal("cn", "*()\\\0").ToString());
    }

    [Fact]
    public void Names_compare_by_meaning()
    {
        Assert.True(LdapDn.Same("UID=Kaya , OU=People,dc=northmere,dc=example", "uid=kaya,ou=people,DC=northmere,DC=example"));
        Assert.True(LdapDn.Same("cn=a\\2Cb,dc=x", "cn=a\\,b,dc=x"));
        Assert.False(LdapDn.Same("cn=a,cn=b", "cn=a\\,cn\\=b"));
        Assert.Equal("ou=people,dc=x", LdapDn.Parent("cn=a\\,b,ou=people,dc=x"));
        Assert.Throws<FormatException>(() => LdapDn.Parse("no name"));
        Assert.Equal("ж", LdapDn.Parse("cn=\\D0\\B6")[0][0].Value);
        Assert.Equal(Encoding.UTF8.GetString("a "u8), LdapDn.Parse("cn=a\\ ")[0][0].Value);
    }
}
