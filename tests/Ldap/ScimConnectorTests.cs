using System.Security.Cryptography.X509Certificates;
using System.Text.Json.Nodes;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Scim;
using Oikonom.Standins.Applications;
using Oikonom.Standins.Directory;
using Oikonom.Targets.Scim;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Ldap.Tests;

/// <summary>The connector of applications against a strict server, and against each of the imperfections that servers have.</summary>
public sealed class ScimConnectorTests
{
    private const string Department = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department";
    private const string Mail = "emails[type eq \"work\"].value";

    private static readonly ApplicationKind Kind = new(
        "records",
        "Animal records",
        ["Veterinarians", "Night, \"watch\" \\ [3]"],
        ["keeper", "reader"],
        new Dictionary<string, int> { ["pathology"] = 1 }
    );

    private static CancellationToken Cancel => TestContext.Current.CancellationToken;

    private sealed record Setting(ApplicationServer Server, ScimConnector Connector, TargetRule Rule) : IAsyncDisposable
    {
        public string Token { get; set; } = "first-token";

        public async ValueTask DisposeAsync()
        {
            await Connector.DisposeAsync();
            await Server.DisposeAsync();
        }

        public GrantGoal Grant(string account, string entitlement, bool held = true) =>
            new(account, Rule.Entitlements[entitlement], held, new("", "", "", "", ""));

        public JsonObject User(string id) => Server.Data.Find(ScimSchemas.Users, id)!;
    }

    private static async Task<Setting> StartAsync(params string[] imperfections)
    {
        var server = await ApplicationServer.StartAsync(Kind, DirectoryServer.FreePort(), "first-token", null);
        foreach (var imperfection in imperfections)
            server.Set(imperfection);
        var text = $$"""
            name: records
            title: Animal records
            kind: scim
            address: {{server.Address}}
            authority: records-authority
            sign-in: { secret: records-token }
            match: [externalId, userName]
            watch: { changes: PT5M }
            entitlements:
              keeper: { title: Keeper, role: keeper, owner: E1002 }
              reader: { title: Reader, role: reader, owner: E1002 }
              pathology: { title: Pathology, licence: pathology, owner: E1002 }
              vets: { title: Veterinarians, group: Veterinarians, owner: E1002 }
              night: { title: Night watch, group: 'Night, "watch" \ [3]', owner: E1002 }
            """;
        var reading = RulebookReader.Read([
            .. Directory
                .GetFiles(Repository.At("demo", "northmere", "rulebook"), "*.yaml", SearchOption.AllDirectories)
                .Select(f => new RulebookFile(Path.GetRelativePath(Repository.At("demo", "northmere", "rulebook"), f), File.ReadAllText(f)))
                .Where(f => f.Path != "targets/records.yaml"),
            new("targets/records.yaml", text),
        ]);
        Assert.DoesNotContain(reading.Findings, f => f.Place.File == "targets/records.yaml" && !f.IsWarning);
        var rule = reading.Rulebook!.Targets["records"];
        Setting? setting = null;
        var authorities = new X509Certificate2Collection();
        authorities.ImportFromPem(server.AuthorityPem);
        var connector = new ScimConnector(rule, _ => Task.FromResult(new ScimSignIn(setting!.Token, authorities)));
        return setting = new(server, connector, rule);
    }

    private static AccountGoal Goal(string name = "kaya.omori", string number = "E1301", string? id = null, string title = "Keeper") =>
        new(
            id,
            [("externalId", number), ("userName", name)],
            name,
            "",
            new Dictionary<string, IReadOnlyList<string>>
            {
                ["externalId"] = [number],
                ["displayName"] = ["Kaya Omori"],
                ["name.givenName"] = ["Kaya"],
                ["title"] = [title],
                [Mail] = [$"{name}@northmere.example"],
                [Department] = ["Animal Care"],
            },
            id is null ? false : null,
            id is null
        );

    private static AccountState Wanted(AccountGoal goal, bool enabled) =>
        new("records", goal.Name, "", goal.Attributes, enabled ? Presence.Awake : Presence.Asleep, new("", "", ""));

    private static AccountGoal Present(string id, bool enabled) =>
        new(id, [], "", "", new Dictionary<string, IReadOnlyList<string>>(), enabled, false);

    public static TheoryData<string> Bearable =>
        [
            "",
            .. Imperfection.All.Except([
                Imperfection.Busy,
                Imperfection.Down,
                Imperfection.AnswersHtml,
                Imperfection.HalfAnswers,
                Imperfection.HugeAnswers,
            ]),
        ];

    [Fact]
    public async Task Who_is_renamed_keeps_id_and_roles_and_a_name_that_is_taken_is_planned_anew()
    {
        await using var s = await StartAsync();
        var made = await s.Connector.EnsureAccountAsync(Goal(), Cancel);
        await s.Connector.EnsureGrantAsync(s.Grant(made.ImmutableId, "keeper"), Cancel);
        AccountGoal Named(string name) =>
            new(made.ImmutableId, [], name, "", new Dictionary<string, IReadOnlyList<string>> { ["userName"] = [name] }, null, false);
        var renamed = await s.Connector.EnsureAccountAsync(Named("kaya.reef"), Cancel);
        Assert.Equal((made.ImmutableId, true), (renamed.ImmutableId, renamed.Changed));
        Assert.Equal("kaya.reef", s.User(made.ImmutableId)["userName"]!.GetValue<string>());
        Assert.Equal(["keeper"], (await s.Connector.ReadAsync(made.ImmutableId, Cancel))!.Entitlements);
        Assert.False((await s.Connector.EnsureAccountAsync(Named("kaya.reef"), Cancel)).Changed);
        await s.Connector.EnsureAccountAsync(Goal("kaya.tern", "E1302"), Cancel);
        var fault = await Assert.ThrowsAsync<TargetFault>(() => s.Connector.EnsureAccountAsync(Named("kaya.tern"), Cancel));
        Assert.Equal((true, "The name kaya.tern is taken by another user in Animal records."), (fault.NeedsReplan, fault.Message));
        Assert.Equal("kaya.reef", s.User(made.ImmutableId)["userName"]!.GetValue<string>());
    }

    [Theory]
    [MemberData(nameof(Bearable))]
    public async Task The_whole_life_of_an_account_whatever_the_server_gets_wrong(string imperfection)
    {
        await using var s = await StartAsync(imperfection.Length > 0 ? [imperfection] : []);
        // Others are there before, so that whoever is answered in the place of one is noticed.
        for (var i = 0; i < 130; i++)
            s.Server.Data.Add(
                ScimSchemas.Users,
                new JsonObject
                {
                    ["schemas"] = new JsonArray(ScimSchemas.User),
                    ["userName"] = $"other.{i}",
                    ["active"] = true,
                }
            );
        Assert.Empty((await s.Connector.FindAsync(Goal().Keys, Cancel)).Found);
        Assert.False(await s.Connector.NameIsTakenAsync("kaya.omori", Cancel));

        // Made asleep, once, however often it is asked for.
        var made = await s.Connector.EnsureAccountAsync(Goal(), Cancel);
        Assert.True(made.Created);
        Assert.Equal(made.ImmutableId, (await s.Connector.EnsureAccountAsync(Goal(), Cancel)).ImmutableId);
        Assert.Equal(131, s.Server.Data.All(ScimSchemas.Users).Count);
        Assert.True((await s.Connector.VerifyAsync(made.ImmutableId, Wanted(Goal(), false), [], Cancel)).Matches);
        Assert.True(await s.Connector.NameIsTakenAsync("kaya.omori", Cancel));

        // Changed where it differs, and only there.
        var promoted = Goal(id: made.ImmutableId, title: "Senior keeper");
        Assert.True((await s.Connector.EnsureAccountAsync(promoted, Cancel)).Changed);
        Assert.Equal("Senior keeper", s.User(made.ImmutableId)["title"]!.GetValue<string>());
        if (imperfection != Imperfection.LosesExternalIds)
            Assert.False((await s.Connector.EnsureAccountAsync(promoted, Cancel)).Changed);

        // Woken, with a role, a licence and two groups; one of them with every special character.
        await s.Connector.EnsureAccountAsync(Present(made.ImmutableId, true), Cancel);
        foreach (var entitlement in s.Rule.Entitlements.Keys)
        {
            Assert.IsType<PortResult.Reached>(await s.Connector.EnsureGrantAsync(s.Grant(made.ImmutableId, entitlement), Cancel));
            Assert.IsType<PortResult.Reached>(await s.Connector.EnsureGrantAsync(s.Grant(made.ImmutableId, entitlement), Cancel));
        }
        var all = s.Rule.Entitlements.Keys.ToList();
        Assert.Empty((await s.Connector.VerifyAsync(made.ImmutableId, Wanted(promoted, true), all, Cancel)).Differences);
        var listed = new List<ExistingAccount>();
        await foreach (var account in s.Connector.ListAsync(Cancel))
            listed.Add(account);
        Assert.Equal(131, listed.Count);
        var one = listed.Single(a => a.ImmutableId == made.ImmutableId);
        Assert.True(one.Enabled);
        Assert.Equal(all.Order(), one.Entitlements.Order());
        Assert.Equal(["Animal Care"], one.Attributes[Department]);
        Assert.Equal(["kaya.omori@northmere.example"], one.Attributes[Mail]);
        Assert.False(one.Attributes.ContainsKey("roles"));

        // Taken back, and disabled; nobody else was touched.
        foreach (var entitlement in all)
            Assert.IsType<PortResult.Reached>(await s.Connector.EnsureGrantAsync(s.Grant(made.ImmutableId, entitlement, false), Cancel));
        await s.Connector.EnsureAccountAsync(Present(made.ImmutableId, false), Cancel);
        Assert.True((await s.Connector.VerifyAsync(made.ImmutableId, Wanted(promoted, false), [], Cancel)).Matches);
        Assert.All(
            s.Server.Data.All(ScimSchemas.Users).Where(u => u["id"]!.GetValue<string>() != made.ImmutableId),
            u => Assert.True(u["active"]!.GetValue<bool>())
        );
    }

    [Fact]
    public async Task What_was_changed_behind_our_back_is_told_and_who_is_gone_is_known()
    {
        await using var s = await StartAsync();
        var made = await s.Connector.EnsureAccountAsync(Goal(), Cancel);
        await s.Connector.EnsureGrantAsync(s.Grant(made.ImmutableId, "keeper"), Cancel);
        s.Server.Data.Change(
            ScimSchemas.Users,
            made.ImmutableId,
            "",
            user =>
            {
                user["title"] = "Director";
                user["active"] = true;
                user["roles"] = new JsonArray(new JsonObject { ["value"] = "reader" });
                return user;
            }
        );
        var found = (await s.Connector.VerifyAsync(made.ImmutableId, Wanted(Goal(), false), ["keeper"], Cancel)).Differences;
        Assert.Equal(
            ["missing:keeper", nameof(Difference.OtherPresence), "surplus:reader", "value:title"],
            found.Select(d => d.Place).Order(StringComparer.OrdinalIgnoreCase)
        );

        s.Server.Data.Remove(ScimSchemas.Users, made.ImmutableId);
        Assert.IsType<Difference.Gone>(
            Assert.Single((await s.Connector.VerifyAsync(made.ImmutableId, Wanted(Goal(), false), [], Cancel)).Differences)
        );
        var lost = await Assert.ThrowsAsync<TargetFault>(() => s.Connector.EnsureAccountAsync(Present(made.ImmutableId, true), Cancel));
        Assert.Equal((true, made.ImmutableId), (lost.NeedsReplan, lost.Gone));
    }

    [Fact]
    public async Task A_user_of_that_name_or_number_is_never_taken_over_by_a_plan_to_create()
    {
        await using var s = await StartAsync();
        await s.Connector.EnsureAccountAsync(Goal("kaya.omori"), Cancel);
        // The same name with another number: no second one is made, and the plan is made anew.
        var taken = await Assert.ThrowsAsync<TargetFault>(() => s.Connector.EnsureAccountAsync(Goal("kaya.omori2"), Cancel));
        Assert.True(taken.NeedsReplan);
        Assert.Single(s.Server.Data.All(ScimSchemas.Users));
    }

    [Fact]
    public async Task Who_has_the_name_in_other_letters_is_found_where_filters_tell_case_apart()
    {
        await using var s = await StartAsync(Imperfection.CaseMatters);
        s.Server.Data.Add(
            ScimSchemas.Users,
            new JsonObject
            {
                ["schemas"] = new JsonArray(ScimSchemas.User),
                ["userName"] = "Kaya.Omori",
                ["externalId"] = "E0001",
            }
        );
        Assert.False(await s.Connector.NameIsTakenAsync("kaya.omori", Cancel));
        Assert.True((await Assert.ThrowsAsync<TargetFault>(() => s.Connector.EnsureAccountAsync(Goal(), Cancel))).NeedsReplan);
        // The next plan takes another name.
        Assert.True(await s.Connector.NameIsTakenAsync("kaya.omori", Cancel));
        Assert.False(await s.Connector.NameIsTakenAsync("kaya.omori2", Cancel));
    }

    [Theory]
    [InlineData(Imperfection.AnswersHtml, "Your session has ended")]
    [InlineData(Imperfection.HalfAnswers, "{\"")]
    [InlineData(Imperfection.HugeAnswers, "more than 1 MB, which begins '{\"")]
    public async Task Nonsense_is_a_lasting_fault_with_its_first_words(string imperfection, string words)
    {
        await using var s = await StartAsync();
        var made = await s.Connector.EnsureAccountAsync(Goal(), Cancel);
        s.Server.Set(imperfection);
        var fault = await Assert.ThrowsAsync<TargetFault>(() => s.Connector.ReadAsync(made.ImmutableId, Cancel));
        Assert.False(fault.Transient);
        Assert.Contains(words, fault.Message, StringComparison.Ordinal);
        Assert.InRange(fault.Message.Length, 10, 400);
    }

    [Fact]
    public async Task A_busy_server_is_left_alone_for_as_long_as_it_asks()
    {
        await using var s = await StartAsync();
        var made = await s.Connector.EnsureAccountAsync(Goal(), Cancel);
        s.Server.Set(Imperfection.Busy);
        var results = new List<PortResult>();
        for (var i = 0; i < 3; i++)
            results.Add(await s.Connector.EnsureGrantAsync(s.Grant(made.ImmutableId, "keeper"), Cancel));
        Assert.All(results.OfType<PortResult.Transient>(), r => Assert.Equal(TimeSpan.FromSeconds(1), r.After));
        Assert.NotEmpty(results.OfType<PortResult.Transient>());
    }

    [Theory]
    [InlineData("")]
    [InlineData(Imperfection.IgnoresFilters)]
    [InlineData(Imperfection.PagesMove)]
    [InlineData(Imperfection.HidesGroups)]
    public async Task What_changed_is_told_by_the_servers_own_times(string imperfection)
    {
        await using var s = await StartAsync(imperfection);
        var people = new List<string>();
        foreach (var i in Enumerable.Range(0, 4))
            people.Add((await s.Connector.EnsureAccountAsync(Goal($"person.{i}", $"P{i}"), Cancel)).ImmutableId);
        // The first time it is only told where to go on from.
        var first = await s.Connector.ChangesAsync(null, Cancel);
        Assert.Empty(first.Accounts);
        var (at, count) = (first.Since.Split(' ')[0], first.Since.Split(' ')[1]);
        Assert.Equal("4", count);
        Assert.InRange(DateTimeOffset.Parse(at, null), DateTimeOffset.UtcNow.AddMinutes(-1), DateTimeOffset.UtcNow.AddSeconds(5));

        // As if it were long ago that anything was changed: what is looked at once more begins after it.
        await Task.Delay(TimeSpan.FromSeconds(3), Cancel);
        var since = $"{DateTimeOffset.UtcNow.AddSeconds(58):yyyy-MM-dd'T'HH:mm:ss'Z'} 4";
        var quiet = await s.Connector.ChangesAsync(since, Cancel);
        Assert.Empty(quiet.Accounts);
        Assert.Empty(quiet.Holders);
        Assert.Null(quiet.Present);

        await s.Connector.EnsureGrantAsync(s.Grant(people[1], "vets"), Cancel);
        s.Server.Data.Change(
            ScimSchemas.Users,
            people[2],
            "",
            u =>
            {
                u["title"] = "Captain";
                return u;
            }
        );
        s.Server.Data.Remove(ScimSchemas.Users, people[3]);
        var told = await s.Connector.ChangesAsync(first.Since, Cancel);
        Assert.Contains(people[2], told.Accounts);
        Assert.Equal(["Captain"], told.Read![people[2]].Attributes["title"]);
        Assert.Equal(["vets"], told.Read[people[1]].Entitlements);
        var holders = told.Holders.Single(h => h.Entitlement == "vets");
        Assert.Equal([false, true, false], people.Take(3).Select(p => holders.Holds("", (told.Read[p]).Location)));
        Assert.Equal(people.Take(3).Order(), told.Present!.Order());
        Assert.Equal("3", told.Since.Split(' ')[1]);
    }

    [Fact]
    public async Task A_server_that_cannot_tell_what_changed_is_told_from_the_beginning()
    {
        await using var s = await StartAsync(Imperfection.HidesTimes);
        await s.Connector.EnsureAccountAsync(Goal(), Cancel);
        s.Server.Set(Imperfection.IgnoresFilters);
        var fault = await Assert.ThrowsAsync<TargetFault>(() => s.Connector.ChangesAsync(null, Cancel));
        Assert.False(fault.Transient);
        Assert.Contains("does not show when something changed: take 'changes' out", fault.Message, StringComparison.Ordinal);
        var checkpoint = (await s.Connector.CheckAsync(true, Cancel)).Checkpoints.Single(c => c.What == "Changes");
        Assert.Equal((false, fault.Message), (checkpoint.Good, checkpoint.Text));

        s.Server.Set(Imperfection.HidesTimes, false);
        s.Server.Set(Imperfection.IgnoresFilters, false);
        checkpoint = (await s.Connector.CheckAsync(true, Cancel)).Checkpoints.Single(c => c.What == "Changes");
        Assert.Equal((true, "it tells what changed."), (checkpoint.Good, checkpoint.Text));
        // A position that is none, or more than are looked at one by one: everything is read.
        var ahead = $"{DateTimeOffset.UtcNow.AddHours(1):yyyy-MM-dd'T'HH:mm:ss'Z'} 1";
        foreach (var nonsense in new[] { "", "yesterday 4", "2026-12-01T00:00:00Z", "2026-12-01T00:00:00Z many", "1 2 3", ahead })
            Assert.True((await s.Connector.ChangesAsync(nonsense, Cancel)).IsLost);
        foreach (var i in Enumerable.Range(0, TargetChanges.MostAlone + 1))
            s.Server.Data.Add(
                ScimSchemas.Users,
                new JsonObject { ["schemas"] = new JsonArray(ScimSchemas.User), ["userName"] = $"many.{i}" }
            );
        Assert.True((await s.Connector.ChangesAsync("2026-01-01T00:00:00Z 1", Cancel)).IsLost);
    }

    [Fact]
    public async Task Another_token_is_used_without_a_gap_and_a_wrong_one_is_told()
    {
        await using var s = await StartAsync();
        var made = await s.Connector.EnsureAccountAsync(Goal(), Cancel);
        (s.Server.Token, s.Token) = ("second-token", "second-token");
        Assert.NotNull(await s.Connector.ReadAsync(made.ImmutableId, Cancel));
        // Changes still go together.
        await Task.WhenAll(Enumerable.Range(0, 20).Select(i => s.Connector.EnsureAccountAsync(Goal($"person.{i}", $"P{i}"), Cancel)));
        Assert.InRange(s.Server.Bulks, 1, 20);

        s.Server.Token = "third-token";
        var fault = await Assert.ThrowsAsync<TargetFault>(() => s.Connector.ReadAsync(made.ImmutableId, Cancel));
        Assert.True(fault.Transient);
        Assert.Contains("oikonom secrets set records-token", fault.Message, StringComparison.Ordinal);
        var health = await s.Connector.CheckAsync(true, Cancel);
        Assert.False(health.Reachable);
        Assert.Contains("does not take the token", health.Checkpoints[^1].Text, StringComparison.Ordinal);
    }

    [Fact]
    public async Task The_last_licence_is_refused_in_the_servers_words()
    {
        await using var s = await StartAsync();
        var first = await s.Connector.EnsureAccountAsync(Goal(), Cancel);
        var second = await s.Connector.EnsureAccountAsync(Goal("tor.berg", "E1302"), Cancel);
        Assert.IsType<PortResult.Reached>(await s.Connector.EnsureGrantAsync(s.Grant(first.ImmutableId, "pathology"), Cancel));
        var refused = Assert.IsType<PortResult.Lasting>(
            await s.Connector.EnsureGrantAsync(s.Grant(second.ImmutableId, "pathology"), Cancel)
        );
        Assert.Contains("All 1 licences 'pathology' are in use", refused.Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Many_come_into_one_group_at_once_and_nobody_is_lost()
    {
        foreach (var imperfection in new[] { "", Imperfection.NoPatch })
        {
            await using var s = await StartAsync(imperfection.Length > 0 ? [imperfection] : []);
            var ids = new List<string>();
            for (var i = 0; i < 40; i++)
                ids.Add((await s.Connector.EnsureAccountAsync(Goal($"person.{i}", $"P{i}"), Cancel)).ImmutableId);
            await Task.WhenAll(ids.Select(id => s.Connector.EnsureGrantAsync(s.Grant(id, "vets"), Cancel)));
            var group = s.Server.Data.All(ScimSchemas.Groups).Single(g => g["displayName"]!.GetValue<string>() == "Veterinarians");
            Assert.Equal(40, group["members"]!.AsArray().Count);
        }
    }

    [Theory]
    [InlineData("", true)]
    [InlineData(Imperfection.SilentBulk, true)]
    [InlineData(Imperfection.HalfBulk, true)]
    [InlineData(Imperfection.BulkRefused, false)]
    [InlineData(Imperfection.NoBulk, false)]
    public async Task Many_are_made_and_changed_together_and_each_gets_its_own_answer(string imperfection, bool isTogether)
    {
        const int People = 60;
        await using var s = await StartAsync(imperfection.Length > 0 ? [imperfection] : []);
        // What came to no answer is tried again, as a step is.
        async Task<T> UntilDoneAsync<T>(Func<Task<T>> work)
        {
            for (var attempt = 0; ; attempt++)
                try
                {
                    return await work();
                }
                catch (TargetFault fault) when (fault.Transient && attempt < 20)
                {
                    await Task.Delay(10, Cancel);
                }
        }
        var made = await Task.WhenAll(
            Enumerable
                .Range(0, People)
                .Select(i => UntilDoneAsync(() => s.Connector.EnsureAccountAsync(Goal($"person.{i}", $"P{i}"), Cancel)))
        );
        Assert.Equal(People, s.Server.Data.All(ScimSchemas.Users).Count);
        Assert.All(made, (m, i) => Assert.Equal($"P{i}", s.User(m.ImmutableId)["externalId"]!.GetValue<string>()));

        var calls = s.Server.Calls;
        async Task<PortResult> GiveAsync(string id, string what)
        {
            for (var attempt = 0; ; attempt++)
                if (
                    await s.Connector.EnsureGrantAsync(s.Grant(id, what), Cancel) is var result
                    && (result is not PortResult.Transient || attempt == 20)
                )
                    return result;
        }
        // One name is refused, and one seat is there: who is not meant is not harmed.
        var results = await Task.WhenAll(made.Select((m, i) => GiveAsync(m.ImmutableId, i is 3 or 4 ? "pathology" : "keeper")));
        Assert.Equal(People - 1, results.OfType<PortResult.Reached>().Count());
        var refused = Assert.Single(results.OfType<PortResult.Lasting>());
        Assert.Contains("All 1 licences 'pathology' are in use", refused.Message, StringComparison.Ordinal);
        Assert.All(
            made.Where((_, i) => i is not (3 or 4)),
            m => Assert.Equal("keeper", s.User(m.ImmutableId)["roles"]!.AsArray().Single()!["value"]!.GetValue<string>())
        );
        Assert.Equal(isTogether, s.Server.Bulks > 0);
        if (imperfection.Length == 0)
            Assert.InRange(s.Server.Calls - calls, People, People + (People / 2));

        Assert.Equal(
            "Aquarist",
            await UntilDoneAsync(async () =>
            {
                var all = await Task.WhenAll(
                    made.Select((m, i) => s.Connector.EnsureAccountAsync(Goal($"person.{i}", $"P{i}", m.ImmutableId, "Aquarist"), Cancel))
                );
                return s.User(all[^1].ImmutableId)["title"]!.GetValue<string>();
            })
        );
        Assert.All(made, m => Assert.Equal("Aquarist", s.User(m.ImmutableId)["title"]!.GetValue<string>()));
    }

    [Fact]
    public async Task A_check_tells_what_it_looked_at_and_each_missing_group()
    {
        await using var s = await StartAsync();
        var good = await s.Connector.CheckAsync(true, Cancel);
        Assert.True(good.Reachable);
        Assert.Equal(
            ["Token and authority", "Connection", "What it can", "Users", "Groups", "Changes"],
            good.Checkpoints.Select(c => c.What)
        );
        Assert.EndsWith("50 changes at once.", good.Checkpoints[2].Text, StringComparison.Ordinal);
        await using var fresh = await StartAsync();
        foreach (var group in fresh.Server.Data.All(ScimSchemas.Groups))
            fresh.Server.Data.Remove(ScimSchemas.Groups, group["id"]!.GetValue<string>());
        var bad = await fresh.Connector.CheckAsync(true, Cancel);
        Assert.False(bad.Reachable);
        Assert.Equal(2, bad.Checkpoints.Count(c => !c.Good));
    }

    [Fact]
    public async Task Who_is_not_trusted_or_not_there_is_told_as_such()
    {
        await using var s = await StartAsync();
        var away = (
            s.Rule with
            {
                Settings = ((TargetSettings.Scim)s.Rule.Settings) with { Address = new("https://localhost:1/scim/v2/") },
            }
        );
        await using var nobody = new ScimConnector(away, _ => Task.FromResult(new ScimSignIn("x", [])));
        Assert.Contains("Nothing answers", (await nobody.CheckAsync(true, Cancel)).Message, StringComparison.Ordinal);

        await using var stranger = new ScimConnector(s.Rule, _ => Task.FromResult(new ScimSignIn("first-token", [])));
        var health = await stranger.CheckAsync(true, Cancel);
        Assert.Contains("is not trusted", health.Message, StringComparison.Ordinal);
    }
}
