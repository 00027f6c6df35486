using System.Net.Http.Json;
using Microsoft.Data.Sqlite;
using Oikonom.Contracts;
using Oikonom.Ldap;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>Accounts beside the ordinary one, accounts of nobody, and requests that are about one.</summary>
public sealed class AccountTests(Servers servers)
{
    private const string Lock = "pwdAccountLockedTime";

    /// <summary>Divers have a second account with access to the laboratory.</summary>
    private static string Second(string path, string text) =>
        path == "templates/dive-team.yaml"
            ? """
                name: dive-team
                title: Dive team
                when: department == "Dive Team"
                accounts:
                  directory:administrator:
                    name: '"adm-" + number'
                    attributes: { cn: '"Keeper " + family', sn: family, description: '"beside " + names.directory' }
                grants:
                  - to: directory/dive-team
                  - to: directory:administrator/research-lab
                """
            : text;

    private static Task<PersonDetail> PersonAsync(World world, HrRow row) =>
        world.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}", "edda");

    private static async Task<bool> IsMemberAsync(LdapConnection ldap, string group, string dn) =>
        (await ldap.ReadAsync($"cn={group},ou=groups,dc=northmere,dc=example", ["member"]))!
            .Texts("member")
            .Select(LdapDn.Normalise)
            .Contains(LdapDn.Normalise(dn));

    [Fact]
    public async Task A_second_account_is_made_held_ended_and_woken_beside_the_ordinary_one()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await TrustApprovalTests.PublishAsync(world, Second);
        await using var ldap = await servers.Directory.ConnectAsync();
        var row = HrRow.New();
        var joined = await world.BringAsync(row);
        Assert.All(joined.Steps, s => Assert.Equal("done", s.State));
        Assert.Equal(2, joined.Plan.Count(c => c.Kind == "create-account"));
        Assert.Contains(
            joined.Plan,
            c => c.Text == $"Create the account adm-{row.Number.ToLowerInvariant()} in Northmere directory (administrator)"
        );
        var person = await PersonAsync(world, row);
        var (own, second) = (person.Accounts.Single(a => a.Slot.Length == 0), person.Accounts.Single(a => a.Slot == "administrator"));
        Assert.NotEqual(own.ImmutableId, second.ImmutableId);
        Assert.Equal(
            [("", "all-people"), ("", "dive-team"), ("", "site-harbour"), ("administrator", "research-lab")],
            person.Grants.Select(g => (g.Slot, g.Entitlement)).Order()
        );
        // Each holds its own, in the directory itself.
        Assert.Equal(
            (true, false, false, true),
            (
                await IsMemberAsync(ldap, "dive-team", own.Location),
                await IsMemberAsync(ldap, "research-lab", own.Location),
                await IsMemberAsync(ldap, "dive-team", second.Location),
                await IsMemberAsync(ldap, "research-lab", second.Location)
            )
        );
        var entry = (await ldap.ReadAsync(second.Location, ["description", "employeeNumber", Lock]))!;
        Assert.Equal(($"beside {own.Name}", null, null), (entry.Text("description"), entry.Text("employeeNumber"), entry.Text(Lock)));
        // A one-time link for each.
        Assert.Equal(2, joined.Plan.Count(c => c.Kind == "set-password"));
        var why = await world.GetAsync<PersonExplanation>(
            $"/api/v1/people/{row.Number}/explain?of=directory:administrator/research-lab",
            "edda"
        );
        Assert.Equal((true, true), (why.Explanations.Single().Wanted, why.Explanations.Single().Held));

        // Who moves away loses the second account alone.
        world.WriteHr(row with { Department = "Education" });
        var moves = (await world.RunIntakeAsync()).Requests.Single(r => r.Number == row.Number);
        var moved = await world.ThroughAsync(moves.Id);
        Assert.All(moved.Steps.Where(s => !s.Later), s => Assert.Equal("done", s.State));
        var after = await PersonAsync(world, row);
        Assert.Equal([("", true), ("administrator", false)], after.Accounts.Select(a => (a.Slot, a.Enabled)).Order());
        Assert.False(await IsMemberAsync(ldap, "research-lab", second.Location));
        Assert.NotNull((await ldap.ReadAsync(second.Location, [Lock]))!.Text(Lock));
        Assert.Null((await ldap.ReadAsync(own.Location, [Lock]))!.Text(Lock));

        // And gets the same entry back, not another one.
        world.WriteHr(row);
        await world.ThroughAsync((await world.RunIntakeAsync()).Requests.Single(r => r.Number == row.Number).Id);
        var back = (await PersonAsync(world, row)).Accounts.Single(a => a.Slot == "administrator");
        Assert.Equal((true, second.ImmutableId), (back.Enabled, back.ImmutableId));
        Assert.Null((await ldap.ReadAsync(second.Location, [Lock]))!.Text(Lock));
        Assert.True((await world.VerifyLedgerAsync()).Sound);
    }

    /// <summary>Accounts are renamed with their people, and mail to the name of before still arrives.</summary>
    private static string Follows(string path, string text) =>
        path == "templates/everyone.yaml"
            ? text.Replace(
                    "mail: account.name + \"@northmere.example\"",
                    "mail: '[account.name + \"@northmere.example\"] + account.former.map(n, n + \"@northmere.example\")'",
                    StringComparison.Ordinal
                )
                .Replace("lead: P14D", "lead: P14D\n    rename: on-change", StringComparison.Ordinal)
            : text;

    [Fact]
    public async Task Whose_name_changes_is_renamed_where_the_rules_say_so_and_keeps_the_mail_of_before()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await TrustApprovalTests.PublishAsync(world, Follows);
        await using var ldap = await servers.Directory.ConnectAsync();
        var row = HrRow.New();
        await world.BringAsync(row);
        var first = (await PersonAsync(world, row)).Accounts.Single();
        string Mail(string family) => $"{row.Given.ToLowerInvariant()}.{family.ToLowerInvariant()}@northmere.example";
        var (gull, reed) = ("Gull" + row.Number.ToLowerInvariant(), "Reed" + row.Number.ToLowerInvariant());

        world.WriteHr(row with { Family = gull });
        var renames = (await world.RunIntakeAsync()).Requests.Single(r => r.Number == row.Number);
        var planned = await world.EventuallyAsync(() => world.RequestAsync(renames.Id), r => r.Plan.Count > 0);
        Assert.Equal(
            $"Rename the account {first.Name} in Northmere directory to {row.Given.ToLowerInvariant()}.{gull}".ToLowerInvariant(),
            planned.Plan[0].Text.ToLowerInvariant()
        );
        Assert.Contains(planned.Effect.Changed, e => e.Title.EndsWith($"which was {first.Name}", StringComparison.Ordinal));
        Assert.DoesNotContain(planned.Effect.Kept, e => e.Title.StartsWith("The name", StringComparison.Ordinal));
        var done = await world.ThroughAsync(renames.Id);
        Assert.All(done.Steps.Where(s => !s.Later), s => Assert.Equal("done", s.State));
        var second = (await PersonAsync(world, row)).Accounts.Single();
        Assert.Equal((first.ImmutableId, Mail(gull).Split('@')[0]), (second.ImmutableId, second.Name));
        var entry = (await ldap.ReadAsync(second.Location, ["uid", "mail", "sn"]))!;
        Assert.Equal((second.Name, gull), (entry.Text("uid"), entry.Text("sn")));
        Assert.Equal([Mail(gull), Mail(row.Family)], entry.Texts("mail"));
        Assert.Null(await ldap.ReadAsync(first.Location, ["1.1"]));
        Assert.True(await IsMemberAsync(ldap, "all-people", second.Location));
        Assert.False(await IsMemberAsync(ldap, "all-people", first.Location));

        // Another name, declined: nothing is called otherwise, and what is asked for next does not bring it.
        world.WriteHr(row with { Family = reed });
        var other = (await world.RunIntakeAsync()).Requests.Single(r => r.Number == row.Number);
        await world.WaitForAsync(other.Id, "deciding");
        Assert.Equal(second.Name, (await PersonAsync(world, row)).Accounts.Single().Name);
        await World.OkAsync(
            (await world.SignInAsync("edda")).PostAsJsonAsync($"/api/v1/requests/{other.Id}/withdraw", new DeclineBody("no"))
        );
        Assert.Equal(second.Name, (await PersonAsync(world, row)).Accounts.Single().Name);

        // And back to the first: the name was theirs.
        world.WriteHr(row);
        var back = (await world.RunIntakeAsync()).Requests.Single(r => r.Number == row.Number);
        await world.ThroughAsync(back.Id);
        var third = (await PersonAsync(world, row)).Accounts.Single();
        Assert.Equal((first.ImmutableId, first.Name, first.Location), (third.ImmutableId, third.Name, third.Location));
        Assert.Equal(
            new[] { Mail(row.Family), Mail(gull) }.Order(),
            (await ldap.ReadAsync(third.Location, ["mail"]))!.Texts("mail").Order()
        );

        // An entry that somebody renames by hand is found, and gets its name back.
        await ldap.ModifyDnAsync(third.Location, "uid=by.hand." + row.Number, deleteOldRdn: true);
        await World.OkAsync((await world.SignInAsync("otto")).PostAsJsonAsync($"/api/v1/people/{row.Number}/look", new { }));
        var restores = await world.EventuallyAsync(
            () => world.GetAsync<Page<RequestSummary>>($"/api/v1/requests?text={row.Number}"),
            p => p.Items.Any(r => r.Id != back.Id && r.Id != other.Id && r.Id != renames.Id && r.State == "releasing")
        );
        await world.ThroughAsync(restores.Items.First(r => r.State == "releasing").Id);
        Assert.NotNull(await ldap.ReadAsync(third.Location, ["1.1"]));
        Assert.True((await world.VerifyLedgerAsync()).Sound);
    }

    [Fact]
    public async Task A_password_is_asked_for_one_account_of_two()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await TrustApprovalTests.PublishAsync(world, Second);
        var row = HrRow.New();
        await world.BringAsync(row);
        var (status, code, detail) = await World.RefusedAsync(
            (await world.SignInAsync("ines")).PostAsJsonAsync("/api/v1/requests", new NewRequest("password", row.Number, "forgot it"))
        );
        Assert.Equal(
            (400, "invalid", true),
            (status, code, detail.Contains("directory, directory:administrator", StringComparison.Ordinal))
        );
        var asked = await ApprovalTests.RaiseAsync(world, new("password", row.Number, "forgot it", Target: "directory:administrator"));
        asked = await world.WaitForAsync(asked.Summary.Id, "deciding");
        Assert.Equal([$"adm-{row.Number.ToLowerInvariant()}"], asked.Plan.Select(c => c.Subject).Distinct());
    }

    [Fact]
    public async Task An_account_with_power_is_asked_for_with_an_end_and_goes_the_way_of_powerful_access()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await TrustApprovalTests.PublishAsync(world);
        var row = HrRow.New();
        await world.BringAsync(row);
        var body = new NewRequest("account", row.Number, "looks after the tanks", Template: "administrators");
        var (status, _, detail) = await World.RefusedAsync((await world.SignInAsync("ines")).PostAsJsonAsync("/api/v1/requests", body));
        Assert.Equal((400, true), (status, detail.Contains("never given without an end", StringComparison.Ordinal)));
        var until = DateTime.UtcNow.AddDays(30).ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture);
        var asked = await ApprovalTests.RaiseAsync(world, body with { Until = until });
        asked = await world.WaitForAsync(asked.Summary.Id, "deciding");
        Assert.Equal("Powerful access", asked.WorkflowTitle);
        Assert.All(asked.Items.Where(i => i.Entitlement is not null), i => Assert.True(i.Privileged));
    }

    private static async Task<NobodysAccountView> FindAsync(World world, string name) =>
        (await world.GetAsync<Page<NobodysAccountView>>($"/api/v1/accounts?target=directory&text={name}")).Items.Single();

    private static async Task<HttpResponseMessage> MarkAsync(World world, string id, AccountMark mark, string actor = "otto") =>
        await (await world.SignInAsync(actor)).PutAsJsonAsync($"/api/v1/accounts/{id}", mark);

    private static async Task<HttpResponseMessage> CloseAsync(World world, string id, AccountClosing body, string actor = "otto") =>
        await (await world.SignInAsync(actor)).PostAsJsonAsync($"/api/v1/accounts/{id}/close", body);

    [Fact]
    public async Task Several_accounts_of_nobody_are_decided_at_once_left_alone_for_a_while_or_linked_to_a_person()
    {
        await using var own = await TestDirectory.StartAsync();
        await using var world = await World.StartAsync(own, new() { MovesClock = true });
        await TrustApprovalTests.PublishAsync(world);
        await using var ldap = await own.ConnectAsync();
        var (owner, person, other) = (HrRow.New(), HrRow.New(), HrRow.New());
        foreach (var name in new[] { "svc-one", "svc-two", "tmp-three", "old-four", "old-five" })
            await ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name, ""));
        world.WriteHr(owner, person, other);
        await world.RunIntakeAsync("baseline", actor: "edda");
        var found = (await world.GetAsync<Page<NobodysAccountView>>("/api/v1/accounts?target=directory")).Items.ToDictionary(a => a.Name);
        Assert.Equal(5, found.Count);
        var otto = await world.SignInAsync("otto");
        async Task<IReadOnlyList<AccountDecided>> SayAsync(AccountMark mark, params IEnumerable<string> ids) =>
            (
                await (
                    await World.OkAsync(otto.PutAsJsonAsync("/api/v1/accounts", new AccountMarks([.. ids], mark)))
                ).Content.ReadFromJsonAsync<IReadOnlyList<AccountDecided>>()
            )!;

        // One that is not there is told, and the others are decided.
        var decided = await SayAsync(new("service", owner.Number, "copies"), found["svc-one"].Id, "no-such-id", found["svc-two"].Id);
        Assert.Equal([true, false, true], decided.Select(d => d.Problem is null));
        Assert.Contains("There is no account", decided[1].Problem, StringComparison.Ordinal);
        Assert.Equal(
            ["svc-one", "svc-two"],
            (await world.GetAsync<Page<NobodysAccountView>>("/api/v1/accounts?purpose=service")).Items.Select(a => a.Name)
        );
        foreach (
            var bad in new[]
            {
                new AccountMarks([], new("service", owner.Number, "x")),
                new AccountMarks([.. Enumerable.Range(0, 501).Select(i => $"{i}")], new("service", owner.Number, "x")),
                new AccountMarks([found["tmp-three"].Id], null),
                new AccountMarks([found["tmp-three"].Id], new("ignored", null, "x")),
                new AccountMarks([found["tmp-three"].Id], new("ignored", null, "x", DateOnly.MinValue)),
                new AccountMarks([found["tmp-three"].Id], new("service", owner.Number, "x", DateOnly.MaxValue)),
            }
        )
            Assert.Equal(400, (await World.RefusedAsync(otto.PutAsJsonAsync("/api/v1/accounts", bad))).Status);

        // Each gets a request of its own.
        var closing = await (
            await World.OkAsync(
                otto.PostAsJsonAsync(
                    "/api/v1/accounts/close",
                    new AccountClosings([found["svc-one"].Id, found["svc-two"].Id, found["old-four"].Id], new(null, "replaced"))
                )
            )
        ).Content.ReadFromJsonAsync<IReadOnlyList<AccountDecided>>();
        Assert.Equal(2, closing!.Select(c => c.Request).OfType<long>().Distinct().Count());
        Assert.Contains("Nobody answers for old-four", closing![2].Problem, StringComparison.Ordinal);

        // Left alone until a day, and asked about again after it.
        var tomorrow = DateOnly.FromDateTime(DateTime.UtcNow).AddDays(1);
        await SayAsync(new("ignored", null, "the vendor is asked", tomorrow), found["tmp-three"].Id);
        var alone = await FindAsync(world, "tmp-three");
        Assert.Equal(("ignored", tomorrow.AddDays(1)), (alone.Purpose, DateOnly.FromDateTime(alone.Review!.Value.UtcDateTime)));
        world.MoveClock(TimeSpan.FromDays(3));
        otto = await world.SignInAsync("otto");
        await world.EventuallyAsync(() => FindAsync(world, "tmp-three"), a => a is { Purpose: "unmatched", Review: null });

        // Whose it is: theirs from now on, and what the rules make of it is decided on like anything else.
        Task<HttpResponseMessage> LinkAsync(string name, string number, string reason = "of before") =>
            otto.PostAsJsonAsync($"/api/v1/accounts/{found[name].Id}/link", new AccountLink(number, reason));
        Assert.Equal(400, (await World.RefusedAsync(LinkAsync("old-four", "E-none"))).Status);
        Assert.Equal(400, (await World.RefusedAsync(LinkAsync("old-four", person.Number, " "))).Status);
        Assert.Equal("known", (await World.RefusedAsync(LinkAsync("svc-one", person.Number))).Code);
        await World.OkAsync(LinkAsync("old-four", person.Number));
        var account = (await PersonAsync(world, person)).Accounts.Single();
        Assert.Equal(("old-four", found["old-four"].Location), (account.Name, account.Location));
        Assert.Equal("has-account", (await World.RefusedAsync(LinkAsync("old-five", person.Number))).Code);
        Assert.Equal("somebodys", (await World.RefusedAsync(LinkAsync("old-four", other.Number))).Code);
        await world.SaveUserAsync("self", new("Self", "self@northmere.example", ["operator"], other.Number, true));
        var self = await world.SignInAsync("self");
        Assert.Equal(
            "own-account",
            (
                await World.RefusedAsync(
                    self.PostAsJsonAsync($"/api/v1/accounts/{found["old-five"].Id}/link", new AccountLink(other.Number, "mine"))
                )
            ).Code
        );
        await ldap.DeleteAsync(TestDirectory.Dn("old-five"));
        Assert.Equal("gone", (await World.RefusedAsync(LinkAsync("old-five", other.Number))).Code);
        Assert.Equal(
            "otto",
            (await world.GetAsync<Page<LedgerEntryView>>("/api/v1/ledger?limit=200", "aldo"))
                .Items.Single(e => e.Kind == "account.linked")
                .Actor
        );
        await world.EventuallyAsync(world.VerifyLedgerAsync, v => v.Sound);
    }

    [Fact]
    public async Task What_belongs_to_nobody_is_listed_marked_and_never_taken_for_a_person()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await TrustApprovalTests.PublishAsync(world);
        await using var ldap = await servers.Directory.ConnectAsync();
        var (owner, later) = (HrRow.New(), HrRow.New());
        var name = "svc-" + later.Number.ToLowerInvariant();
        await ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name, later.Number));
        world.WriteHr(owner);
        await world.RunIntakeAsync("baseline", actor: "edda");
        var found = await FindAsync(world, name);
        Assert.Equal(("unmatched", null, true), (found.Purpose, found.OwnerNumber, found.Enabled));
        Assert.True((await world.GetAsync<Page<TargetSummary>>("/api/v1/targets")).Items.Single(t => t.Name == "directory").Nobodys > 0);

        // Only with an owner, a remark and a known purpose; by operators, within their targets.
        foreach (
            var (mark, actor, status, says) in new[]
            {
                (new AccountMark("robot", owner.Number, "x"), "otto", 400, "is no purpose"),
                (new AccountMark("service", owner.Number, " "), "otto", 400, "Say why"),
                (new AccountMark("service", null, "copies"), "otto", 400, "Name who answers for it"),
                (new AccountMark("service", "E-none", "copies"), "otto", 400, "There is no person"),
                (new AccountMark("service", owner.Number, "copies"), "mara", 403, ""),
                (new AccountMark("service", owner.Number, "copies"), "edda", 403, ""),
            }
        )
        {
            var refused = await World.RefusedAsync(MarkAsync(world, found.Id, mark, actor));
            Assert.Equal((status, true), (refused.Status, refused.Detail.Contains(says, StringComparison.Ordinal)));
        }
        // Who is limited to a site neither sees nor marks what belongs to none.
        await world.SaveUserAsync(
            "near",
            new(
                "Near",
                "near@northmere.example",
                ["operator"],
                "",
                true,
                new Dictionary<string, ReachBody> { ["operator"] = new(["harbour"]) }
            )
        );
        Assert.Equal(
            (403, "out-of-reach"),
            await World.RefusedAsync(MarkAsync(world, found.Id, new("service", owner.Number, "mine"), "near")) is var far
                ? (far.Status, far.Code)
                : default
        );
        Assert.Equal(403, (await World.RefusedAsync(CloseAsync(world, found.Id, new(null, "mine"), "near"))).Status);
        Assert.Empty((await world.GetAsync<Page<NobodysAccountView>>("/api/v1/accounts", "near")).Items);

        await World.OkAsync(MarkAsync(world, found.Id, new("service", owner.Number, "nightly copies")));
        Assert.Equal(("service", owner.Number), ((await FindAsync(world, name)).Purpose, (await FindAsync(world, name)).OwnerNumber));

        // Somebody joins whose number the entry carries: it is not theirs.
        world.WriteHr(owner, later);
        var raised = (await world.RunIntakeAsync()).Requests.Single(r => r.Number == later.Number);
        var waits = await world.EventuallyAsync(() => world.RequestAsync(raised.Id), r => r.Summary.Problem is not null);
        Assert.Contains("is recorded as a service account", waits.Summary.Problem, StringComparison.Ordinal);

        // A day later the mistake is corrected, and the account becomes theirs under the id it had.
        await World.OkAsync(MarkAsync(world, found.Id, new("unmatched", null, "it is a person's after all")));
        var planned = await world.WaitForAsync(raised.Id, "deciding", 60);
        Assert.Contains(planned.Plan, c => c.Kind == "adopt-account" && c.Subject == name);
        await world.ThroughAsync(raised.Id);
        Assert.Equal(found.Location, (await PersonAsync(world, later)).Accounts.Single().Location);
        Assert.Empty((await world.GetAsync<Page<NobodysAccountView>>($"/api/v1/accounts?text={name}")).Items);
        Assert.Equal("somebodys", (await World.RefusedAsync(MarkAsync(world, found.Id, new("service", owner.Number, "again")))).Code);
        Assert.True((await world.VerifyLedgerAsync()).Sound);
    }

    [Fact]
    public async Task An_account_of_nobody_ends_by_a_request_that_concerns_its_owner()
    {
        await using var world = await World.StartAsync(servers.Directory, new() { MovesClock = true });
        await TrustApprovalTests.PublishAsync(world);
        await using var ldap = await servers.Directory.ConnectAsync();
        var owner = HrRow.New();
        var names = new[] { "now", "day" }.Select(n => $"svc-{n}-{owner.Number.ToLowerInvariant()}").ToList();
        foreach (var name in names)
            await ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name, "S-" + name));
        world.WriteHr(owner);
        await world.RunIntakeAsync("baseline", actor: "edda");
        var (first, second) = (await FindAsync(world, names[0]), await FindAsync(world, names[1]));
        Assert.Equal("no-owner", (await World.RefusedAsync(CloseAsync(world, first.Id, new(null, "replaced")))).Code);
        foreach (var account in new[] { first, second })
            await World.OkAsync(MarkAsync(world, account.Id, new("service", owner.Number, "copies")));
        Assert.Equal(400, (await World.RefusedAsync(CloseAsync(world, first.Id, new(null, " ")))).Status);
        Assert.Equal(400, (await World.RefusedAsync(CloseAsync(world, first.Id, new(new(2020, 1, 1), "replaced")))).Status);
        Assert.Equal(403, (await World.RefusedAsync(CloseAsync(world, first.Id, new(null, "replaced"), "mara"))).Status);

        var made = await (
            await World.OkAsync(CloseAsync(world, first.Id, new(null, "replaced")))
        ).Content.ReadFromJsonAsync<RequestSummary>();
        Assert.Equal(
            ("closing", names[0], "already-asked"),
            (made!.Kind, made.Account, (await World.RefusedAsync(CloseAsync(world, first.Id, new(null, "again")))).Code)
        );
        var planned = await world.WaitForAsync(made.Id, "deciding");
        Assert.Equal(["disable-account", "verify"], planned.Plan.Select(c => c.Kind));
        Assert.Null((await ldap.ReadAsync(first.Location, [Lock]))!.Text(Lock));
        await world.ApproveAsync(planned);
        await world.ReleaseAsync(await world.WaitForAsync(made.Id, "releasing"));
        var done = await world.WaitForAsync(made.Id, "completed");
        Assert.All(done.Steps, s => Assert.Equal("done", s.State));
        Assert.NotNull((await ldap.ReadAsync(first.Location, [Lock]))!.Text(Lock));
        Assert.False((await FindAsync(world, names[0])).Enabled);
        Assert.Equal("already-so", (await World.RefusedAsync(CloseAsync(world, first.Id, new(null, "once more")))).Code);

        // With a last day: what was approved waits for it, and runs then.
        var day = DateOnly.FromDateTime(DateTime.UtcNow.AddDays(3));
        var later = await (
            await World.OkAsync(CloseAsync(world, second.Id, new(day, "replaced")))
        ).Content.ReadFromJsonAsync<RequestSummary>();
        await world.ApproveAsync(await world.WaitForAsync(later!.Id, "deciding"));
        await world.ReleaseAsync(await world.WaitForAsync(later.Id, "releasing"));
        await world.WaitForAsync(later.Id, "fulfilling");
        Assert.Equal((true, true), ((await FindAsync(world, names[1])).Enabled, (await FindAsync(world, names[1])).Until is not null));
        world.MoveClock(TimeSpan.FromDays(5));
        await world.WaitForAsync(later.Id, "completed");
        Assert.False((await FindAsync(world, names[1])).Enabled);
        // The owner is no other for it: what they have themselves stays as it is.
        Assert.Empty((await PersonAsync(world, owner)).Accounts);
    }

    /// <summary>A world with a person, an account of nobody that this person answers for, and another one.</summary>
    private async Task<(World World, NobodysAccountView Account, NobodysAccountView Other)> OwnedAsync()
    {
        var world = await World.StartAsync(servers.Directory, new() { MovesClock = true });
        await TrustApprovalTests.PublishAsync(world);
        var owner = HrRow.New();
        var names = new[] { "svc-" + owner.Number.ToLowerInvariant(), "other-" + owner.Number.ToLowerInvariant() };
        await using (var ldap = await servers.Directory.ConnectAsync())
            foreach (var name in names)
                await ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name, "S-" + name));
        world.WriteHr(owner);
        await world.RunIntakeAsync("baseline", actor: "edda");
        var found = await FindAsync(world, names[0]);
        await World.OkAsync(MarkAsync(world, found.Id, new("service", owner.Number, "copies")));
        return (world, found, await FindAsync(world, names[1]));
    }

    /// <summary>An end, or that there is none, asked for, decided and released.</summary>
    private static async Task<string> DecidedAsync(World world, string id, int? days, bool keep = false)
    {
        DateOnly? last = days is { } ahead ? DateOnly.FromDateTime(DateTime.UtcNow.AddDays(ahead)) : null;
        var made = await (
            await World.OkAsync(CloseAsync(world, id, new(last, "as HR says", keep)))
        ).Content.ReadFromJsonAsync<RequestSummary>();
        await world.ApproveAsync(await world.WaitForAsync(made!.Id, "deciding"));
        await world.ReleaseAsync(await world.WaitForAsync(made.Id, "releasing"));
        return made.Id;
    }

    [Fact]
    public async Task The_end_of_an_account_of_nobody_is_moved_back_and_forth_and_taken_back()
    {
        var (world, account, _) = await OwnedAsync();
        await using var ending = world;
        async Task<NobodysAccountView> Seen() => await FindAsync(world, account.Name);
        var first = await DecidedAsync(world, account.Id, 3);
        var later = await DecidedAsync(world, account.Id, 30);
        await world.EventuallyAsync(Seen, a => a.Until > DateTimeOffset.UtcNow.AddDays(20));
        // The end that was moved away is over at once: its request says that it was not wanted any more, and one is left.
        await world.WaitForAsync(first, "lapsed");
        Assert.Equal((await world.RequestAsync(later)).Summary.Number, (await Seen()).Request);
        world.MoveClock(TimeSpan.FromDays(6));
        // It stays after all, and then it does not.
        await DecidedAsync(world, account.Id, null, keep: true);
        await world.EventuallyAsync(Seen, a => a.Until is null);
        Assert.Equal("already-so", (await World.RefusedAsync(CloseAsync(world, account.Id, new(null, "again", true)))).Code);
        Assert.Equal(400, (await World.RefusedAsync(CloseAsync(world, account.Id, new(new(2031, 1, 1), "both", true)))).Status);
        // Nothing is about it any more, so that another end can be asked for.
        await world.WaitForAsync(later, "lapsed");
        Assert.Null((await Seen()).Request);
        world.MoveClock(TimeSpan.FromDays(40));
        Assert.True((await Seen()).Enabled);
        await world.WaitForAsync(await DecidedAsync(world, account.Id, null), "completed");
        Assert.False((await Seen()).Enabled);
    }

    [Fact]
    public async Task An_account_of_nobody_that_was_deleted_by_hand_is_not_closed_and_its_request_says_why()
    {
        var (world, account, _) = await OwnedAsync();
        await using var ending = world;
        var made = await (
            await World.OkAsync(CloseAsync(world, account.Id, new(null, "replaced")))
        ).Content.ReadFromJsonAsync<RequestSummary>();
        await world.ApproveAsync(await world.WaitForAsync(made!.Id, "deciding"));
        var releasing = await world.WaitForAsync(made.Id, "releasing");
        await using (var root = await servers.Directory.ConnectAsRootAsync())
            await root.DeleteAsync(account.Location);
        await world.ReleaseAsync(releasing);
        var waits = await world.EventuallyAsync(() => world.RequestAsync(made.Id), r => r.Summary.Problem?.Contains("no entry of") == true);
        Assert.Equal("planning", waits.Summary.State);
        // It waits there, and does not go round, while others come through.
        await world.BringAsync(HrRow.New());
        Assert.Equal("planning", (await world.RequestAsync(made.Id)).Summary.State);
        await World.OkAsync(
            (await world.SignInAsync("otto")).PostAsJsonAsync($"/api/v1/requests/{made.Id}/withdraw", new DeclineBody("gone"))
        );
        Assert.Null((await FindAsync(world, account.Name)).Request);
    }

    [Fact]
    public async Task A_request_that_was_pointed_at_another_account_in_the_database_disables_nothing()
    {
        var (world, account, victim) = await OwnedAsync();
        await using var _ = world;
        await using var ldap = await servers.Directory.ConnectAsync();
        var made = await DecidedAsync(world, account.Id, 3);
        // The owner of the database lets an approved closing, and the end that was approved, be about another account.
        await TrustApprovalTests.SqlAsync(
            world,
            $"UPDATE requests SET subject_id='{victim.Id}' WHERE id='{made}'; UPDATE steps SET subject_id='{victim.Id}' WHERE request_id='{made}'; "
                + $"UPDATE accounts SET until_at=1 WHERE id='{victim.Id}'; "
                + $"INSERT INTO chains SELECT '{victim.Id}', target, 1, '', 0, 0, 0 FROM chains LIMIT 1"
        );
        world.MoveClock(TimeSpan.FromDays(6));
        await world.EventuallyAsync(() => world.RequestAsync(made), r => r.Summary.State is "deciding" or "planning");
        Assert.Null((await ldap.ReadAsync(victim.Location, [Lock]))!.Text(Lock));
        Assert.True((await FindAsync(world, victim.Name)).Enabled);
    }

    [Fact]
    public async Task A_store_of_the_release_before_goes_on_with_its_open_requests_and_completes_them()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await TrustApprovalTests.PublishAsync(world);
        var (has, decides, releases) = (HrRow.New(), HrRow.New(), HrRow.New());
        await world.BringAsync(has);
        var deciding = await world.BringAsync(decides, "deciding");
        world.WriteHr(has, decides, releases);
        var raised = (await world.RunIntakeAsync()).Requests.Single(r => r.Number == releases.Number);
        await world.ApproveAsync(await world.WaitForAsync(raised.Id, "deciding"));
        var releasing = await world.WaitForAsync(raised.Id, "releasing");
        var leaves = await ApprovalTests.RaiseAsync(world, new("leaver", has.Number, "gone", Urgent: true));
        var before = await PersonAsync(world, has);
        await world.StopAsync();

        // The store as the release before left it: accounts by person and target, chains and steps of persons.
        await using (var store = new SqliteConnection($"Data Source={world.DataFolder}/oikonom.db;Pooling=False"))
        {
            await store.OpenAsync();
            await using var command = store.CreateCommand();
            command.CommandText = await File.ReadAllTextAsync(Repository.At("tests", "Service", "before-accounts.sql"));
            await command.ExecuteNonQueryAsync();
        }
        await world.StartServiceAsync();

        var after = await PersonAsync(world, has);
        Assert.Equal(
            before.Accounts.Select(a => (a.Target, a.Slot, a.Name, a.ImmutableId, a.Enabled)),
            after.Accounts.Select(a => (a.Target, a.Slot, a.Name, a.ImmutableId, a.Enabled))
        );
        Assert.Equal(before.Grants.Select(g => g.Entitlement), after.Grants.Select(g => g.Entitlement));
        await world.ApproveAsync(deciding);
        await world.ReleaseAsync(await world.WaitForAsync(deciding.Summary.Id, "releasing"));
        await world.ReleaseAsync(releasing);
        foreach (var id in new[] { deciding.Summary.Id, releasing.Summary.Id })
            Assert.All((await world.WaitForAsync(id, "completed")).Steps, s => Assert.Equal("done", s.State));
        await world.ThroughAsync(leaves.Summary.Id);
        Assert.False((await PersonAsync(world, has)).Accounts.Single().Enabled);
        Assert.True((await world.VerifyLedgerAsync()).Sound);
    }
}
