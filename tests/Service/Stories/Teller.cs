using System.Globalization;
using System.Net.Http.Json;
using System.Text.RegularExpressions;
using Oikonom.Contracts;
using Oikonom.Ldap;
using Oikonom.Standins.Directory;
using Oikonom.Testing;

namespace Oikonom.Service.Tests.Stories;

/// <summary>A person of a story: the rows HR has of them, none when HR has none.</summary>
internal sealed class Somebody(HrRow row)
{
    /// <summary>The row as HR wrote it last.</summary>
    public HrRow Row { get; set; } = row;

    /// <summary>True while the export holds the row.</summary>
    public bool IsInHr { get; set; }
}

/// <summary>
/// Does what the lines of stories say and looks whether it came to what they say, in one service with one directory, for
/// the people of one story.
/// </summary>
/// <param name="rules">What editions of this chapter gave so far: an entitlement to whoever has a title.</param>
internal sealed partial class Teller(World world, DateOnly first, HashSet<(string Title, string Entitlement)> rules)
{
    private readonly Dictionary<string, Somebody> _people = new(StringComparer.Ordinal);

    /// <summary>The rows that HR has of this story's people.</summary>
    public IEnumerable<HrRow> Rows => _people.Values.Where(p => p.IsInHr).Select(p => p.Row);

    public static bool IsOfHr(string happening) => happening.StartsWith("HR:", StringComparison.Ordinal);

    /// <summary>What is so before HR's file of that day is read.</summary>
    public static bool IsAlready(string happening) => happening.StartsWith("already ", StringComparison.Ordinal);

    /// <summary>What HR says from now on; it is read when all stories have said theirs.</summary>
    public void Write(string happening)
    {
        if (Joins().Match(happening) is { Success: true } joins)
        {
            var person = new Somebody(HrRow.New(joins.Groups["who"].Value)) { IsInHr = true };
            person.Row = person.Row with
            {
                Department = joins.Groups["department"].Value.Trim(),
                Kind = joins.Groups["kind"] is { Success: true } kind ? kind.Value : "employee",
                Site = joins.Groups["site"] is { Success: true } site ? site.Value : "harbour",
                Start = Day(joins.Groups["from"] is { Success: true } from ? from.Value : "0"),
                End = joins.Groups["until"] is { Success: true } until ? Day(until.Value) : "",
            };
            _people.Add(joins.Groups["who"].Value, person);
        }
        else if (AlsoJoins().Match(happening) is { Success: true } also)
        {
            var (who, first) = (also.Groups["who"].Value, Of(also).Row);
            _people.Add(
                Second(who),
                new(
                    HrRow.New(who) with
                    {
                        Person = first.Person,
                        Given = first.Given,
                        Family = first.Family,
                        Department = also.Groups["department"].Value.Trim(),
                        Start = Day(also.Groups["from"].Value),
                        End = also.Groups["until"] is { Success: true } until ? Day(until.Value) : "",
                    }
                )
                {
                    IsInHr = true,
                }
            );
        }
        else if (SecondGone().Match(happening) is { Success: true } secondGone)
            _people[Second(secondGone.Groups["who"].Value)].IsInHr = false;
        else if (SecondSays().Match(happening) is { Success: true } secondSays)
        {
            var person = _people[Second(secondSays.Groups["who"].Value)];
            foreach (var (field, value) in Fields(secondSays.Groups["fields"].Value))
                person.Row = With(person.Row, field, value);
        }
        else if (Gone().Match(happening) is { Success: true } gone)
            Of(gone).IsInHr = false;
        else if (Back().Match(happening) is { Success: true } back)
            Of(back).IsInHr = true;
        else if (Says().Match(happening) is { Success: true } says)
            foreach (var (field, value) in Fields(says.Groups["fields"].Value))
                Of(says).Row = With(Of(says).Row, field, value);
        else
            throw new FormatException($"HR cannot say that: {happening}");
    }

    /// <summary>The second employment of somebody, as a row of its own.</summary>
    private static string Second(string who) => $"{who}, the second";

    /// <summary>What somebody does.</summary>
    public async Task DoAsync(string happening)
    {
        if (Decides().Match(happening) is { Success: true } decides)
            await DecideAsync(decides);
        else if (Through().Match(happening) is { Success: true } through)
            await BringThroughAsync((await LatestAsync(through)).Id);
        else if (Ends().Match(happening) is { Success: true } ends)
            await EndAccessAsync(ends);
        else if (Vanished().Match(happening) is { Success: true } vanished)
            await AnswerAsync(vanished);
        else if (Asks().Match(happening) is { Success: true } asks)
            await AskAsync(asks.Groups["user"].Value, asks.Groups["what"].Value);
        else if (Publishes().Match(happening) is { Success: true } publishes)
            await PublishAsync(publishes);
        else if (RollOut().Match(happening) is { Success: true } rollOut)
            await RollOutAsync(rollOut);
        else if (Link().Match(happening) is { Success: true } link)
            await World.OkAsync(
                (await world.SignInAsync(link.Groups["user"].Value)).PostAsJsonAsync(
                    $"/api/v1/requests/{(await LatestAsync(link)).Id}/new-link",
                    new { }
                )
            );
        else if (Lets().Match(happening) is { Success: true } lets)
            await LeaveAsync(lets);
        else if (Outside().Match(happening) is { Success: true } outside)
            await ChangeOutsideAsync(outside.Groups["what"].Value);
        else
            throw new FormatException($"Nobody can do that: {happening}");
    }

    /// <summary>Decides and releases for whoever is asked, until nobody is asked any more.</summary>
    private async Task BringThroughAsync(string id)
    {
        while (true)
        {
            var request = await world.EventuallyAsync(() => world.RequestAsync(id), r => r.Summary.State is not ("planning" or "asked"));
            if (request.Summary.State == "releasing")
                await world.ReleaseAsync(request);
            else if (request.Summary.State == "deciding")
                await ApproveForAnyAsync(request);
            else
                return;
        }
    }

    private async Task ApproveForAnyAsync(RequestDetail request)
    {
        var refused = "";
        foreach (var user in new[] { "mara", "tomas" })
        {
            var client = await world.SignInAsync(user);
            var answer = await client.PostAsJsonAsync(
                $"/api/v1/requests/{request.Summary.Id}/approve",
                new ApproveBody(request.PlanDigest!, null)
            );
            if (answer.IsSuccessStatusCode)
                return;
            refused = await answer.Content.ReadAsStringAsync();
        }
        throw new InvalidOperationException($"Neither mara nor tomas can approve it: {refused}");
    }

    private async Task DecideAsync(Match decides)
    {
        var (user, verb) = (decides.Groups["user"].Value, decides.Groups["verb"].Value);
        var request = await world.RequestAsync((await LatestAsync(decides)).Id);
        var client = await world.SignInAsync(user);
        var path = $"/api/v1/requests/{request.Summary.Id}";
        if (verb is "approves" or "releases")
            request = await world.WaitForAsync(request.Summary.Id, verb == "approves" ? "deciding" : "releasing");
        await World.OkAsync(
            verb switch
            {
                "approves" => client.PostAsJsonAsync($"{path}/approve", new ApproveBody(request.PlanDigest!, null)),
                "releases" => client.PostAsJsonAsync($"{path}/release", new ReleaseBody(request.PlanDigest!)),
                "declines" => client.PostAsJsonAsync($"{path}/decline", new { reason = "as the story goes" }),
                "takes back" => client.PostAsJsonAsync($"{path}/withdraw", new { reason = "as the story goes" }),
                _ => throw new FormatException($"Nobody {verb} a request."),
            }
        );
    }

    private async Task AskAsync(string user, string what)
    {
        var body =
            AsksLeaver().Match(what) is { Success: true } leaver
                ? new NewRequest(
                    "leaver",
                    Of(leaver).Row.Number,
                    "as the story goes",
                    LastDay: leaver.Groups["day"] is { Success: true } last ? DateOn(last.Value) : null,
                    Urgent: leaver.Groups["urgent"].Success ? true : null
                )
            : AsksAccess().Match(what) is { Success: true } access
                ? new NewRequest(
                    access.Groups["kind"].Value,
                    Of(access).Row.Number,
                    "as the story goes",
                    Grants:
                    [
                        new(
                            access.Groups["key"].Value,
                            access.Groups["from"] is { Success: true } from ? Day(from.Value) : null,
                            access.Groups["until"] is { Success: true } until ? Day(until.Value) : null
                        ),
                    ]
                )
            : AsksChange().Match(what) is { Success: true } change
                ? new NewRequest(
                    change.Groups["kind"].Value,
                    Of(change).Row.Number,
                    "as the story goes",
                    Fields(change.Groups["fields"].Value).ToDictionary(f => f.Field, f => f.Value),
                    From: change.Groups["from"] is { Success: true } begins ? Day(begins.Value) : null
                )
            : throw new FormatException($"Nobody can ask that: {what}");
        await World.OkAsync((await world.SignInAsync(user)).PostAsJsonAsync("/api/v1/requests", body));
    }

    private async Task EndAccessAsync(Match ends)
    {
        var person = (await world.GetAsync<Page<PersonSummary>>($"/api/v1/people?text={Of(ends).Row.Family}")).Items.Single();
        await World.OkAsync(
            (await world.SignInAsync(ends.Groups["user"].Value)).PostAsJsonAsync(
                $"/api/v1/people/{person.Id}/access/end",
                new EndAccessBody(ends.Groups["key"].Value, "as the story goes")
            )
        );
    }

    private async Task PublishAsync(Match publishes)
    {
        var rule = (publishes.Groups["title"].Value, publishes.Groups["entitlement"].Value);
        if (publishes.Groups["no"].Success)
            rules.Remove(rule);
        else
            rules.Add(rule);
        var more = string.Concat(rules.Select(r => $"  - to: directory/{r.Entitlement}\n    when: title == \"{r.Title}\"\n"));
        await World.OkAsync(
            (await world.SignInAsync(publishes.Groups["user"].Value)).PostAsJsonAsync(
                "/api/v1/rulebook/editions",
                new RulebookBody(world.Rulebook((path, text) => path == "templates/everyone.yaml" ? text + more : text))
            )
        );
    }

    /// <summary>The newest roll-out is approved as it is shown, or its first wave begins.</summary>
    private async Task RollOutAsync(Match rollOut)
    {
        var number = (await world.GetAsync<Page<RolloutSummary>>("/api/v1/rollouts")).Items.Max(r => r.Number);
        var path = $"/api/v1/rollouts/{number}";
        var client = await world.SignInAsync(rollOut.Groups["user"].Value);
        // Whose list changes while it is read is shown it once more.
        using var answer = await world.EventuallyAsync(
            async () =>
            {
                var shown = await world.GetAsync<RolloutDetail>(path, rollOut.Groups["user"].Value);
                return rollOut.Groups["verb"].Value switch
                {
                    "approves" => await client.PostAsJsonAsync(
                        $"{path}/decide",
                        new RolloutDecideBody("approve", shown.Digest!, null, "as the story goes")
                    ),
                    "begins" => await client.PostAsJsonAsync($"{path}/begin", new RolloutBeginBody(50, null)),
                    _ => await client.PostAsJsonAsync($"{path}/release", new RolloutReasonBody("as the story goes")),
                };
            },
            a => a.IsSuccessStatusCode
        );
    }

    private async Task LeaveAsync(Match lets)
    {
        var person = (await world.GetAsync<Page<PersonSummary>>($"/api/v1/people?text={Of(lets).Row.Family}")).Items.Single();
        await World.OkAsync(
            (await world.SignInAsync(lets.Groups["user"].Value)).PostAsJsonAsync(
                $"/api/v1/people/{person.Id}/findings/leave",
                new LeaveBody(lets.Groups["account"].Value, "as the story goes")
            )
        );
    }

    /// <summary>Somebody says what a vanished record means.</summary>
    private async Task AnswerAsync(Match vanished) =>
        await World.OkAsync(
            (await world.SignInAsync(vanished.Groups["user"].Value)).PostAsJsonAsync(
                $"/api/v1/sources/hr/vanished/{Of(vanished).Row.Number}",
                new { verdict = vanished.Groups["what"].Value }
            )
        );

    private async Task ChangeOutsideAsync(string what)
    {
        await using var ldap = await world.Directory.ConnectAsRootAsync();
        if (OutsideDeletes().Match(what) is { Success: true } deletes)
            await ldap.DeleteAsync((await EntryAsync(ldap, Of(deletes)))!.Dn);
        else if (OutsideAdds().Match(what) is { Success: true } adds && (adds.Groups["another"].Success ? "older-" : "old-") is var name)
            await ldap.AddAsync(
                TestDirectory.Dn(name + Of(adds).Row.Number.ToLowerInvariant()),
                TestDirectory.Person(name + Of(adds).Row.Number.ToLowerInvariant(), Of(adds).Row.Number)
            );
        else if (OutsideGroup().Match(what) is { Success: true } group)
            await ldap.ModifyAsync(
                $"cn={group.Groups["group"].Value},{DirectoryOptions.Groups}",
                [
                    new LdapModification(
                        group.Groups["verb"].Value == "put into" ? LdapChangeKind.Add : LdapChangeKind.Delete,
                        "member",
                        (await EntryAsync(ldap, Of(group)))!.Dn
                    ),
                ]
            );
        else if (OutsideUnlocks().Match(what) is { Success: true } unlocks)
            await ldap.ModifyAsync(
                (await EntryAsync(ldap, Of(unlocks)))!.Dn,
                [new LdapModification(LdapChangeKind.Delete, "pwdAccountLockedTime")]
            );
        else if (OutsideValue().Match(what) is { Success: true } value)
            await ldap.ModifyAsync(
                (await EntryAsync(ldap, Of(value)))!.Dn,
                [new LdapModification(LdapChangeKind.Replace, value.Groups["name"].Value, value.Groups["value"].Value.Trim())]
            );
        else
            throw new FormatException($"Nothing outside does that: {what}");
    }

    /// <summary>What is wrong with a line's end, or null: asked again and again until it is so, or time is up.</summary>
    public async Task<string?> LookAsync(string then)
    {
        if (RequestIs().Match(then) is { Success: true } state)
            return (await FoundAsync(state)) is not { } request ? await NoneAsync(state)
                : request.State == state.Groups["state"].Value ? null
                : $"it is {request.State}: {(await world.RequestAsync(request.Id)).Story.Now}";
        if (NoRequest().Match(then) is { Success: true } none)
            return await FoundAsync(none) is { } found ? $"there is one, {found.State}" : null;
        if (Waits().Match(then) is { Success: true } waits)
            return (await FoundAsync(waits)) is not { } request ? "there is no such request"
                : request.WaitsOn.Split(", ").Contains(waits.Groups["user"].Value) ? null
                : $"it waits for {request.WaitsOn}";
        if (RequestSays().Match(then) is { Success: true } says)
            return await SaysAsync(says);
        if (Effect().Match(then) is { Success: true } effect)
            return await EffectAsync(effect);
        if (Ended().Match(then) is { Success: true } ended)
            return await FoundAsync(ended) is { } over && over.Outcome == ended.Groups["outcome"].Value ? null : await NoneAsync(ended);
        if (Reached().Match(then) is { Success: true } reached)
        {
            if (await FoundAsync(reached) is not { } request)
                return "there is no such request";
            var points = (await world.RequestAsync(request.Id)).Milestones;
            return points.Single(m => m.Title == reached.Groups["point"].Value).Reached == reached.Groups["not"].Success
                ? $"it says: {string.Join(" / ", points.Select(m => $"{m.Title}: {m.Text}"))}"
                : null;
        }
        if (Expects().Match(then) is { Success: true } expects)
        {
            if (await FoundAsync(expects) is not { } request)
                return "there is no such request";
            var point = (await world.RequestAsync(request.Id)).Milestones.Single(m => m.Title == expects.Groups["point"].Value);
            var day = point.At is { } at ? DateOnly.FromDateTime(TimeZoneInfo.ConvertTime(at, StoryTests.Harbour).DateTime) : default;
            return !point.Reached && day == DateOn(expects.Groups["day"].Value) ? null : $"it says: {point.Title} {day}: {point.Text}";
        }
        if (Sees().Match(then) is { Success: true } sees)
        {
            var attention = await world.GetAsync<TodayView>("/api/v1/today", sees.Groups["user"].Value);
            var texts = attention.Attention.Where(a => a.Text.Contains(Of(sees).Row.Family, StringComparison.Ordinal)).Select(a => a.Text);
            return texts.Any(t => t.Contains(sees.Groups["words"].Value, StringComparison.OrdinalIgnoreCase)) == sees.Groups["not"].Success
                ? $"Today says: {string.Join(" / ", attention.Attention.Select(a => a.Text))}"
                : null;
        }
        if (Aside().Match(then) is { Success: true } aside)
        {
            var rows = (await world.GetAsync<Page<SetAside>>("/api/v1/sources/hr/set-aside")).Items;
            return rows.Any(r => r.Key == Of(aside).Row.Number && r.Reason.Contains(aside.Groups["words"].Value, StringComparison.Ordinal))
                ? null
                : $"set aside are: {string.Join(", ", rows.Select(r => $"{r.Key}: {r.Reason}"))}";
        }
        if (Told().Match(then) is { Success: true } told)
            return Mailed(told) != told.Groups["not"].Success ? null : $"there were mails: {string.Join(", ", SubjectsOf(told))}";
        await using var ldap = await world.Directory.ConnectAsync();
        if (SignsIn().Match(then) is { Success: true } signsIn)
            return (await EntryAsync(ldap, Of(signsIn)), signsIn.Groups["how"].Value) switch
            {
                (null, "has no account") => null,
                (null, _) => "there is no account",
                ({ } entry, "can sign in") => IsLocked(entry) ? "it is locked" : null,
                ({ } entry, "cannot sign in") => IsLocked(entry) ? null : "it is open",
                _ => "there is an account",
            };
        if (Member().Match(then) is { Success: true } member)
        {
            var groups = (await EntryAsync(ldap, Of(member)))?.Texts("memberOf").Select(g => LdapDn.Parse(g)[0][0].Value).ToList() ?? [];
            var wrong = member
                .Groups["groups"]
                .Value.Split(", ", StringSplitOptions.TrimEntries)
                .Where(g => groups.Contains(g) == member.Groups["not"].Success)
                .ToList();
            return wrong.Count == 0 ? null : $"groups are: {string.Join(", ", groups)}";
        }
        if (Holds().Match(then) is { Success: true } value)
            return (await EntryAsync(ldap, Of(value)))?.Text(value.Groups["name"].Value) is var held && held == value.Groups["value"].Value
                ? null
                : $"it is '{held}'";
        throw new FormatException($"Nobody can see that: {then}");
    }

    private async Task<string?> SaysAsync(Match says)
    {
        if (await FoundAsync(says) is not { } request)
            return "there is no such request";
        var detail = await world.RequestAsync(request.Id);
        var texts = detail
            .Plan.Select(c => c.Text)
            .Concat([detail.Story.Now, detail.Story.Next, detail.Cause.Text, detail.Summary.Effect ?? ""])
            .ToList();
        return texts.Exists(t => t.Contains(says.Groups["words"].Value, StringComparison.OrdinalIgnoreCase))
            ? null
            : $"it says: {string.Join(" / ", texts)}";
    }

    /// <summary>What the plan of a request says that somebody gains, keeps or loses.</summary>
    private async Task<string?> EffectAsync(Match effect)
    {
        if (await FoundAsync(effect) is not { } request)
            return "there is no such request";
        var told = (await world.RequestAsync(request.Id)).Effect;
        var lines = effect.Groups["side"].Value switch
        {
            "gains" => told.Gained,
            "changes" => told.Changed,
            "keeps" => told.Kept,
            _ => told.Lost,
        };
        return lines.Any(l => $"{l.Title}: {l.Why}".Contains(effect.Groups["words"].Value, StringComparison.OrdinalIgnoreCase))
            ? null
            : $"it says: {string.Join(" / ", lines.Select(l => $"{l.Title}: {l.Why}"))}";
    }

    private IEnumerable<string> SubjectsOf(Match told) =>
        world
            .Mail!.Mails.Where(m => m.To.Contains(told.Groups["user"].Value, StringComparison.Ordinal))
            .Where(m => (m.Subject + m.Body).Contains(Of(told).Row.Family, StringComparison.Ordinal))
            .Select(m => m.Subject);

    private bool Mailed(Match told) =>
        SubjectsOf(told).Any(s => s.Contains(told.Groups["words"].Value, StringComparison.OrdinalIgnoreCase));

    private Somebody Of(Match match) =>
        _people.GetValueOrDefault(match.Groups["who"].Value) ?? throw new FormatException($"Nobody is called {match.Groups["who"].Value}.");

    private async Task<RequestSummary> LatestAsync(Match match) =>
        await world.EventuallyAsync(() => FoundAsync(match), r => r is not null)
        ?? throw new InvalidOperationException($"There is no request: {match.Value}");

    /// <summary>What there is in the place of a request that there is not.</summary>
    private async Task<string> NoneAsync(Match match) =>
        "there is no such request; there are: "
        + string.Join(
            ", ",
            (await world.GetAsync<Page<RequestSummary>>($"/api/v1/requests?text={Of(match).Row.Family}")).Items.Select(r =>
                $"{r.Kind} {r.State} {r.Outcome}"
            )
        );

    /// <summary>The newest request of a kind about a person; null when there is none.</summary>
    private async Task<RequestSummary?> FoundAsync(Match match) =>
        (await world.GetAsync<Page<RequestSummary>>($"/api/v1/requests?text={Of(match).Row.Family}&kind={match.Groups["kind"].Value}"))
            .Items.OrderByDescending(r => r.Number)
            .FirstOrDefault();

    /// <summary>The entry of a person, under whichever of their numbers.</summary>
    private async Task<LdapEntry?> EntryAsync(LdapConnection ldap, Somebody person) =>
        (
            await ldap.SearchAsync(
                new(
                    DirectoryOptions.People,
                    LdapScope.One,
                    LdapFilter.Or([
                        .. _people
                            .Values.Where(p => p.Row.Person == person.Row.Person)
                            .Select(p => LdapFilter.Equal("employeeNumber", p.Row.Number)),
                    ]),
                    "*",
                    "memberOf",
                    "pwdAccountLockedTime"
                )
            )
        ).FirstOrDefault();

    private static bool IsLocked(LdapEntry entry) => entry.Text("pwdAccountLockedTime") is { Length: > 0 };

    private string Day(string day) => DateOn(day).ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);

    private DateOnly DateOn(string day) => first.AddDays(int.Parse(day, CultureInfo.InvariantCulture));

    private IEnumerable<(string Field, string Value)> Fields(string text) =>
        text.Split(", ", StringSplitOptions.TrimEntries)
            .Select(pair => pair.Split('=', 2, StringSplitOptions.TrimEntries))
            .Select(pair => (pair[0], DayNumber().Match(pair[1]) is { Success: true } day ? Day(day.Groups[1].Value) : pair[1]));

    /// <summary>A line break is written as \n, since a line of a table has none.</summary>
    private static string Broken(string value) => value.Replace("\\n", "\n", StringComparison.Ordinal);

    private static HrRow With(HrRow row, string field, string value) =>
        field switch
        {
            "given" => row with { Given = Broken(value) },
            "family" => row with { Family = Broken(value) },
            "department" => row with { Department = value },
            "site" => row with { Site = value },
            "title" => row with { Title = value },
            "kind" => row with { Kind = value },
            "manager" => row with { Manager = value },
            "start" => row with { Start = value },
            "end" => row with { End = value == "none" ? "" : value },
            _ => throw new FormatException($"HR has no field '{field}'."),
        };

    [GeneratedRegex(
        @"^HR: (?<who>\w+) joins (?<department>[A-Z][\w ]*?)(?: as (?<kind>\w+))?(?: at (?<site>\w+))?(?: from day (?<from>\d+))?(?: until day (?<until>\d+))?$"
    )]
    private static partial Regex Joins();

    [GeneratedRegex(@"^HR: (?<who>\w+) also joins (?<department>[A-Z][\w ]*?) from day (?<from>\d+)(?: until day (?<until>\d+))?$")]
    private static partial Regex AlsoJoins();

    [GeneratedRegex(@"^HR: the second employment of (?<who>\w+) is gone from the export$")]
    private static partial Regex SecondGone();

    [GeneratedRegex(@"^HR: the second employment of (?<who>\w+) has (?<fields>.+)$")]
    private static partial Regex SecondSays();

    [GeneratedRegex(@"^(?<user>\w+) ends (?<key>\S+) of (?<who>\w+)$")]
    private static partial Regex Ends();

    [GeneratedRegex(@"^(?<user>\w+) says that (?<who>\w+) (?<what>leaves|stays)$")]
    private static partial Regex Vanished();

    [GeneratedRegex(@"^(?<user>\w+) publishes: (?<title>\w+) gets (?<entitlement>\S+)(?<no> no more)?$")]
    private static partial Regex Publishes();

    [GeneratedRegex(@"^(?<user>\w+) (?<verb>approves|begins|lets) the roll-out(?: pass)?$")]
    private static partial Regex RollOut();

    [GeneratedRegex(@"^(?<user>\w+) has a link sent for the (?<kind>\w+) of (?<who>\w+)$")]
    private static partial Regex Link();

    [GeneratedRegex(@"^(?<user>\w+) lets (?<account>\S+) of (?<who>\w+) stay so$")]
    private static partial Regex Lets();

    [GeneratedRegex(@"^(?<who>\w+) is unlocked$")]
    private static partial Regex OutsideUnlocks();

    [GeneratedRegex(@"^the (?<kind>\w+) of (?<who>\w+) ended (?<outcome>done|partly|needless)$")]
    private static partial Regex Ended();

    [GeneratedRegex(@"^the (?<kind>\w+) of (?<who>\w+) has (?<not>not )?reached (?<point>[\w ]+)$")]
    private static partial Regex Reached();

    [GeneratedRegex(@"^the (?<kind>\w+) of (?<who>\w+) (?<side>gains|changes|keeps|loses) ""(?<words>[^""]+)""$")]
    private static partial Regex Effect();

    [GeneratedRegex(@"^(?<user>\w+) (?<not>does not )?sees? of (?<who>\w+) on Today: ""(?<words>[^""]+)""$")]
    private static partial Regex Sees();

    [GeneratedRegex(@"^the row of (?<who>\w+) is set aside: ""(?<words>[^""]+)""$")]
    private static partial Regex Aside();

    [GeneratedRegex(@"^HR: (?<who>\w+) is gone from the export$")]
    private static partial Regex Gone();

    [GeneratedRegex(@"^HR: (?<who>\w+) is back in the export$")]
    private static partial Regex Back();

    [GeneratedRegex(@"^HR: (?<who>\w+) has (?<fields>.+)$")]
    private static partial Regex Says();

    [GeneratedRegex(@"^(?<user>\w+) (?<verb>approves|declines|releases|takes back) the (?<kind>\w+) of (?<who>\w+)$")]
    private static partial Regex Decides();

    [GeneratedRegex(@"^the (?<kind>\w+) of (?<who>\w+) goes through$")]
    private static partial Regex Through();

    [GeneratedRegex(@"^(?<user>\w+) asks for (?<what>.+)$")]
    private static partial Regex Asks();

    [GeneratedRegex(@"^the leaver of (?<who>\w+)(?: on day (?<day>\d+))?(?<urgent> at once)?$")]
    private static partial Regex AsksLeaver();

    [GeneratedRegex(
        @"^the (?<kind>access|extension) of (?<who>\w+) to (?<key>\S+)(?: from day (?<from>\d+))?(?: until day (?<until>\d+))?$"
    )]
    private static partial Regex AsksAccess();

    [GeneratedRegex(@"^the (?<kind>change|mover) of (?<who>\w+) to (?<fields>.+?)(?: from day (?<from>\d+))?$")]
    private static partial Regex AsksChange();

    [GeneratedRegex(@"^outside, (?<what>.+)$")]
    private static partial Regex Outside();

    [GeneratedRegex(@"^the entry of (?<who>\w+) is deleted$")]
    private static partial Regex OutsideDeletes();

    [GeneratedRegex(@"^there is an(?<another>other)? entry with the number of (?<who>\w+)$")]
    private static partial Regex OutsideAdds();

    [GeneratedRegex(@"^(?<who>\w+) is (?<verb>put into|taken out of) (?<group>\S+)$")]
    private static partial Regex OutsideGroup();

    [GeneratedRegex(@"^the (?<name>\w+) of (?<who>\w+) becomes (?<value>.+)$")]
    private static partial Regex OutsideValue();

    [GeneratedRegex(@"^the (?<kind>\w+) of (?<who>\w+) is (?<state>\w+)$")]
    private static partial Regex RequestIs();

    [GeneratedRegex(@"^there is no (?<kind>\w+) of (?<who>\w+)$")]
    private static partial Regex NoRequest();

    [GeneratedRegex(@"^the (?<kind>\w+) of (?<who>\w+) waits for (?<user>.+)$")]
    private static partial Regex Waits();

    [GeneratedRegex(@"^the (?<kind>\w+) of (?<who>\w+) says ""(?<words>[^""]+)""$")]
    private static partial Regex RequestSays();

    [GeneratedRegex(@"^(?<user>\w+) is (?<not>not )?told of (?<who>\w+): ""(?<words>[^""]+)""$")]
    private static partial Regex Told();

    [GeneratedRegex(@"^(?<who>\w+) (?<how>can sign in|cannot sign in|has no account)$")]
    private static partial Regex SignsIn();

    [GeneratedRegex(@"^(?<who>\w+) is (?<not>not )?in (?<groups>.+)$")]
    private static partial Regex Member();

    [GeneratedRegex(@"^the (?<name>\w+) of (?<who>\w+) reads (?<value>.+)$")]
    private static partial Regex Holds();

    [GeneratedRegex(@"^the (?<kind>\w+) of (?<who>\w+) expects (?<point>[\w ]+) on day (?<day>\d+)$")]
    private static partial Regex Expects();

    [GeneratedRegex(@"^day (\d+)$")]
    private static partial Regex DayNumber();
}
