using System.Text;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Ldap.Tests;

/// <summary>The client against a real domain controller, in its dialect.</summary>
[Collection("domain controller")]
public sealed class DomainControllerTests(ControllerFixture fixture)
{
    private const string Users = "CN=Users," + DomainController.Base;

    private static string Dn(string name) => LdapDn.Child("CN", name, Users);

    [Fact]
    public async Task The_dialect_of_a_domain_controller_is_spoken()
    {
        Assert.SkipWhen(fixture.Controller is null, fixture.Missing ?? "");
        var controller = fixture.Controller!;
        await using var ldap = await controller.ConnectAsync();

        // A user with a password in its own form, enabled; found by its binary id.
        var password = Encoding.Unicode.GetBytes("\"Harbour-Light-42\"");
        await ldap.AddAsync(
            Dn("Zoë Quill"),
            [
                new("objectClass", "user"),
                new("sAMAccountName", "zoe.quill"),
                new("userPrincipalName", "zoe.quill@northmere.example"),
                new("unicodePwd", [password]),
                new("userAccountControl", "512"),
            ]
        );
        var entry = (await ldap.ReadAsync(Dn("Zoë Quill"), ["objectGUID", "userAccountControl"]))!;
        Assert.Equal("512", entry.Text("userAccountControl"));
        var id = entry["objectGUID"]!.Values[0];
        Assert.Equal(16, id.Length);
        var found = await ldap.SearchAsync(
            new(DomainController.Base, LdapScope.Subtree, LdapFilter.Parse(LdapFilter.Equal("objectGUID", id).ToString()), "cn")
        );
        Assert.Equal("Zoë Quill", found.Single().Text("cn"));
        await using (var user = await LdapConnection.ConnectAsync(controller.Options))
        {
            await user.BindAsync("zoe.quill@northmere.example", "Harbour-Light-42");
            await ldap.ModifyAsync(Dn("Zoë Quill"), [new(LdapChangeKind.Replace, "userAccountControl", "514")]);
            Assert.Equal(
                LdapCode.InvalidCredentials,
                (
                    await Assert.ThrowsAsync<LdapResultException>(() => user.BindAsync("zoe.quill@northmere.example", "Harbour-Light-42"))
                ).Code
            );
        }

        // Groups, renaming, and pages of one entry.
        await ldap.AddAsync(
            Dn("Dive Team"),
            [new("objectClass", "group"), new("sAMAccountName", "dive-team"), new("member", Dn("Zoë Quill"))]
        );
        Assert.Equal(
            LdapCode.EntryAlreadyExists,
            (
                await Assert.ThrowsAsync<LdapResultException>(() =>
                    ldap.ModifyAsync(Dn("Dive Team"), [new(LdapChangeKind.Add, "member", Dn("Zoë Quill"))])
                )
            ).Code
        );
        await ldap.ModifyDnAsync(Dn("Zoë Quill"), LdapDn.Rdn("CN", "Zoë Penn"), deleteOldRdn: true);
        Assert.Equal([Dn("Zoë Penn")], (await ldap.ReadAsync(Dn("Dive Team"), ["member"]))!.Texts("member"));
        var paged = 0;
        await foreach (var _ in ldap.PageAsync(new(Users, LdapScope.One, LdapFilter.Equal("objectClass", "group"), "cn"), 1))
            paged++;
        Assert.True(paged > 5);

        // Changes since a cookie, with the deletion among them; and the deleted entry by its id.
        var cookie = (await ChangesAsync(ldap, [])).Cookie;
        await ldap.ModifyAsync(Dn("Zoë Penn"), [new(LdapChangeKind.Replace, "title", "Diver")]);
        var changed = await ChangesAsync(ldap, cookie);
        Assert.Contains(changed.Entries, e => e.Text("title") == "Diver");
        await ldap.DeleteAsync(Dn("Zoë Penn"));
        var deleted = await ChangesAsync(ldap, changed.Cookie);
        Assert.Contains(deleted.Entries, e => e.Text("isDeleted") == "TRUE" && e["objectGUID"]!.Values[0].AsSpan().SequenceEqual(id));
        Assert.Empty(await ldap.SearchAsync(new(DomainController.Base, LdapScope.Subtree, LdapFilter.Equal("objectGUID", id), "cn")));
        Assert.Single(
            await ldap.SearchAsync(
                new(DomainController.Base, LdapScope.Subtree, LdapFilter.Equal("objectGUID", id), "cn")
                {
                    Controls = [LdapControls.ShowDeleted],
                }
            )
        );
    }

    private static async Task<(List<LdapEntry> Entries, byte[] Cookie)> ChangesAsync(LdapConnection ldap, byte[] cookie)
    {
        var entries = new List<LdapEntry>();
        bool more;
        do
        {
            more = false;
            await foreach (
                var item in ldap.StreamAsync(
                    new(DomainController.Base, LdapScope.Subtree, LdapFilter.Present("objectClass"))
                    {
                        Controls = [LdapControls.DirSync(0, 1_000_000, cookie)],
                    }
                )
            )
            {
                if (item is LdapSearchItem.Found found)
                    entries.Add(found.Entry);
                if (item is not LdapSearchItem.Done done)
                    continue;
                Assert.Equal(LdapCode.Success, done.Result.Code);
                (more, cookie) = LdapControls.DirSyncState(done.Result.Control(LdapControls.DirSyncOid)!);
            }
        } while (more);
        return (entries, cookie);
    }
}
