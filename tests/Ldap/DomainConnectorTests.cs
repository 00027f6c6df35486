using Oikonom.Core.Fulfilment;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Targets.Ldap;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Ldap.Tests;

/// <summary>One domain controller for all tests of the dialect; null where none can be started.</summary>
public sealed class ControllerFixture : IAsyncLifetime
{
    public DomainController? Controller { get; private set; }
    public string? Missing { get; } = DomainController.Missing();

    public async ValueTask InitializeAsync()
    {
        if (Missing is null)
            Controller = await DomainController.StartAsync();
    }

    public async ValueTask DisposeAsync()
    {
        if (Controller is not null)
            await Controller.DisposeAsync();
    }
}

/// <summary>The connector on a real domain controller: the same goals, in its dialect.</summary>
[CollectionDefinition("domain controller")]
public sealed class ControllerCollection : ICollectionFixture<ControllerFixture>;

[Collection("domain controller")]
public sealed class DomainConnectorTests(ControllerFixture fixture)
{
    private const string People = "OU=People," + DomainController.Base;
    private const string Groups = "OU=Groups," + DomainController.Base;
    private static readonly CancellationToken None = CancellationToken.None;

    private static readonly string Text = $"""
        name: office
        title: Office domain
        kind: ldap
        dialect: domain-controller
        address: ldaps://127.0.0.1:636
        authority: office-authority
        sign-in:
          name: {DomainController.Administrator}
          secret: office-password
        container: {People}
        create-containers: yes
        groups: {Groups}
        match:
          - employeeID
        references:
          manager: employeeID
        entitlements:
          payments:
            title: Payments
            group: CN=Payments \, east (2)*,{Groups}
        """;

    private static readonly TargetRule Rule = Read(Text);

    private static TargetRule Read(string text)
    {
        var reading = RulebookReader.Read([
            .. Repository
                .RulebookFiles()
                .Where(f => !Repository.IsOfApplications(f.Path))
                .Select(f => new RulebookFile(f.Path, f.Text))
                .Append(new("targets/office.yaml", text)),
        ]);
        Assert.Empty(reading.Findings);
        return reading.Rulebook!.Targets["office"];
    }

    private DomainController Controller()
    {
        Assert.SkipWhen(fixture.Controller is null, fixture.Missing ?? "");
        return fixture.Controller!;
    }

    private LdapConnector Connector(TargetRule? rule = null) =>
        new(
            rule ?? Rule,
            _ => Task.FromResult(new LdapSignIn(Controller().Options, DomainController.Administrator, DomainController.Password))
        );

    private async Task<LdapConnection> PlacesAsync()
    {
        var ldap = await Controller().ConnectAsync();
        foreach (var place in new[] { People, Groups })
            try
            {
                await ldap.AddAsync(place, [new("objectClass", "organizationalUnit")]);
            }
            catch (LdapResultException error) when (error.Code == LdapCode.EntryAlreadyExists)
            {
                // An earlier test made it.
            }
        var group = ((EntitlementMeans.Group)Rule.Entitlements["payments"].Means).Dn;
        if (await ldap.ReadAsync(group, ["1.1"]) is null)
            await ldap.AddAsync(group, [new("objectClass", "group"), new("sAMAccountName", "payments")]);
        return ldap;
    }

    private static AccountGoal Goal(string name, string number, string container = People, bool enabled = true) =>
        new(
            null,
            [("employeeID", number)],
            name,
            container,
            new Dictionary<string, IReadOnlyList<string>>
            {
                ["sAMAccountName"] = [name],
                ["userPrincipalName"] = [$"{name}@northmere.example"],
                ["givenName"] = ["Zoë"],
                ["sn"] = ["Quill"],
                ["displayName"] = ["Zoë Quill"],
                ["employeeID"] = [number],
                ["accountExpires"] = ["2031-05-31"],
            },
            enabled,
            MayCreate: true
        );

    private static readonly Dictionary<string, IReadOnlyList<string>> Nothing = [];

    [Fact]
    public async Task Whoever_manages_is_led_to_and_followed_under_another_name_and_elsewhere()
    {
        await using var ldap = await PlacesAsync();
        await using var connector = Connector();
        var boss = await connector.EnsureAccountAsync(Goal("zoe.boss", "E8821"), None);
        var goal = Goal("zoe.crew", "E8822");
        goal = goal with { Attributes = new Dictionary<string, IReadOnlyList<string>>(goal.Attributes) { ["manager"] = ["E8821"] } };
        var crew = await connector.EnsureAccountAsync(goal, None);
        Assert.Equal(boss.Location, (await ldap.ReadAsync(crew.Location, ["manager"]))!.Text("manager"));
        // The other end of it, which the server keeps, is nothing that anybody changed, also where it was recorded once.
        Assert.Contains(crew.Location, (await ldap.ReadAsync(boss.Location, ["directReports"]))!.Texts("directReports"));
        var led = (await connector.ReadAsync(boss.ImmutableId, None))!;
        Assert.DoesNotContain(led.Attributes.Keys, k => k.Equals("directReports", StringComparison.OrdinalIgnoreCase));
        var recorded = new Dictionary<string, IReadOnlyList<string>>(led.Attributes) { ["directReports"] = ["CN=somebody.else"] };
        Assert.Empty(
            (
                await connector.VerifyAsync(
                    boss.ImmutableId,
                    new(Rule.Name, led.Name, led.Container, recorded, Presence.Awake, new("", "", "")),
                    [],
                    None
                )
            ).Differences
        );
        // The server itself keeps it right; what was remembered of the old name is forgotten soon, and never written.
        var moved = await connector.EnsureAccountAsync(
            new(
                boss.ImmutableId,
                [],
                "zoe.chief",
                $"OU=Bridge,{People}",
                new Dictionary<string, IReadOnlyList<string>> { ["sAMAccountName"] = ["zoe.chief"] },
                null,
                false
            ),
            None
        );
        Assert.Equal($"CN=zoe.chief,OU=Bridge,{People}", moved.Location);
        Assert.Equal(moved.Location, (await ldap.ReadAsync(crew.Location, ["manager"]))!.Text("manager"));
        Assert.Equal(["E8821"], (await connector.ReadAsync(crew.ImmutableId, None))!.Attributes["manager"]);
        Assert.False((await connector.EnsureAccountAsync(goal, None)).Changed);
    }

    [Fact]
    public async Task Who_is_renamed_has_the_new_name_everywhere_and_what_they_hold_with_it()
    {
        await using var ldap = await PlacesAsync();
        await using var connector = Connector();
        var made = await connector.EnsureAccountAsync(Goal("zoe.tern", "E8811"), None);
        var payments = Rule.Entitlements["payments"];
        await connector.EnsureGrantAsync(new(made.ImmutableId, payments, true, new("", "", "", "", "")), None);
        var goal = new AccountGoal(
            made.ImmutableId,
            [],
            "zoe.gull",
            "",
            new Dictionary<string, IReadOnlyList<string>>
            {
                ["sAMAccountName"] = ["zoe.gull"],
                ["userPrincipalName"] = ["zoe.gull@northmere.example"],
                ["sn"] = ["Gull"],
            },
            null,
            false
        );
        var renamed = await connector.EnsureAccountAsync(goal, None);
        Assert.Equal((made.ImmutableId, $"CN=zoe.gull,{People}", true), (renamed.ImmutableId, renamed.Location, renamed.Changed));
        var entry = (await ldap.ReadAsync(renamed.Location, ["sAMAccountName", "userPrincipalName", "cn"]))!;
        Assert.Equal(
            ("zoe.gull", "zoe.gull@northmere.example", "zoe.gull"),
            (entry.Text("sAMAccountName"), entry.Text("userPrincipalName"), entry.Text("cn"))
        );
        Assert.Equal(["payments"], (await connector.ReadAsync(made.ImmutableId, None))!.Entitlements);
        Assert.False((await connector.EnsureAccountAsync(goal, None)).Changed);
        // What people named otherwise keeps that name, and the account has its own.
        await ldap.ModifyDnAsync(renamed.Location, "CN=Zoë Gull", deleteOldRdn: true);
        var back = await connector.EnsureAccountAsync(
            goal with
            {
                Name = "zoe.tern",
                Attributes = new Dictionary<string, IReadOnlyList<string>> { ["sAMAccountName"] = ["zoe.tern"] },
            },
            None
        );
        Assert.Equal($"CN=Zoë Gull,{People}", back.Location);
        Assert.Equal("zoe.tern", (await connector.ReadAsync(made.ImmutableId, None))!.Name);
    }

    [Fact]
    public async Task An_account_is_made_once_mended_moved_put_to_sleep_and_woken()
    {
        await using var ldap = await PlacesAsync();
        await using var connector = Connector();
        var (inner, outer) = ($"OU=Tank\\, east,{People}", $"OU=Pier,{People}");
        var goal = Goal("zoe.quill", "E8801", inner);
        var made = await connector.EnsureAccountAsync(goal, None);
        Assert.True(made.Created);
        Assert.Equal($"CN=zoe.quill,{inner}", made.Location);
        Assert.True(Guid.TryParse(made.ImmutableId, out _));
        var again = await connector.EnsureAccountAsync(goal, None);
        Assert.Equal((made.ImmutableId, false, false), (again.ImmutableId, again.Created, again.Changed));
        var read = (await connector.ReadAsync(made.ImmutableId, None))!;
        Assert.Equal(("zoe.quill", true, inner), (read.Name, read.Enabled, read.Container));
        Assert.Equal(["2031-05-31"], read.Attributes["accountExpires"]);
        Assert.DoesNotContain("objectSid", read.Attributes.Keys);
        Assert.True(await connector.NameIsTakenAsync("ZOE.QUILL", None));
        Assert.False(await connector.NameIsTakenAsync("zoe.quil*", None));
        Assert.Equal(made.ImmutableId, Assert.Single((await connector.FindAsync([("employeeID", "E8801")], None)).Found).ImmutableId);

        // A member, however its group is called, and what is asked for twice.
        var payments = Rule.Entitlements["payments"];
        foreach (var held in new[] { true, true, false, false, true })
            Assert.IsType<PortResult.Reached>(
                await connector.EnsureGrantAsync(new(made.ImmutableId, payments, held, new("", "", "", "", "")), None)
            );

        // Moved with its memberships, written to under its own id.
        var moved = await connector.EnsureAccountAsync(new(made.ImmutableId, [], "zoe.quill", outer, Nothing, null, false), None);
        Assert.Equal((made.ImmutableId, $"CN=zoe.quill,{outer}", true), (moved.ImmutableId, moved.Location, moved.Changed));
        var state = new AccountState(
            new("office"),
            "zoe.quill",
            outer,
            new Dictionary<string, IReadOnlyList<string>> { ["accountExpires"] = ["2031-05-31"], ["sn"] = ["Quill"] },
            Presence.Awake,
            new("", "", "")
        );
        Assert.Empty((await connector.VerifyAsync(made.ImmutableId, state, ["payments"], None)).Differences);
        Assert.NotEmpty((await connector.VerifyAsync(made.ImmutableId, state, [], None)).Differences);

        // Who sleeps keeps the password that is set meanwhile, and cannot use it before waking.
        await connector.EnsureAccountAsync(new(made.ImmutableId, [], "zoe.quill", outer, Nothing, false, false), None);
        await connector.SetPasswordAsync(made.ImmutableId, "Lighthouse-At-Night-7", None);
        Assert.False((await connector.ReadAsync(made.ImmutableId, None))!.Enabled);
        await RefusedAsync("zoe.quill", "Lighthouse-At-Night-7");
        await connector.EnsureAccountAsync(new(made.ImmutableId, [], "zoe.quill", outer, Nothing, true, false), None);
        // The first password is changed at the first use: the server refuses it till then.
        await RefusedAsync("zoe.quill", "Lighthouse-At-Night-7");
        Assert.Equal("0", (await ldap.ReadAsync(moved.Location, ["pwdLastSet"]))!.Text("pwdLastSet"));
        await ldap.ModifyAsync(moved.Location, [new(LdapChangeKind.Replace, "pwdLastSet", "-1")]);
        await using (var user = await LdapConnection.ConnectAsync(Controller().Options))
            await user.BindAsync("zoe.quill@northmere.example", "Lighthouse-At-Night-7");

        // No end any more, and gone by other hands.
        await connector.EnsureAccountAsync(
            new(
                made.ImmutableId,
                [],
                "zoe.quill",
                outer,
                new Dictionary<string, IReadOnlyList<string>> { ["accountExpires"] = [] },
                null,
                false
            ),
            None
        );
        Assert.Equal("0", (await ldap.ReadAsync(moved.Location, ["accountExpires"]))!.Text("accountExpires"));
        await ldap.DeleteAsync(moved.Location);
        Assert.Null(await connector.ReadAsync(made.ImmutableId, None));
        var lost = await Assert.ThrowsAsync<TargetFault>(() =>
            connector.EnsureAccountAsync(new(made.ImmutableId, [], "zoe.quill", outer, Nothing, true, false), None)
        );
        Assert.Equal(made.ImmutableId, lost.Gone);
    }

    private async Task RefusedAsync(string name, string password)
    {
        await using var user = await LdapConnection.ConnectAsync(Controller().Options);
        Assert.Equal(
            LdapCode.InvalidCredentials,
            (await Assert.ThrowsAsync<LdapResultException>(() => user.BindAsync($"{name}@northmere.example", password))).Code
        );
    }

    [Fact]
    public async Task Who_is_made_asleep_sleeps_and_a_name_of_elsewhere_in_the_domain_is_taken()
    {
        await using var ldap = await PlacesAsync();
        await using var connector = Connector();
        var made = await connector.EnsureAccountAsync(Goal("ivo.deep", "E8802", enabled: false), None);
        Assert.Equal("514", (await ldap.ReadAsync(made.Location, ["userAccountControl"]))!.Text("userAccountControl"));
        // The same name in another unit: the plan is to be made anew, with another name.
        var clash = await Assert.ThrowsAsync<TargetFault>(() =>
            connector.EnsureAccountAsync(Goal("ivo.deep", "E8803", $"OU=Pier 9,{People}"), None)
        );
        Assert.True(clash.NeedsReplan, clash.Message);
        Assert.True(await connector.NameIsTakenAsync("Administrator", None));
        var listed = new List<string>();
        await foreach (var account in connector.ListAsync(None))
            listed.Add(account.Name);
        Assert.Contains("ivo.deep", listed);
    }

    [Fact]
    public async Task Groups_are_made_of_their_kind_and_another_kind_is_told()
    {
        await using var ldap = await PlacesAsync();
        var made = Read(
            $$"""
            {{Text}}
              sea: { title: Sea list, owner: E1002, create: yes, scope: universal, group-type: distribution, group: 'CN=Sea \"list\" \, (1)*,{{Groups}}' }
              pier: { title: Pier, owner: E1002, create: yes, scope: domain-local, group: 'CN=Pier,{{Groups}}' }
            """
        );
        await using var connector = Connector(made);
        var account = await connector.EnsureAccountAsync(Goal("ola.pier", "E8899"), None);
        foreach (var name in new[] { "sea", "pier" })
            Assert.IsType<PortResult.Reached>(
                await connector.EnsureGrantAsync(new(account.ImmutableId, made.Entitlements[name], true, new("", "", "", "", "")), None)
            );
        foreach (var (name, type) in new[] { ("sea", 8), ("pier", unchecked((int)0x80000004)) })
        {
            var group = ((EntitlementMeans.Group)made.Entitlements[name].Means).Dn;
            var entry = await ldap.ReadAsync(group, ["groupType", "member"]);
            Assert.Equal(type.ToString(System.Globalization.CultureInfo.InvariantCulture), entry!.Text("groupType"));
            Assert.Equal([account.Location], entry.Texts("member"));
        }
        Assert.True((await connector.CheckAsync(true, None)).Reachable);

        var otherwise = Read(
            $$"""
            {{Text}}
              pier: { title: Pier, owner: E1002, scope: global, group: 'CN=Pier,{{Groups}}' }
            """
        );
        await using var other = Connector(otherwise);
        Assert.Contains(
            (await other.CheckAsync(true, None)).Checkpoints,
            c =>
                c is { Good: false, What: "Groups" }
                && c.Text.Contains("is a domain-local security group; the rulebook says a global security group", StringComparison.Ordinal)
                && c.Text.Contains("targets/office.yaml", StringComparison.Ordinal)
        );
    }

    [Fact]
    public async Task A_check_tells_a_wrong_dialect_and_a_wrong_place_by_file_and_line_and_changes_nothing()
    {
        await using var ldap = await PlacesAsync();
        await using (var right = Connector())
        {
            var health = await right.CheckAsync(true, None);
            Assert.Contains(new("Deleted accounts", true, "are seen, and brought back as themselves."), health.Checkpoints);
            Assert.True(health.Reachable, health.Message);
            var schema = (await right.SchemaAsync(None))!;
            Assert.Contains("sAMAccountName", schema.Attributes);
            Assert.Empty(schema.UnknownClasses);
        }
        var policy = Text.Replace("dialect: domain-controller", "classes:\n  - user", StringComparison.Ordinal)
            .Replace($"container: {People}", $"container: OU=Nowhere,{DomainController.Base}", StringComparison.Ordinal);
        await using var wrong = Connector(Read(policy));
        var told = await wrong.CheckAsync(true, None);
        Assert.False(told.Reachable);
        Assert.Contains(
            told.Checkpoints,
            c => c is { Good: false, What: "Dialect" } && c.Text.Contains("say 'dialect: domain-controller'", StringComparison.Ordinal)
        );
        Assert.Contains(
            told.Checkpoints,
            c =>
                !c.Good
                && c.Text.Contains("OU=Nowhere", StringComparison.Ordinal)
                && c.Text.Contains("targets/office.yaml", StringComparison.Ordinal)
        );
    }

    /// <summary>DirSync: a cookie, and from it on what was made, changed and deleted, and whose group.</summary>
    [Fact]
    public async Task What_changed_since_is_told_with_what_was_deleted_and_who_is_in_a_changed_group()
    {
        await using var ldap = await PlacesAsync();
        await using var connector = Connector();
        var made = new List<EnsuredAccount>();
        for (var i = 0; i < 4; i++)
            made.Add(await connector.EnsureAccountAsync(Goal($"zoe.change{i}", $"E888{i}"), None));
        var start = await connector.ChangesAsync(null, None);
        Assert.Empty(start.Accounts);
        await ldap.ModifyAsync(made[0].Location, [new(LdapChangeKind.Replace, "sn", "Changed")]);
        await ldap.DeleteAsync(made[1].Location);
        await connector.EnsureGrantAsync(new(made[2].ImmutableId, Rule.Entitlements["payments"], true, new("", "", "", "", "")), None);
        var changes = await connector.ChangesAsync(start.Since, None);
        Assert.Null(changes.Present);
        Assert.Contains(made[0].ImmutableId, changes.Accounts);
        Assert.Contains(made[1].ImmutableId, changes.Accounts);
        Assert.DoesNotContain(made[3].ImmutableId, changes.Accounts);
        var group = changes.Holders.Single(h => h.Entitlement == "payments");
        Assert.True(group.Holds("", made[2].Location.ToUpperInvariant()));
        Assert.False(group.Holds("", made[3].Location));
        Assert.Empty((await connector.ChangesAsync(changes.Since, None)).Accounts);
        // A position that is none means reading whole, and not a fault for ever.
        foreach (var bent in new[] { "no position", "bm9uc2Vuc2U=" })
            Assert.True((await connector.ChangesAsync(bent, None)).IsLost, bent);
    }

    /// <summary>Servers give a long list in parts.</summary>
    [Theory]
    [InlineData("member", "")]
    [InlineData("member;range=0-*", "")]
    [InlineData("member;range=0-1499", "member;range=1500-*")]
    [InlineData("Member;Range=1500-2999", "Member;range=3000-*")]
    public void A_list_in_parts_is_asked_for_to_its_end(string given, string next) => Assert.Equal(next, LdapDialect.Rest(given));

    [Fact]
    public async Task Who_is_guarded_is_deleted_by_nobody_by_mistake_and_is_moved_all_the_same()
    {
        await using var ldap = await PlacesAsync();
        await using var connector = Connector(Read(Text + "\nguards: yes\n"));
        // Who may delete whatever stands in a place is told to be in the way of it.
        Assert.Contains((await connector.CheckAsync(true, None)).Checkpoints, c => c is { What: "Guard", Good: false });
        await DeletionGuard.SetAsync(ldap, People, DeletionGuard.OfPlace, true, None);
        Assert.Contains((await connector.CheckAsync(true, None)).Checkpoints, c => c is { What: "Guard", Good: true });
        var made = await connector.EnsureAccountAsync(Goal("zoe.guarded", "E8891"), None);
        await RefusesAsync(made.Location);
        var goal = Goal("zoe.guarded", "E8891", $"OU=Guarded,{People}") with { ImmutableId = made.ImmutableId };
        var moved = await connector.EnsureAccountAsync(goal, None);
        Assert.Equal($"CN=zoe.guarded,OU=Guarded,{People}", moved.Location);
        await RefusesAsync(moved.Location);
        Assert.False((await connector.EnsureAccountAsync(goal, None)).Changed);
        // Whoever means it takes the guard away first; the next thing that is done to the account brings it back.
        Assert.True(await DeletionGuard.SetAsync(ldap, moved.Location, DeletionGuard.OfEntry, false, None));
        Assert.True((await connector.EnsureAccountAsync(goal, None)).Changed);
        await RefusesAsync(moved.Location);
        await DeletionGuard.SetAsync(ldap, People, DeletionGuard.OfPlace, false, None);

        async Task RefusesAsync(string dn) =>
            Assert.Equal(
                LdapCode.InsufficientAccessRights,
                (await Assert.ThrowsAsync<LdapResultException>(() => ldap.DeleteAsync(dn))).Code
            );
    }

    [Fact]
    public void What_is_no_access_list_is_no_guard_and_breaks_nothing()
    {
        // One rule (allowed, S-1-5-18) in a list behind its header.
        byte[] plain = [1, 0, 4, 128, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 20, 0, 0, 0, 4, 0, 28, 0, 1, 0, 0, 0];
        plain = [.. plain, 0, 0, 20, 0, 255, 1, 15, 0, 1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0];
        Assert.False(DeletionGuard.Has(plain, DeletionGuard.OfEntry));
        var guarded = DeletionGuard.With(plain, DeletionGuard.OfEntry);
        Assert.True(DeletionGuard.Has(guarded, DeletionGuard.OfEntry));
        Assert.Equal(guarded, DeletionGuard.With(guarded, DeletionGuard.OfEntry));
        Assert.Equal(plain, DeletionGuard.Without(guarded, DeletionGuard.OfEntry));
        for (var length = 0; length < guarded.Length; length++)
            Assert.Throws<FormatException>(() => DeletionGuard.Has(guarded[..length], DeletionGuard.OfEntry));
        for (var at = 0; at < guarded.Length; at++)
        for (var bits = 0; bits < 256; bits += 17)
            try
            {
                byte[] bent = [.. guarded];
                bent[at] = (byte)bits;
                DeletionGuard.Without(bent, DeletionGuard.OfEntry);
            }
            catch (FormatException)
            {
                // Told, and nothing else.
            }
    }

    [Fact]
    public async Task A_primary_group_is_had_as_one_read_back_as_one_and_given_back()
    {
        await using var ldap = await PlacesAsync();
        var rule = Read($"{Text}\n  crew: {{ title: Crew, primary: yes, create: yes, owner: E1002, group: \"CN=Crew,{Groups}\" }}\n");
        await using var connector = Connector(rule);
        var crew = rule.Entitlements["crew"];
        var (one, two) = (
            await connector.EnsureAccountAsync(Goal("zoe.primary", "E8895"), None),
            await connector.EnsureAccountAsync(Goal("zoe.listed", "E8896"), None)
        );
        async Task HoldAsync(EnsuredAccount account, bool held)
        {
            var given = await connector.EnsureGrantAsync(new(account.ImmutableId, crew, held, new("", "", "", "", "")), None);
            Assert.True(given is PortResult.Reached, given.ToString());
        }
        async Task<string?> PrimaryAsync(EnsuredAccount account) =>
            (await ldap.ReadAsync(account.Location, ["primaryGroupID"]))!.Text("primaryGroupID");

        Assert.Equal("513", await PrimaryAsync(one));
        await HoldAsync(one, true);
        await HoldAsync(one, true);
        Assert.NotEqual("513", await PrimaryAsync(one));
        Assert.Equal(["crew"], (await connector.ReadAsync(one.ImmutableId, None))!.Entitlements);
        // Somebody who is only listed in it has it not as the primary one.
        await ldap.ModifyAsync($"CN=Crew,{Groups}", [new(LdapChangeKind.Add, "member", two.Location)]);
        Assert.Empty((await connector.ReadAsync(two.ImmutableId, None))!.Entitlements);
        var held = new Dictionary<string, IReadOnlyList<string>>();
        await foreach (var account in connector.ListAsync(None))
            held[account.Name] = account.Entitlements;
        Assert.Equal(["crew"], held["zoe.primary"]);
        Assert.Empty(held["zoe.listed"]);
        await HoldAsync(two, true);
        Assert.Equal(await PrimaryAsync(one), await PrimaryAsync(two));
        await HoldAsync(one, false);
        await HoldAsync(one, false);
        Assert.Equal("513", await PrimaryAsync(one));
        Assert.DoesNotContain(
            one.Location,
            (await ldap.ReadAsync($"CN=Crew,{Groups}", ["member"]))!.Texts("member"),
            StringComparer.OrdinalIgnoreCase
        );
    }

    /// <summary>What somebody deleted comes back as itself: whatever knows it by its id knows it again.</summary>
    [Fact]
    public async Task What_was_deleted_is_brought_back_as_itself_and_made_whole()
    {
        await using var ldap = await PlacesAsync();
        await using var connector = Connector();
        var payments = Rule.Entitlements["payments"];
        var made = await connector.EnsureAccountAsync(Goal("zoe.back", "E8871", $"OU=Deck,{People}"), None);
        await connector.EnsureGrantAsync(new(made.ImmutableId, payments, true, new("", "", "", "", "")), None);
        var sid = (await ldap.ReadAsync(made.Location, ["objectSid"]))!["objectSid"]!.Values[0];
        Assert.False(await connector.IsDeletedAsync(made.ImmutableId, None));
        await ldap.DeleteAsync(made.Location);
        await ldap.DeleteAsync($"OU=Deck,{People}");
        Assert.True(await connector.IsDeletedAsync(made.ImmutableId, None));
        Assert.False(await connector.IsDeletedAsync(Guid.NewGuid().ToString(), None));
        // Whose plan says nothing of it is told that it is gone, as before.
        var goal = Goal("zoe.back", "E8871", $"OU=Deck,{People}") with
        {
            ImmutableId = made.ImmutableId,
        };
        Assert.Equal(made.ImmutableId, (await Assert.ThrowsAsync<TargetFault>(() => connector.EnsureAccountAsync(goal, None))).Gone);
        var back = await connector.EnsureAccountAsync(goal with { Restores = true }, None);
        Assert.Equal((made.ImmutableId, made.Location, true, false), (back.ImmutableId, back.Location, back.Changed, back.Created));
        Assert.Equal(sid, (await ldap.ReadAsync(back.Location, ["objectSid"]))!["objectSid"]!.Values[0]);
        await connector.EnsureGrantAsync(new(back.ImmutableId, payments, true, new("", "", "", "", "")), None);
        var wanted = new AccountState(Rule.Name, "zoe.back", goal.Container, goal.Attributes, Presence.Awake, new("", "", ""));
        Assert.Empty((await connector.VerifyAsync(back.ImmutableId, wanted, ["payments"], None)).Differences);
        // Once more, and begun once: nothing else comes of it.
        var again = await connector.EnsureAccountAsync(goal with { Restores = true }, None);
        Assert.Equal((made.ImmutableId, made.Location), (again.ImmutableId, again.Location));
        Assert.Single(await ldap.SearchAsync(new(People, LdapScope.Subtree, LdapFilter.Equal("employeeID", "E8871"), "1.1")));
    }

    [Fact]
    public async Task What_is_not_kept_any_more_or_was_made_again_is_not_brought_back()
    {
        await using var ldap = await PlacesAsync();
        await using var connector = Connector();
        var never = Goal("zoe.never", "E8872") with { ImmutableId = Guid.NewGuid().ToString(), Restores = true };
        Assert.Equal(never.ImmutableId, (await Assert.ThrowsAsync<TargetFault>(() => connector.EnsureAccountAsync(never, None))).Gone);
        var made = await connector.EnsureAccountAsync(Goal("zoe.twice", "E8873"), None);
        await ldap.DeleteAsync(made.Location);
        // An administrator made it again by hand, under the same name or another.
        var byHand = await connector.EnsureAccountAsync(Goal("zoe.twice", "E8873"), None);
        var goal = Goal("zoe.twice", "E8873") with { ImmutableId = made.ImmutableId, Restores = true };
        Assert.True((await Assert.ThrowsAsync<TargetFault>(() => connector.EnsureAccountAsync(goal, None))).NeedsReplan);
        await ldap.DeleteAsync(byHand.Location);
        await connector.EnsureAccountAsync(Goal("zoe.other", "E8873"), None);
        Assert.True((await Assert.ThrowsAsync<TargetFault>(() => connector.EnsureAccountAsync(goal, None))).NeedsReplan);
        // Somebody else has the name.
        await ldap.DeleteAsync($"CN=zoe.other,{People}");
        await connector.EnsureAccountAsync(Goal("zoe.twice", "E8874"), None);
        Assert.True((await Assert.ThrowsAsync<TargetFault>(() => connector.EnsureAccountAsync(goal, None))).NeedsReplan);
        Assert.Single(await ldap.SearchAsync(new(People, LdapScope.Subtree, LdapFilter.Equal("sAMAccountName", "zoe.twice"), "1.1")));
    }
}
