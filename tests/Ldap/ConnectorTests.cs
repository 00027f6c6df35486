using Oikonom.Core.Fulfilment;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Standins.Directory;
using Oikonom.Targets.Ldap;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Ldap.Tests;

/// <summary>The connector ensures a state: whatever is there before, and however often it is asked.</summary>
public sealed class ConnectorTests(DirectoryFixture fixture)
{
    private readonly TestDirectory _directory = fixture.Directory;

    private static readonly TargetRule Rule = RulebookReader
        .Read([.. Repository.RulebookFiles().Select(f => new RulebookFile(f.Path, f.Text))])
        .Rulebook!.Targets["directory"];

    private LdapConnector Connector(string? password = null) =>
        new(
            Rule,
            _ =>
                Task.FromResult(
                    new LdapSignIn(_directory.Options, DirectoryOptions.ServiceName, password ?? _directory.Server.Options.ServicePassword)
                )
        );

    [Fact]
    public async Task The_directory_itself_tells_which_attributes_it_has()
    {
        await using var connector = Connector();
        var schema = (await connector.SchemaAsync(CancellationToken.None))!;
        Assert.Contains("employeeNumber", schema.Attributes);
        Assert.Contains("localityName", schema.Allowed);
        Assert.DoesNotContain("lokality", schema.Attributes);
        // It has attributes of groups, and no account can have them.
        Assert.Contains("member", schema.Attributes);
        Assert.DoesNotContain("member", schema.Allowed);
        Assert.Empty(schema.UnknownClasses);
    }

    [Fact]
    public async Task A_check_tells_what_we_may_do_and_leaves_no_trace()
    {
        await using var directory = await TestDirectory.StartAsync();
        await using var connector = new LdapConnector(
            Rule,
            _ => Task.FromResult(new LdapSignIn(directory.Options, DirectoryOptions.ServiceName, directory.Server.Options.ServicePassword))
        );
        var health = await connector.CheckAsync(true, CancellationToken.None);
        Assert.True(health.Reachable, health.Message);
        Assert.True(health.CertificateUntil > DateTimeOffset.UtcNow);
        var made = await connector.EnsureAccountAsync(Goal("ona.trace", "E7702"), CancellationToken.None);
        await connector.SetPasswordAsync(made.ImmutableId, "Lighthouse-At-Night-7", CancellationToken.None);
        health = await connector.CheckAsync(true, CancellationToken.None);
        Assert.Equal(
            ["May disable accounts", "May set passwords", "May change members"],
            health.Checkpoints.Where(c => c.What.StartsWith("May", StringComparison.Ordinal)).Select(c => c.What)
        );
        await using (var line = await LdapConnection.ConnectAsync(directory.Options, CancellationToken.None))
            await line.BindAsync(made.Location, "Lighthouse-At-Night-7", CancellationToken.None);
        // A policy that does not lock would let in who is disabled; one that may not be read is said to be so.
        var policy = $"cn=default,ou=policies,{DirectoryOptions.Suffix}";
        async Task<TargetCheckpoint> LocksAsync() =>
            (await connector.CheckAsync(false, CancellationToken.None)).Checkpoints.Single(c => c.What == "Locks");
        Assert.Equal(new("Locks", true, $"{policy} keeps out who is disabled."), await LocksAsync());
        await using (var root = await directory.ConnectAsRootAsync())
        {
            await root.ModifyAsync(policy, [new(LdapChangeKind.Replace, "pwdLockout", "FALSE")]);
            var open = await LocksAsync();
            Assert.False(open.Good);
            Assert.Contains("Set pwdLockout to TRUE", open.Text, StringComparison.Ordinal);
            await root.DeleteAsync(policy);
            Assert.Contains("no password policy may be read", (await LocksAsync()).Text, StringComparison.Ordinal);
        }
        var listed = new List<string>();
        await foreach (var account in connector.ListAsync(CancellationToken.None))
            listed.Add(account.Name);
        Assert.Equal(["ona.trace"], listed);
    }

    [Fact]
    public async Task Who_moves_to_another_container_keeps_id_and_memberships_and_missing_units_are_made()
    {
        var settings = (TargetSettings.Ldap)Rule.Settings;
        LdapConnector Of(bool makes) =>
            new(
                Rule with
                {
                    Settings = settings with { MakesContainers = makes },
                },
                _ =>
                    Task.FromResult(
                        new LdapSignIn(_directory.Options, DirectoryOptions.ServiceName, _directory.Server.Options.ServicePassword)
                    )
            );
        var (inner, outer) = (
            $"ou=Tank\\, east,ou=Reef,{DirectoryOptions.People}",
            $"ou=Pier {Guid.NewGuid():N},{DirectoryOptions.People}"
        );
        await using (var strict = Of(false))
            Assert.Contains(
                "create-containers",
                (
                    await Assert.ThrowsAsync<TargetFault>(() =>
                        strict.EnsureAccountAsync(Goal("ona.reef", "E7703") with { Container = outer }, CancellationToken.None)
                    )
                ).Message,
                StringComparison.Ordinal
            );
        await using var connector = Of(true);
        var goal = Goal("ona.reef", "E7703") with { Container = inner };
        var made = await connector.EnsureAccountAsync(goal, CancellationToken.None);
        Assert.Equal(LdapDn.Child("uid", "ona.reef", inner), made.Location);
        var grant = new GrantGoal(made.ImmutableId, Rule.Entitlements["research-lab"], true, new("", "", "", "", ""));
        await connector.EnsureGrantAsync(grant, CancellationToken.None);

        var none = new Dictionary<string, IReadOnlyList<string>>();
        var moved = await connector.EnsureAccountAsync(
            new(made.ImmutableId, [], "ona.reef", outer, none, null, false),
            CancellationToken.None
        );
        Assert.Equal((made.ImmutableId, LdapDn.Child("uid", "ona.reef", outer)), (moved.ImmutableId, moved.Location));
        var read = (await connector.ReadAsync(made.ImmutableId, CancellationToken.None))!;
        Assert.Equal(["research-lab"], read.Entitlements);
        Assert.False(
            (await connector.EnsureAccountAsync(new(made.ImmutableId, [], "ona.reef", outer, none, null, false), default)).Changed
        );
    }

    [Theory]
    [InlineData("ona.stone", "E7711", "ona.reed")]
    [InlineData("ona+rock", "E7712", "o,n=\"a\" #2;\\x")]
    public async Task Who_is_renamed_keeps_id_memberships_and_lock_and_a_name_that_is_taken_stops_it(
        string name,
        string number,
        string other
    )
    {
        await using var connector = Connector();
        await using var ldap = await _directory.ConnectAsync();
        var made = await connector.EnsureAccountAsync(Goal(name, number), default);
        var order = new WorkOrder("", "", "", "", "");
        await connector.EnsureGrantAsync(new(made.ImmutableId, Rule.Entitlements["research-lab"], true, order), default);
        await connector.EnsureAccountAsync(
            new(made.ImmutableId, [], name, "", new Dictionary<string, IReadOnlyList<string>>(), false, false),
            default
        );
        var goal = new AccountGoal(
            made.ImmutableId,
            [],
            other,
            "",
            new Dictionary<string, IReadOnlyList<string>> { ["uid"] = [other], ["mail"] = [$"{number}@northmere.example"] },
            null,
            false
        );
        var renamed = await connector.EnsureAccountAsync(goal, default);
        Assert.Equal(
            (made.ImmutableId, LdapDn.Child("uid", other, DirectoryOptions.People), true),
            (renamed.ImmutableId, renamed.Location, renamed.Changed)
        );
        Assert.Equal([other], (await ldap.ReadAsync(renamed.Location, ["uid"]))!.Texts("uid"));
        var read = (await connector.ReadAsync(made.ImmutableId, default))!;
        Assert.Equal((other, false, $"{number}@northmere.example"), (read.Name, read.Enabled, read.Attributes["mail"][0]));
        Assert.Equal(["research-lab"], read.Entitlements);
        Assert.Null(await ldap.ReadAsync(made.Location, ["1.1"]));
        Assert.False((await connector.EnsureAccountAsync(goal, default)).Changed);

        // Under its new name and into another container in one step, and never over somebody else.
        await connector.EnsureAccountAsync(Goal(name, number + "9"), default);
        var taken = goal with
        {
            Name = name,
            Attributes = new Dictionary<string, IReadOnlyList<string>> { ["uid"] = [name] },
        };
        var fault = await Assert.ThrowsAsync<TargetFault>(() => connector.EnsureAccountAsync(taken, default));
        Assert.Equal((true, false), (fault.NeedsReplan, fault.Transient));
        Assert.Equal(other, (await connector.ReadAsync(made.ImmutableId, default))!.Name);
    }

    [Fact]
    public async Task An_entry_that_was_taken_over_is_named_by_what_it_was_named_by()
    {
        await using var connector = Connector();
        await using var ldap = await _directory.ConnectAsync();
        var dn = $"cn=Ona of old,{DirectoryOptions.People}";
        await ldap.AddAsync(dn, [new("objectClass", "inetOrgPerson"), new("uid", "onaold"), new("sn", "Old"), new("cn", "Ona of old")]);
        var found = Assert.Single((await connector.FindAsync([("uid", "onaold")], default)).Found);
        var renamed = await connector.EnsureAccountAsync(
            new(
                found.ImmutableId,
                [],
                "ona.young",
                "",
                new Dictionary<string, IReadOnlyList<string>> { ["uid"] = ["ona.young"] },
                null,
                false
            ),
            default
        );
        Assert.Equal((dn, true), (renamed.Location, renamed.Changed));
        Assert.Equal(["ona.young"], (await ldap.ReadAsync(dn, ["uid"]))!.Texts("uid"));
    }

    [Fact]
    public async Task Groups_that_list_names_are_worked_with_like_any_other()
    {
        var group = $"cn=boats {Guid.NewGuid():N},{DirectoryOptions.Groups}";
        await using var ldap = await _directory.ConnectAsync();
        await ldap.AddAsync(
            group,
            [new("objectClass", "posixGroup"), new("cn", LdapDn.Parse(group)[0][0].Value), new("gidNumber", "7001")]
        );
        var boats = new Entitlement("boats", "Boats", new EntitlementMeans.Group(group), null, default);
        var rule = Rule with { Entitlements = new Dictionary<string, Entitlement>(Rule.Entitlements) { ["boats"] = boats } };
        await using var connector = new LdapConnector(
            rule,
            _ =>
                Task.FromResult(new LdapSignIn(_directory.Options, DirectoryOptions.ServiceName, _directory.Server.Options.ServicePassword))
        );
        async Task<IReadOnlyList<string>> NamesAsync() => (await ldap.ReadAsync(group, ["memberUid"]))!.Texts("memberUid");
        var (name, other) = (Fresh(), Fresh());
        var made = await connector.EnsureAccountAsync(Goal(name, Fresh()), default);
        var also = await connector.EnsureAccountAsync(Goal(other, Fresh()), default);
        foreach (var held in new[] { true, true, false, false, true })
            await HoldAsync(connector, made.ImmutableId, boats, held);
        await HoldAsync(connector, made.ImmutableId, Rule.Entitlements["research-lab"], true);
        Assert.Equal([name], await NamesAsync());
        Assert.Equal(["boats", "research-lab"], (await connector.ReadAsync(made.ImmutableId, default))!.Entitlements);
        Assert.Empty((await connector.ReadAsync(also.ImmutableId, default))!.Entitlements);
        var listed = new Dictionary<string, IReadOnlyList<string>>();
        await foreach (var account in connector.ListAsync(default))
            listed[account.Name] = account.Entitlements;
        Assert.Equal(["boats", "research-lab"], listed[name].Order());
        Assert.Empty(listed[other]);

        // Under another name it holds them still, and nobody holds them under the name of before.
        var renamed = Fresh();
        await connector.EnsureAccountAsync(
            new(made.ImmutableId, [], renamed, "", new Dictionary<string, IReadOnlyList<string>> { ["uid"] = [renamed] }, null, false),
            default
        );
        Assert.Equal([renamed], await NamesAsync());
        Assert.Equal(["boats", "research-lab"], (await connector.ReadAsync(made.ImmutableId, default))!.Entitlements);
        await ldap.DeleteAsync(group);
    }

    private static AccountState Managed(string name, string by) =>
        new(
            "directory",
            name,
            DirectoryOptions.People,
            new Dictionary<string, IReadOnlyList<string>> { ["manager"] = [by] },
            Presence.Awake,
            new("", "", "")
        );

    [Fact]
    public async Task A_manager_is_led_to_by_number_and_looked_for_until_there_is_one()
    {
        var rule = Rule with
        {
            Settings = (TargetSettings.Ldap)Rule.Settings with
            {
                References = new Dictionary<string, string> { ["manager"] = "employeeNumber" },
            },
        };
        await using var connector = new LdapConnector(
            rule,
            _ =>
                Task.FromResult(new LdapSignIn(_directory.Options, DirectoryOptions.ServiceName, _directory.Server.Options.ServicePassword))
        );
        await using var ldap = await _directory.ConnectAsync();
        async Task<IReadOnlyList<string>> StandsAsync(string dn) => (await ldap.ReadAsync(dn, ["manager"]))!.Texts("manager");
        var (name, boss, number) = (Fresh(), Fresh(), Fresh());
        var goal = Goal(name, Fresh(), more: ("manager", number));
        var made = await connector.EnsureAccountAsync(goal, default);
        // Nobody has that number yet: it is left out, and nothing is wrong with that.
        Assert.Empty(await StandsAsync(made.Location));
        Assert.True((await connector.VerifyAsync(made.ImmutableId, Managed(name, number), [], default)).Matches);

        var above = await connector.EnsureAccountAsync(Goal(boss, number), default);
        var missing = Assert.IsType<Difference.OtherValues>(
            Assert.Single((await connector.VerifyAsync(made.ImmutableId, Managed(name, number), [], default)).Differences)
        );
        Assert.Equal(("manager", 0, number), (missing.Attribute, missing.Found.Count, missing.Wanted[0]));
        Assert.True((await connector.EnsureAccountAsync(goal, default)).Changed);
        Assert.Equal([above.Location], await StandsAsync(made.Location));
        Assert.False((await connector.EnsureAccountAsync(goal, default)).Changed);
        Assert.Equal([number], (await connector.ReadAsync(made.ImmutableId, default))!.Attributes["manager"]);
        Assert.True((await connector.VerifyAsync(made.ImmutableId, Managed(name, number), [], default)).Matches);

        // Two with the number: nobody knows who is meant, and what stands there is told as it is.
        await ldap.ModifyAsync(made.Location, [new(LdapChangeKind.Replace, "manager", "cn=gone,dc=northmere,dc=example")]);
        var other = Assert.Single((await connector.VerifyAsync(made.ImmutableId, Managed(name, number), [], default)).Differences);
        Assert.Equal(["cn=gone,dc=northmere,dc=example"], ((Difference.OtherValues)other).Found);
        await ldap.AddAsync(TestDirectory.Dn("second-" + boss), TestDirectory.Person("second-" + boss, number));
        await connector.EnsureAccountAsync(
            goal with
            {
                ImmutableId = made.ImmutableId,
                Attributes = new Dictionary<string, IReadOnlyList<string>> { ["manager"] = [number] },
            },
            default
        );
        Assert.Empty(await StandsAsync(made.Location));
        // No manager at all.
        await connector.EnsureAccountAsync(
            new(made.ImmutableId, [], name, "", new Dictionary<string, IReadOnlyList<string>> { ["manager"] = [] }, null, false),
            default
        );
        Assert.Empty(await StandsAsync(made.Location));
    }

    [Fact]
    public async Task The_last_log_on_is_told_where_the_server_keeps_it()
    {
        await using var connector = Connector();
        var made = await connector.EnsureAccountAsync(Goal("ona.lamp", "E7701"), CancellationToken.None);
        Assert.Null((await connector.ReadAsync(made.ImmutableId, CancellationToken.None))!.LastLogOn);
        await connector.SetPasswordAsync(made.ImmutableId, "Lighthouse-At-Night-7", CancellationToken.None);
        await using (var line = await LdapConnection.ConnectAsync(_directory.Options, CancellationToken.None))
            await line.BindAsync(made.Location, "Lighthouse-At-Night-7", CancellationToken.None);
        var seen = (await connector.ReadAsync(made.ImmutableId, CancellationToken.None))!;
        Assert.InRange(seen.LastLogOn!.Value, DateTimeOffset.UtcNow.AddMinutes(-5), DateTimeOffset.UtcNow.AddMinutes(1));
        // It is the server's, and no attribute of the account.
        Assert.DoesNotContain("pwdLastSuccess", seen.Attributes.Keys);
    }

    private static AccountGoal Goal(
        string name,
        string number,
        bool enabled = true,
        bool mayCreate = true,
        string? id = null,
        params (string Name, string Value)[] more
    ) =>
        new(
            id,
            [("employeeNumber", number)],
            name,
            DirectoryOptions.People,
            new Dictionary<string, IReadOnlyList<string>>(more.ToDictionary(m => m.Name, m => (IReadOnlyList<string>)[m.Value]))
            {
                ["uid"] = [name],
                ["cn"] = [name],
                ["sn"] = ["S"],
                ["employeeNumber"] = [number],
            },
            enabled,
            mayCreate
        );

    private static readonly WorkOrder Order = new("", "", "", "", "");

    private static async Task HoldAsync(LdapConnector connector, string account, Entitlement entitlement, bool held) =>
        Assert.IsType<PortResult.Reached>(await connector.EnsureGrantAsync(new(account, entitlement, held, Order), default));

    private static string Fresh() => "c" + Guid.NewGuid().ToString("N")[..10];

    [Fact]
    public async Task Creating_twice_makes_one()
    {
        await using var connector = Connector();
        var (name, number) = (Fresh(), Fresh());
        var first = await connector.EnsureAccountAsync(Goal(name, number), default);
        var second = await connector.EnsureAccountAsync(Goal(name, number), default);
        Assert.True(first.Created);
        Assert.False(second.Created);
        Assert.False(second.Changed);
        Assert.Equal(first.ImmutableId, second.ImmutableId);
        Assert.Single((await connector.FindAsync([("employeeNumber", number)], default)).Found);
    }

    /// <summary>Content synchronisation (RFC 4533): a cookie, and from it on what was made, changed and deleted, and whose group.</summary>
    [Fact]
    public async Task What_changed_since_is_told_with_what_was_deleted_and_who_is_in_a_changed_group()
    {
        await using var connector = Connector();
        var made = new List<EnsuredAccount>();
        for (var i = 0; i < 4; i++)
            made.Add(await connector.EnsureAccountAsync(Goal(Fresh(), Fresh()), default));
        var start = await connector.ChangesAsync(null, default);
        Assert.Empty(start.Accounts);
        var none = await connector.ChangesAsync(start.Since, default);
        Assert.Equal((0, 0), (none.Accounts.Count, none.Holders.Count));
        await using var ldap = await _directory.ConnectAsync();
        await ldap.ModifyAsync(made[0].Location, [new(LdapChangeKind.Replace, "sn", "Changed")]);
        await ldap.DeleteAsync(made[1].Location);
        await HoldAsync(connector, made[2].ImmutableId, Rule.Entitlements["dive-team"], true);
        var changes = await connector.ChangesAsync(none.Since, default);
        Assert.False(changes.IsLost);
        Assert.Contains(made[0].ImmutableId, changes.Accounts);
        Assert.True(changes.Present?.Contains(made[1].ImmutableId) == false || changes.Accounts.Contains(made[1].ImmutableId));
        Assert.True(changes.Present is null || changes.Present.Contains(made[3].ImmutableId));
        Assert.DoesNotContain(made[3].ImmutableId, changes.Accounts);
        var group = changes.Holders.Single(h => h.Entitlement == "dive-team");
        Assert.True(group.Holds("", made[2].Location.ToUpperInvariant()));
        Assert.False(group.Holds("", made[3].Location));
        Assert.Empty((await connector.ChangesAsync(changes.Since, default)).Accounts);
        // A position that is none means that all is told, or that it has to be read whole, and not a fault for ever.
        foreach (var bent in new[] { "no position", "bm9uc2Vuc2U=" })
            Assert.True(
                await connector.ChangesAsync(bent, default) is var all && (all.IsLost || all.Accounts.Contains(made[3].ImmutableId))
            );
        await HoldAsync(connector, made[2].ImmutableId, Rule.Entitlements["dive-team"], false);
    }

    [Fact]
    public async Task A_name_that_another_entry_has_asks_for_a_new_plan()
    {
        await using var connector = Connector();
        var name = Fresh();
        await connector.EnsureAccountAsync(Goal(name, Fresh()), default);
        Assert.True((await Assert.ThrowsAsync<TargetFault>(() => connector.EnsureAccountAsync(Goal(name, Fresh()), default))).NeedsReplan);
        Assert.True(await connector.NameIsTakenAsync(name, default));
    }

    [Fact]
    public async Task An_entry_that_appeared_elsewhere_asks_for_a_new_plan()
    {
        await using var connector = Connector();
        var number = Fresh();
        await connector.EnsureAccountAsync(Goal(Fresh(), number), default);
        Assert.True(
            (await Assert.ThrowsAsync<TargetFault>(() => connector.EnsureAccountAsync(Goal(Fresh(), number), default))).NeedsReplan
        );
        await using var ldap = await _directory.ConnectAsync();
        var other = Fresh();
        await ldap.AddAsync(TestDirectory.Dn(other), TestDirectory.Person(other, number));
        Assert.Equal(2, (await connector.FindAsync([("employeeNumber", number)], default)).Found.Count);
        Assert.Contains(
            "2 entries",
            (await Assert.ThrowsAsync<TargetFault>(() => connector.EnsureAccountAsync(Goal(Fresh(), number), default))).Message,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task Identity_is_the_immutable_id_and_not_the_name()
    {
        await using var connector = Connector();
        await using var ldap = await _directory.ConnectAsync();
        var (name, number) = (Fresh(), Fresh());
        var made = await connector.EnsureAccountAsync(Goal(name, number), default);
        await ldap.ModifyDnAsync(TestDirectory.Dn(name), LdapDn.Rdn("uid", name + "-moved"), deleteOldRdn: false);
        var titled = new Dictionary<string, IReadOnlyList<string>> { ["title"] = ["Diver"] };
        var mended = await connector.EnsureAccountAsync(new(made.ImmutableId, [], name, "", titled, null, false), default);
        Assert.True(LdapDn.Same(TestDirectory.Dn(name + "-moved"), mended.Location));
        // What is to have its name back gets it.
        mended = await connector.EnsureAccountAsync(Goal(name, number, id: made.ImmutableId, mayCreate: false), default);
        Assert.Equal((made.ImmutableId, made.Location), (mended.ImmutableId, mended.Location));
        Assert.Equal([name], (await ldap.ReadAsync(mended.Location, ["uid"]))!.Texts("uid"));
        await ldap.DeleteAsync(mended.Location);
        await ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name, number));
        Assert.True(
            (
                await Assert.ThrowsAsync<TargetFault>(() =>
                    connector.EnsureAccountAsync(Goal(name, number, id: made.ImmutableId, mayCreate: false), default)
                )
            ).NeedsReplan
        );
    }

    [Fact]
    public async Task Asleep_means_nobody_signs_in_and_awake_means_they_do()
    {
        await using var connector = Connector();
        var (name, number) = (Fresh(), Fresh());
        var made = await connector.EnsureAccountAsync(Goal(name, number, enabled: false), default);
        await connector.SetPasswordAsync(made.ImmutableId, "known-to-the-test", default);
        await using var user = await LdapConnection.ConnectAsync(_directory.Options);
        await Assert.ThrowsAsync<LdapResultException>(() => user.BindAsync(TestDirectory.Dn(name), "known-to-the-test"));
        await connector.EnsureAccountAsync(Goal(name, number, enabled: true, id: made.ImmutableId), default);
        await user.BindAsync(TestDirectory.Dn(name), "known-to-the-test");
        // Handed over, the password must be changed before anything else is done.
        await Assert.ThrowsAsync<LdapResultException>(() => user.ReadAsync(TestDirectory.Dn(name), ["cn"]));
        await user.PasswordModifyAsync(null, "known-to-the-test", "chosen-by-the-user");
        Assert.NotNull(await user.ReadAsync(TestDirectory.Dn(name), ["cn"]));
        var again = await connector.EnsureAccountAsync(Goal(name, number, enabled: false, id: made.ImmutableId), default);
        Assert.True(again.Changed);
        await Assert.ThrowsAsync<LdapResultException>(() => user.BindAsync(TestDirectory.Dn(name), "chosen-by-the-user"));
    }

    [Fact]
    public async Task Memberships_are_gathered_and_may_be_asked_for_twice_and_the_last_one_may_go()
    {
        await using var connector = Connector();
        var group = Rule.Entitlements["dive-team"];
        var made = await Task.WhenAll(Enumerable.Range(0, 120).Select(_ => connector.EnsureAccountAsync(Goal(Fresh(), Fresh()), default)));
        await HoldAsync(connector, made[0].ImmutableId, group, true);
        await Task.WhenAll(made.Concat(made).Select(m => HoldAsync(connector, m.ImmutableId, group, true)));
        await using var ldap = await _directory.ConnectAsync();
        async Task<int> CountAsync() =>
            (await ldap.ReadAsync(((EntitlementMeans.Group)group.Means).Dn, ["member"]))!
                .Texts("member")
                .Count(m => m != DirectoryOptions.Nobody);
        Assert.Equal(120, await CountAsync());
        await Task.WhenAll(made.Concat(made).Select(m => HoldAsync(connector, m.ImmutableId, group, false)));
        Assert.Equal(0, await CountAsync());
    }

    [Fact]
    public async Task One_refused_membership_stops_nobody_else()
    {
        await using var connector = Connector();
        var good = await connector.EnsureAccountAsync(Goal(Fresh(), Fresh()), default);
        var missing = new Entitlement(
            "gone",
            "Gone",
            new EntitlementMeans.Group("cn=gone,ou=groups,dc=northmere,dc=example"),
            null,
            default
        );
        var fault = Assert.IsType<PortResult.Lasting>(
            await connector.EnsureGrantAsync(new(good.ImmutableId, missing, true, Order), default)
        );
        Assert.Contains("has no group", fault.Message, StringComparison.Ordinal);
        await HoldAsync(connector, good.ImmutableId, Rule.Entitlements["research-lab"], true);
    }

    [Fact]
    public async Task Reading_back_tells_every_difference()
    {
        await using var connector = Connector();
        var (name, number) = (Fresh(), Fresh());
        var made = await connector.EnsureAccountAsync(Goal(name, number, more: ("title", "Diver")), default);
        await HoldAsync(connector, made.ImmutableId, Rule.Entitlements["ticket-desk"], true);
        AccountState Wanted(string title, bool enabled) =>
            new(
                "directory",
                name,
                DirectoryOptions.People,
                new Dictionary<string, IReadOnlyList<string>> { ["title"] = [title], ["uid"] = [name] },
                enabled ? Presence.Awake : Presence.Disabled,
                new("", "", "")
            );
        Assert.True((await connector.VerifyAsync(made.ImmutableId, Wanted("Diver", true), ["ticket-desk"], default)).Matches);
        var back = await connector.VerifyAsync(made.ImmutableId, Wanted("Keeper", false), ["all-people"], default);
        Assert.Equal(
            ["title is 'Diver', not 'Keeper'", "the account is enabled", "not in all-people", "still in ticket-desk"],
            back.Differences.Select(d => d.Text)
        );
    }

    [Fact]
    public async Task A_wrong_password_is_told_in_plain_words_and_may_pass()
    {
        await using var connector = Connector("wrong");
        var fault = await Assert.ThrowsAsync<TargetFault>(() => connector.FindAsync([("uid", "x")], default));
        Assert.True(fault.Transient);
        Assert.Contains("does not accept the password", fault.Message, StringComparison.Ordinal);
        Assert.False((await connector.CheckAsync(false, default)).Reachable);
        await using var right = Connector();
        Assert.True((await right.CheckAsync(false, default)).Reachable);
    }

    [Fact]
    public async Task Hostile_match_keys_find_nobody()
    {
        await using var connector = Connector();
        Assert.Empty((await connector.FindAsync([("employeeNumber", "*"), ("uid", "x)(|(uid=*")], default)).Found);
    }
}
