using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Core;
using Oikonom.Core.Approval;
using Oikonom.Core.Intake;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>What people ask for by hand: checked, previewed, and raised as requests.</summary>
public sealed partial class HandRequests(Store.Store store, EditionBook editions, Sight sight, TimeProvider time)
{
    /// <summary>Every kind of request as people read it, in the order in which a form offers those raised by hand.</summary>
    public static readonly IReadOnlyList<RequestKindWords> Words =
    [
        new(EnumText.Of(RequestKind.Joiner), "Joiner", true),
        new(EnumText.Of(RequestKind.Access), "Access", true),
        new(EnumText.Of(RequestKind.Extension), "Extension", true),
        new(EnumText.Of(RequestKind.Mover), "Mover", true),
        new(EnumText.Of(RequestKind.Leaver), "Leaver", true),
        new(EnumText.Of(RequestKind.Change), "Change", true),
        new(EnumText.Of(RequestKind.Account), "On request", true),
        new(EnumText.Of(RequestKind.Password), "Password", true),
        new(EnumText.Of(RequestKind.Unlock), "Unlock", true),
        new(EnumText.Of(RequestKind.Correction), "Correction", false),
        new(EnumText.Of(RequestKind.Closing), "Closing", false),
        new(EnumText.Of(RequestKind.End), "End of access", false),
    ];

    /// <summary>Kinds that are raised by hand.</summary>
    public static readonly IReadOnlyList<string> Kinds = [.. Words.Where(w => w.IsByHand).Select(w => w.Name)];

    /// <summary>A body made ready: the person it is for, the wish, and what is wrong with it.</summary>
    private sealed record Ready(
        NewRequest Body,
        RequestKind Kind,
        PersonRow? Person,
        Facts? Joiner,
        Wish Wish,
        Recorded? Recorded,
        List<FieldProblem> Problems
    );

    /// <summary>Raises a request. Nothing is changed when something in it is wrong.</summary>
    public async Task<string> RaiseAsync(NewRequest body, ClaimsPrincipal user, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        return await store.WriteAsync(
            async s =>
            {
                var ready = await ReadAsync(s, body, user, edition);
                await RequireAloneAsync(s, ready);
                if (ready.Problems.Count > 0)
                    throw Refused(ready.Problems);
                return await RaiseAsync(s, ready, user, edition);
            },
            cancel
        );
    }

    private static Problem Refused(IReadOnlyList<FieldProblem> problems) =>
        new(
            400,
            "invalid",
            "Not valid",
            string.Join(" ", problems.Select(p => p.Message)),
            ("field", problems[0].Field),
            ("problems", problems)
        );

    private async Task<string> RaiseAsync(Session s, Ready ready, ClaimsPrincipal user, Edition edition, string batch = "")
    {
        var now = time.GetUtcNow();
        var at = now.ToUnixTimeMilliseconds();
        var person = ready.Person?.Id ?? PersonId.New(now).ToString();
        if (ready.Joiner is { } facts)
            await s.UpsertPeopleAsync([Inputs.RowOf(person, Workflow.ByHand, facts, [], "", at)]);
        var kind = ready.Body.Kind;
        var raised = await Raising.RaiseAsync(
            s,
            [
                new(person, kind, Case.DefaultFor(edition, kind).Name, edition.Number, CauseOf(ready, edition))
                {
                    Requester = user.UserName(),
                    Wish = ready.Wish.ToJson(),
                    Batch = batch,
                    Details = [("source", Workflow.ByHand), ("wish", ready.Wish)],
                },
            ],
            now
        );
        return raised[0];
    }

    /// <summary>
    /// A change of somebody's record that sets right why something failed, inside a decision. Whoever may leave out what failed may
    /// ask for it; it is decided like any other change, and its plan brings what is still missing.
    /// </summary>
    /// <returns>The number of the request.</returns>
    /// <exception cref="Problem">400: a value is not valid; another request of the person is open.</exception>
    public async Task<long> SetRightAsync(
        Session s,
        PersonRow person,
        IReadOnlyDictionary<string, string> record,
        string reason,
        ClaimsPrincipal user,
        CancellationToken cancel
    )
    {
        var edition = await editions.CurrentAsync(cancel);
        var (recorded, problems) = (await Recorded.LoadAsync(s, [person.Id]), new List<FieldProblem>());
        var wish = new Wish
        {
            Reason = reason,
            Changes = Changes(record, recorded.Facts(person.Id, edition), edition, problems, needed: true),
        };
        var body = new NewRequest(EnumText.Of(RequestKind.Change), person.Number, reason, record);
        var ready = new Ready(body, RequestKind.Change, person, null, wish, recorded, problems);
        await RequireAloneAsync(s, ready);
        if (problems.Count > 0)
            throw Refused(problems);
        return (await s.RequestAsync(await RaiseAsync(s, ready, user, edition)))!.Number;
    }

    /// <summary>What the request would bring, without reserving a name or a number and without asking a target.</summary>
    public async Task<RequestPreview> PreviewAsync(NewRequest body, ClaimsPrincipal user, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        return await store.ReadAsync(
            async s =>
            {
                var ready = await ReadAsync(s, body, user, edition);
                await RequireAloneAsync(s, ready);
                var open = OpenFields(ready, edition);
                if ((ready.Person is null && ready.Joiner is null) || ready.Problems.Exists(p => p.Field is "kind" or "person"))
                    return new RequestPreview(false, ready.Problems, open, [], [], [], "", [], null, PlanEffects.None);
                var choices = await RuleChoice.OfAsync(editions, body.Kind, ready.Wish, ready.Person?.Edition ?? 0, cancel);
                for (var i = 0; ; i++)
                {
                    try
                    {
                        return await PreviewAsync(s, ready, choices[i], open, edition, user, cancel);
                    }
                    catch (PlanFault) when (i + 1 < choices.Count)
                    {
                        // What the person's own edition cannot do for them, a newer one may.
                    }
                    catch (PlanFault fault)
                    {
                        return new RequestPreview(
                            false,
                            [.. ready.Problems, new("plan", fault.Message)],
                            open,
                            [],
                            [],
                            [],
                            "",
                            [],
                            null,
                            PlanEffects.None
                        );
                    }
                }
            },
            cancel
        );
    }

    /// <summary>What the request would bring under one choice of rules, and who would decide on it by the newest.</summary>
    /// <exception cref="PlanFault">These rules cannot serve the person.</exception>
    private async Task<RequestPreview> PreviewAsync(
        Session s,
        Ready ready,
        Rules rules,
        IReadOnlyList<OpenField> open,
        Edition decides,
        ClaimsPrincipal user,
        CancellationToken cancel
    )
    {
        var (edition, now) = (rules.Edition, time.GetUtcNow());
        var reason = new Reason("request", "", ready.Wish.Reason);
        var before = Before(ready, edition, now);
        var after = ready.Wish.Apply(before, edition.Rulebook, reason, now);
        after = await NamedAsync(s, ready, after, edition, now);
        var (names, former) = (after.AccountNames, after.FormerNames);
        before = before with { AccountNames = names, FormerNames = former };
        Earlier? earlier = null;
        if (rules.Earlier is { } by)
        {
            var old = Before(ready, by, now) with { AccountNames = names, FormerNames = former };
            earlier = new(by, old, Quietly(() => ready.Wish.Apply(old, by.Rulebook, reason, now)) ?? old);
        }
        var plan = ready.Wish.Plan(
            before,
            after,
            ready.Person is null ? AccessState.Nothing : ready.Recorded!.State(ready.Person.Id),
            ready.Person is null ? new Dictionary<AccountKey, string>() : ready.Recorded!.ImmutableIds(ready.Person.Id),
            new Dictionary<AccountKey, ExistingAccount>(),
            edition,
            ready.Kind,
            now,
            earlier
        );
        var veil = ready.Person is null ? new([], null) : await sight.OverAsync(s, user, ready.Person, false, cancel);
        var of = await Case.PreviewAsync(
            s,
            AsIfRaised(ready, user),
            decides,
            plan,
            ready.Person ?? Inputs.RowOf("", "", after.Facts, [], "", 0),
            now
        );
        return new RequestPreview(
            ready.Problems.Count == 0,
            ready.Problems,
            open,
            edition.Rulebook.Access.Ask().TemplatesOf(after),
            [.. plan.Changes.Select(c => veil.Over(RequestViews.View(c, edition, plan)))],
            RequestViews.ItemsOf(of),
            of.Workflow.Title,
            RequestViews.StagesOf(of, null, now),
            plan.Changes.Count == 0 && ready.Problems.Count == 0 ? WhyEmpty(ready.Wish) : null,
            veil.Over(PlanEffects.Of(plan, edition.Rulebook, ready.Wish.Changes.Keys.Any(k => k is BuiltIn.Given or BuiltIn.Family))),
            after.Facts.Site,
            RequestViews.PlaceOf(edition.Rulebook, after.Facts.Site)
        );
    }

    private static string WhyEmpty(Wish wish) =>
        wish.ChangesInputs
            ? "No target would change now. What is asked for is recorded once it is approved."
            : "Nothing would change: what is asked for is so already.";

    /// <summary>Whom it is about as they are; a joiner as they would be recorded.</summary>
    private static Subject Before(Ready ready, Edition by, DateTimeOffset now) =>
        ready switch
        {
            { Joiner: { } facts, Person: { } person } => new(
                PersonId.Parse(person.Id),
                facts,
                ready.Recorded!.Subject(person.Id, by).AccountNames
            ),
            { Joiner: { } facts } => new(PersonId.New(now), facts, new Dictionary<AccountKey, string>()),
            _ => ready.Recorded!.Subject(ready.Person!.Id, by),
        };

    private static RequestRow AsIfRaised(Ready ready, ClaimsPrincipal user) =>
        new()
        {
            Kind = ready.Body.Kind,
            Requester = user.UserName(),
            Source = Workflow.ByHand,
            State = RequestState.Planning,
            Wish = ready.Wish.ToJson(),
            PersonId = ready.Person?.Id ?? "",
        };

    private static Subject? Quietly(Func<Subject> make)
    {
        try
        {
            return make();
        }
        catch (PlanFault)
        {
            return null;
        }
    }

    /// <summary>The person with the names of their accounts: for those they do not have yet, and those that would be renamed, the
    /// first that is free now.</summary>
    private static async Task<Subject> NamedAsync(Session s, Ready ready, Subject person, Edition edition, DateTimeOffset now)
    {
        foreach (var (target, account) in edition.Rulebook.Accounts)
        {
            var wishes = Desired.NameWishes(person, edition, account);
            if (person.AccountNames.TryGetValue(account, out var name))
            {
                if (ready.Person is null || ready.Recorded?.Account(ready.Person.Id, account) is null || !ready.Kind.RenamesAccounts())
                    continue;
                var naming = edition.Rulebook.Access.Ask().Naming(person, account, now);
                if (!naming.IsOutgrown(name, ready.Recorded.NamedFor(ready.Person.Id, account, name), target.Names))
                    continue;
                wishes = naming.Wishes;
            }
            foreach (var batch in AccountNames.Candidates(wishes, target.Names).Take(60).Chunk(20))
            {
                var taken = await s.NamesTakenAsync(target.Name, batch, person.Id.ToString(), account.Slot);
                if (batch.Except(taken).FirstOrDefault() is not { } free)
                    continue;
                person = person.Renamed(account, free);
                break;
            }
        }
        return person;
    }

    private static IReadOnlyList<OpenField> OpenFields(Ready ready, Edition edition)
    {
        var facts =
            ready.Joiner
            ?? (ready.Recorded is not null && ready.Person is not null ? ready.Recorded.Facts(ready.Person.Id, edition) : null);
        if (facts is null || ready.Kind is not (RequestKind.Joiner or RequestKind.Mover or RequestKind.Change))
            return [];
        foreach (var (name, text) in ready.Wish.Changes)
            facts = facts.WithText(name, text, edition.Rulebook.Attributes, out _) ?? facts;
        try
        {
            return
            [
                .. edition
                    .Rulebook.Access.Ask()
                    .Asks(new(PersonId.New(DateTimeOffset.UnixEpoch), facts, new Dictionary<AccountKey, string>()))
                    .Select(a => FieldOf(a, true, edition)),
            ];
        }
        catch (PlanFault)
        {
            // The plan says what is wrong.
            return [];
        }
    }

    public static OpenField FieldOf(string name, bool mandatory, Edition edition) =>
        new(
            name,
            edition.Rulebook.Attributes.TryGet(name, out var slot)
                ? slot.Type.Kind switch
                {
                    Core.Expressions.ValueKind.Date => "date",
                    Core.Expressions.ValueKind.Int => "number",
                    Core.Expressions.ValueKind.Bool => "yes-no",
                    _ => "text",
                }
                : "text",
            mandatory,
            null,
            edition.Rulebook.TitleOf(name)
        );

    /// <summary>Two requests that change the same inputs do not run beside each other.</summary>
    private static async Task RequireAloneAsync(Session s, Ready ready)
    {
        if (ready.Person is null || ready.Kind is RequestKind.Password or RequestKind.Unlock)
            return;
        var wholes = await s.OpenRequestsOfAsync([ready.Person.Id]);
        if (ready.Kind is RequestKind.Mover or RequestKind.Leaver or RequestKind.Change && wholes.FirstOrDefault() is { } open)
            ready.Problems.Add(
                new("person", $"Request {open.Number} ({open.Kind}) for {open.Display} is open; change or withdraw that one.")
            );
        foreach (var other in await s.RequestsPageAsync(new(PersonId: ready.Person.Id, OpenOnly: true)))
        {
            var wish = Wish.FromJson(other.Wish);
            if (ready.Wish.Grants.FirstOrDefault(g => wish.Grants.Any(o => o.Key == g.Key)) is { } same)
                ready.Problems.Add(new("grants", $"Request {other.Number} asks for {same.Key} already."));
            if (ready.Wish.Templates.FirstOrDefault(t => wish.Templates.Any(o => o.Template == t.Template)) is { } template)
                ready.Problems.Add(new("template", $"Request {other.Number} asks for {template.Template} already."));
        }
    }

    private Cause CauseOf(Ready ready, Edition edition)
    {
        var name = ready.Joiner?.DisplayName ?? ready.Person!.Display;
        var wish = ready.Wish;
        var titles = wish.Grants.Select(g => edition.Rulebook.Find(g.Key)!.Title).ToList();
        var text = ready.Kind switch
        {
            RequestKind.Joiner => $"{name} starts on {ready.Joiner!.Text(BuiltIn.Start)} as {ready.Joiner.Text(BuiltIn.Title)}",
            RequestKind.Leaver when wish.Urgent => $"{name} leaves at once",
            RequestKind.Leaver => $"{name} leaves; the last day is {wish.Changes[BuiltIn.End]}",
            RequestKind.Access => $"{name} asks for {string.Join(", ", titles)}",
            RequestKind.Extension => wish.Grants.Count > 0
                ? $"{name} keeps {string.Join(", ", titles)} longer"
                : $"{name} stays until {wish.Changes.GetValueOrDefault(BuiltIn.End)}",
            RequestKind.Password => $"A new password for {name}",
            RequestKind.Unlock => $"{name} is locked out",
            RequestKind.Account => $"{name} asks for {edition.Rulebook.Templates.First(t => t.Name == wish.Templates[0].Template).Title}",
            RequestKind.Mover => wish.From is { } day
                ? $"{name} moves on {TimeZoneInfo.ConvertTime(day, edition.Rulebook.ZoneOf(ready.Person!.Site)):yyyy-MM-dd}"
                : $"{name} moves",
            _ => $"The record of {name} changes by hand",
        };
        var differences = ready.Person is null
            ? []
            : wish
                .Changes.Select(c => new AttributeChange(
                    c.Key,
                    Known(c.Key) is { Length: > 0 } was ? [was] : [],
                    c.Value.Length > 0 ? [c.Value] : []
                ))
                .ToList();
        return new(wish.Reason.Length > 0 ? $"{text}: {wish.Reason}" : text, null, null, differences);

        string Known(string attribute) => ready.Recorded!.Facts(ready.Person!.Id, edition).Text(attribute);
    }

    /// <summary>A wish with some of its fields changed.</summary>
    public async Task<Func<Wish, Wish>> ChangeAsync(ChangeBody body, string personId, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        var recorded = await store.ReadAsync(s => Recorded.LoadAsync(s, [personId]), cancel);
        var facts = recorded.Facts(personId, edition);
        var problems = new List<FieldProblem>();
        var record = new Dictionary<string, string>(body.Record ?? new Dictionary<string, string>());
        if (body.LastDay is { } last)
            record[BuiltIn.End] = last;
        var changes = record.Count == 0 ? null : Changes(record, facts, edition, problems, needed: false);
        var grants = body.Grants is { Count: > 0 } ? Grants(body.Grants, facts, edition, problems) : null;
        var templates = body
            .Templates?.Distinct(StringComparer.Ordinal)
            .Select(name => (Name: name, Found: OnRequest(name, edition, problems)))
            .Where(t => t.Found)
            .Select(t => t.Name)
            .ToList();
        if (problems.Count > 0)
            throw Refused(problems);
        return wish =>
        {
            var merged = new SortedDictionary<string, string>(wish.Changes, StringComparer.Ordinal);
            foreach (var name in record.Keys)
            {
                if (changes!.TryGetValue(name, out var value))
                    merged[name] = value;
                else
                    merged.Remove(name);
            }
            if (grants?.Find(g => !wish.Grants.Any(w => w.Key == g.Key)) is { } foreign)
                throw Problem.Invalid($"The request does not ask for {foreign.Key}.", "grants");
            return wish with
            {
                Changes = merged,
                Grants = grants is null ? wish.Grants : [.. wish.Grants.Select(w => grants.Find(g => g.Key == w.Key) ?? w)],
                Templates = templates is null
                    ? wish.Templates
                    : [.. templates.Select(name => wish.Templates.FirstOrDefault(t => t.Template == name) ?? new(name, null, null))],
                Urgent = body.Urgent ?? wish.Urgent,
                Reason = body.Reason ?? wish.Reason,
            };
        };
    }

    /// <summary>The names of the fields in which two wishes differ, as the rulebook's <c>may-change</c> names them.</summary>
    public static IReadOnlyList<string> Touched(Wish before, Wish after)
    {
        var fields = before
            .Changes.Keys.Union(after.Changes.Keys)
            .Where(k => before.Changes.GetValueOrDefault(k) != after.Changes.GetValueOrDefault(k))
            .ToList();
        if (!before.Grants.SequenceEqual(after.Grants))
            fields.Add("until");
        if (!before.Templates.SequenceEqual(after.Templates))
            fields.Add("templates");
        if (before.Urgent != after.Urgent)
            fields.Add("urgent");
        if (before.Reason != after.Reason)
            fields.Add("reason");
        return fields;
    }

    /// <summary>Raises, or only looks at, one request for each row of a delimited file whose header names kind, person, reason
    /// and the other fields.</summary>
    public async Task<BulkAnswer> BulkAsync(BulkBody body, ClaimsPrincipal user, CancellationToken cancel)
    {
        if (body.Csv is not { Length: > 0 and <= 5_000_000 })
            throw Problem.Invalid("Give the text of a delimited file of 5 MB at most.", "csv");
        var edition = await editions.CurrentAsync(cancel);
        var rows = BulkFile.WithoutDoubles(BulkFile.Read(body.Csv, edition.Rulebook));
        if (body.Whole == true && body.DryRun != true)
            return await WholeAsync(rows, body, user, edition, cancel);
        var outcomes = new List<BulkRow>();
        // A look takes no write: nobody else waits for it.
        foreach (var row in rows)
            outcomes.Add(
                body.DryRun == true
                    ? await store.ReadAsync(s => RowAsync(s, row, body, user, edition, ""), cancel)
                    : await store.WriteAsync(s => RowAsync(s, row, body, user, edition, ""), cancel)
            );
        return new(outcomes.Count, outcomes.Count(o => o.Sound), outcomes.Count(o => o.Id is not null), outcomes);
    }

    /// <summary>All rows in one decision, as one file; none when one of them is not sound.</summary>
    private async Task<BulkAnswer> WholeAsync(
        IReadOnlyList<(int Line, NewRequest? Request, string? Fault)> rows,
        BulkBody body,
        ClaimsPrincipal user,
        Edition edition,
        CancellationToken cancel
    )
    {
        var outcomes = new List<BulkRow>();
        try
        {
            await store.WriteAsync(
                async s =>
                {
                    outcomes.Clear();
                    var batch = Guid.CreateVersion7(time.GetUtcNow()).ToString();
                    foreach (var row in rows)
                        outcomes.Add(await RowAsync(s, row, body, user, edition, batch));
                    if (outcomes.Exists(o => !o.Sound))
                        throw Problem.Conflict("not-sound", "Not every row is sound.");
                },
                cancel
            );
        }
        catch (Problem refused) when (refused.Code == "not-sound")
        {
            // Nothing was written: the file is raised whole or not at all.
            outcomes =
            [
                .. outcomes.Select(o =>
                    o with
                    {
                        Id = null,
                        Number = null,
                        Message = o.Sound ? $"Sound, and not raised: the file is raised whole or not at all. {o.Message}" : o.Message,
                    }
                ),
            ];
        }
        return new(outcomes.Count, outcomes.Count(o => o.Sound), outcomes.Count(o => o.Id is not null), outcomes);
    }

    /// <summary>What a row asks for, with its values and its days.</summary>
    private string Told(Ready ready, Edition edition)
    {
        var cause = CauseOf(ready, edition);
        var values = cause.Differences.Select(d =>
            $"{edition.Rulebook.TitleOf(d.Name)} {string.Join(", ", d.Before.DefaultIfEmpty("nothing"))} → "
            + $"{string.Join(", ", d.After.DefaultIfEmpty("nothing"))}"
        );
        var terms = ready.Wish.Grants.Select(g => (g.From, g.Until)).Concat(ready.Wish.Templates.Select(t => (t.From, t.Until))).Distinct();
        var zone = edition.Rulebook.ZoneOf(ready.Person?.Site ?? ready.Joiner?.Text(BuiltIn.Site) ?? "");
        // What ends with a day ends at the midnight after it.
        var days = terms
            .Select(t =>
                (t.From is { } from ? $"from {TimeZoneInfo.ConvertTime(from, zone):yyyy-MM-dd} " : "")
                + (t.Until is { } until ? $"until {TimeZoneInfo.ConvertTime(until.AddSeconds(-1), zone):yyyy-MM-dd}" : "")
            )
            .Select(t => t.Trim())
            .Where(t => t.Length > 0);
        return string.Join("; ", [cause.Text, .. values, .. days]);
    }

    /// <summary>Raises one row, or only looks at it, inside a decision. A row that is not sound writes nothing.</summary>
    private async Task<BulkRow> RowAsync(
        Session s,
        (int Line, NewRequest? Request, string? Fault) row,
        BulkBody body,
        ClaimsPrincipal user,
        Edition edition,
        string batch
    )
    {
        var (line, request, fault) = row;
        if (fault is not null)
            return new(line, request?.Kind ?? "", request?.Person ?? "", false, fault, null, null);
        var asked = request! with { Reason = request.Reason ?? body.Reason };
        try
        {
            var ready = await ReadAsync(s, asked, user, edition);
            await RequireAloneAsync(s, ready);
            if (ready.Problems.Count > 0)
                throw Refused(ready.Problems);
            var name = asked.Person ?? asked.Record?.GetValueOrDefault(BuiltIn.Family) ?? "";
            if (body.DryRun == true)
                return new(line, asked.Kind, name, true, Told(ready, edition), null, null);
            var made = await RaiseAsync(s, ready, user, edition, batch);
            return new(line, asked.Kind, name, true, Told(ready, edition), made, (await s.RequestAsync(made))?.Number);
        }
        catch (Problem problem)
        {
            return new(line, asked.Kind, asked.Person ?? "", false, problem.Message, null, null);
        }
    }
}
