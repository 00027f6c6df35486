using System.Globalization;
using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.People;

public static class PeopleEndpoints
{
    public static void MapPeople(this RouteGroupBuilder api)
    {
        api.MapGet(
                "/people",
                async (
                    Store.Store store,
                    PeopleIndex index,
                    ClaimsPrincipal user,
                    CancellationToken cancel,
                    string? text,
                    string? site,
                    string? department,
                    string? after,
                    int? limit
                ) =>
                {
                    var size = Paging.Limit(limit);
                    var (key, id) =
                        after is null ? ("", "")
                        : after.LastIndexOf('|') is var bar and >= 0 ? (after[..bar], after[(bar + 1)..])
                        : throw Problem.Invalid("The cursor 'after' is the 'next' of the page before.", "after");
                    var ids = await index.FindAsync(
                        Paging.Text(text),
                        site ?? "",
                        department ?? "",
                        key,
                        id,
                        size + 1,
                        user.ReachOf(),
                        cancel
                    );
                    var found = (await store.ReadAsync(s => s.PeopleByIdAsync(ids), cancel)).ToDictionary(p => p.Id);
                    var rows = ids.Where(found.ContainsKey).Select(i => found[i]).ToList();
                    return new Page<PersonSummary>(
                        [.. rows.Take(size).Select(Summary)],
                        rows.Count > size ? $"{rows[size - 1].SearchKey}|{rows[size - 1].Id}" : null
                    );
                }
            )
            .WithName("listPeople")
            .WithSummary(
                "People in order of family name. Filters: text (words, each any part of a name in any script, with or without "
                    + "accents, of the number or of an account name), site, department."
            )
            .RequireAuthorization("read")
            .Reaching(Reached.Filtered);
        MapOne(api);
    }

    private static void MapOne(RouteGroupBuilder api)
    {
        api.MapGet("/people/{id}/explain", ExplainAsync)
            .WithName("explainPerson")
            .WithSummary(
                "Why a person has, or has not, an account or entitlement ('of': target, or target/entitlement): the rule, its "
                    + "conditions and the values. Without 'of', all of them."
            )
            .RequireAuthorization("read")
            .Reaching(Reached.Person);
        api.MapGet("/people/{id}", DetailAsync)
            .WithName("getPerson")
            .WithSummary("One person: record, accounts, grants, requests, and what is scheduled. The id may be the employee number.")
            .RequireAuthorization("read")
            .Reaching(Reached.Person);
    }

    /// <summary>Why the person has, or has not, one thing; without a name, everything they have or could have.</summary>
    private static async Task<PersonExplanation> ExplainAsync(
        string id,
        string? of,
        ClaimsPrincipal user,
        Store.Store store,
        Sight sight,
        EditionBook editions,
        TimeProvider time,
        CancellationToken cancel
    )
    {
        var (row, recorded, veil) = await store.ReadAsync(
            async s =>
            {
                var found = await s.RequirePersonAsync(id);
                return (found, await Recorded.LoadAsync(s, [found.Id]), await sight.OverAsync(s, user, found, false, cancel));
            },
            cancel
        );
        var now = time.GetUtcNow();
        var (newest, edition) = (await editions.CurrentAsync(cancel), await editions.OnAsync(row.Edition, cancel));
        var rollout = edition == newest ? null : await store.ReadAsync(s => s.OpenRolloutOfAsync(row.Id), cancel);
        var subject = recorded.Subject(row.Id, edition);
        var held = recorded.State(row.Id);
        var keys = new[] { edition, newest }.SelectMany(e => KeysOf(e.Rulebook)).Distinct().ToList();
        if (of is { Length: > 0 })
            keys = keys.Contains(of)
                ? [of]
                : throw Problem.NotFound(
                    $"account or entitlement '{of}' in the rulebook",
                    $"Name a target, or target/entitlement.{Core.Expressions.Nearest.Hint(of, keys)}"
                );
        try
        {
            return new(row.Id, row.Number, row.Display, edition.Number, newest.Number, now, [.. keys.Select(Look)]);
        }
        catch (PlanFault fault)
        {
            throw new Problem(422, "cannot-plan", "Cannot be worked out", fault.Message);
        }

        ExplanationView Look(string key)
        {
            var entitlement = EntitlementKey.TryParse(key, out var named) ? named : null;
            var knows = KeysOf(edition.Rulebook).Contains(key);
            var found = knows
                ? ExplanationOf(subject, edition, key, entitlement, now)
                : new Explanation(key, false, $"Edition {edition.Number}, which {row.Display} is on, does not know it.", []);
            var title =
                (knows ? edition : newest).Rulebook is var by && entitlement is null
                    ? by.TitleOf(AccountKey.Parse(key))
                    : entitlement!.Account.Titled(by.Find(entitlement)!.Title);
            return new(
                key,
                title,
                found.Wanted,
                entitlement is null ? held.Accounts.ContainsKey(AccountKey.Parse(key)) : held.Grants.ContainsKey(entitlement),
                found.Summary,
                [.. found.Rules.Select(r => View(r, veil))],
                edition == newest ? null : Elsewhere(recorded, row, newest, key, entitlement, found.Wanted, rollout, now)
            );
        }
    }

    private static IEnumerable<string> KeysOf(Core.Rulebook.Rulebook rulebook) =>
        rulebook
            .Targets.Values.SelectMany(t => t.Entitlements.Keys.Select(e => $"{t.Name}/{e}").Prepend(t.Name))
            .Concat(rulebook.Targets.Keys.SelectMany(rulebook.AccountsIn).Where(a => !a.IsOrdinary).Select(a => a.ToString()))
            .Concat(
                rulebook.Templates.SelectMany(t => t.Grants).Where(g => !g.Key.Account.IsOrdinary).Select(g => g.Key.ToString()).Distinct()
            );

    private static Explanation ExplanationOf(
        Subject subject,
        Edition edition,
        string key,
        EntitlementKey? entitlement,
        DateTimeOffset now
    ) =>
        entitlement is null
            ? Explain.Account(subject, edition, AccountKey.Parse(key), now)
            : Explain.Grant(subject, edition, entitlement, now);

    /// <summary>What the newest edition would do otherwise than the one the person is on, and what brings it; null when nothing.</summary>
    private static string? Elsewhere(
        Recorded recorded,
        PersonRow row,
        Edition newest,
        string key,
        EntitlementKey? entitlement,
        bool wanted,
        RolloutRow? rollout,
        DateTimeOffset now
    )
    {
        bool there;
        try
        {
            there =
                KeysOf(newest.Rulebook).Contains(key)
                && ExplanationOf(recorded.Subject(row.Id, newest), newest, key, entitlement, now).Wanted;
        }
        catch (PlanFault fault)
        {
            return $"On edition {row.Edition}; edition {newest.Number} cannot serve {row.Display}: {fault.Message}";
        }
        if (there == wanted)
            return null;
        var brings = rollout is null ? "no roll-out brings it yet" : $"roll-out {rollout.Number}";
        return $"On edition {row.Edition}; edition {newest.Number} would {(there ? "give" : "take")} it: {brings}";
    }

    private static PersonSummary Summary(PersonRow row) =>
        new(
            row.Id,
            row.Number,
            row.Display,
            row.Kind,
            row.Department,
            row.Site,
            row.Title,
            Day(row.StartDay),
            row.EndDay is { } end ? Day(end) : null
        );

    private static DateOnly Day(string text) => DateOnly.ParseExact(text, "yyyy-MM-dd", CultureInfo.InvariantCulture);

    private static RuleView View(RuleLook rule, Veil veil) =>
        new(
            rule.Template,
            rule.Place,
            rule.Employment,
            rule.Applies,
            [
                .. rule.Conditions.Select(c => new ConditionView(
                    c.Text,
                    c.Holds,
                    [.. c.Values.Select(v => veil.Over(new AttributeValue(v.Key, v.Value)))]
                )),
            ]
        );

    private static async Task<PersonDetail> DetailAsync(
        string id,
        ClaimsPrincipal user,
        Store.Store store,
        Sight sight,
        EditionBook editions,
        TimeProvider time,
        CancellationToken cancel
    )
    {
        var newest = await editions.CurrentOrNullAsync(cancel);
        return await store.SnapshotAsync(
            async s =>
            {
                var row = await s.RequirePersonAsync(id);
                var edition = newest is null ? null : await editions.OnAsync(row.Edition, cancel);
                var recorded = await Recorded.LoadAsync(s, [row.Id]);
                var grants = await s.GrantsAsync([row.Id], past: true);
                var requests = await s.RequestsPageAsync(new(PersonId: row.Id));
                var manager = row.Manager.Length > 0 ? await s.PersonByNumberAsync(row.Manager) : null;
                var facts = Facts.FromJson(row.Facts, newest?.Rulebook.Attributes ?? new(BuiltIn.Attributes));
                var site = edition?.Rulebook.Sites.GetValueOrDefault(row.Site);
                Term? term = edition is null ? null : Term.Of(facts, edition.Rulebook);
                var veil = await sight.OverAsync(s, user, row, false, cancel);
                var forgotten = await s.ForgottenAsync(row.Id);
                var scheduled = await ScheduledAsync(s, requests);
                var now = time.GetUtcNow();
                var windows = edition is null ? null : Quietly(recorded.Subject(row.Id, edition), edition);
                scheduled = [.. scheduled.Where(x => WillRun(x.Due, x.Change, windows, recorded.State(row.Id), scheduled))];
                var ends = Ends(scheduled, windows, now);
                return veil.Over(
                    new PersonDetail
                    {
                        Id = row.Id,
                        Number = row.Number,
                        Name = row.Display,
                        Kind = row.Kind,
                        Department = row.Department,
                        Site = row.Site,
                        SiteTitle = site?.Title ?? row.Site,
                        Zone = site?.Zone.Id ?? "UTC",
                        Title = row.Title,
                        Start = Day(row.StartDay),
                        End = row.EndDay is { } last ? Day(last) : null,
                        TermStart = term?.Start ?? DateTimeOffset.MinValue,
                        TermEnd = term is { End: var over } && over < DateTimeOffset.MaxValue ? over : null,
                        Source = row.Source,
                        ManagerName = manager?.Display,
                        ManagerId = manager?.Id,
                        Record = [.. facts.Values.Select(v => new AttributeValue(v.Key, v.Value.ToString()))],
                        Accounts = [.. recorded.Accounts(row.Id).Select(a => View(a, windows, now))],
                        Grants = [.. grants.Select(g => View(g, edition, newest, ends, user, row))],
                        Requests = [.. requests.Select(RequestViews.Summary)],
                        Scheduled = [.. scheduled.Select(x => View(x, edition))],
                        ForgottenAt = forgotten?.At.ToInstant(),
                        ForgottenBy = forgotten?.Rule,
                        Edition = row.Edition > 0 ? (int)row.Edition : null,
                        NewestEdition = newest?.Number,
                        Findings = [.. recorded.Findings(row.Id).Select(f => FindingEndpoints.View(f, newest, user, row))],
                    }
                );
            },
            cancel
        );
    }

    private static ScheduledChange View((DateTimeOffset Due, Change Change, RequestRow Request) step, Edition? edition) =>
        new(step.Due, RequestViews.View(step.Change, edition).Text, step.Request.Id, step.Request.Number);

    private static AccountView View(AccountRow account, AccessWindows? windows, DateTimeOffset now) =>
        new(
            account.Target,
            account.Slot,
            account.Name,
            account.Location,
            account.ImmutableId,
            account.Enabled == 1,
            account.CreatedAt.ToInstant(),
            [
                .. Recorded
                    .Attributes(account.Attributes)
                    .OrderBy(x => x.Key, StringComparer.Ordinal)
                    .Select(x => new AttributeValue(x.Key, string.Join(", ", x.Value))),
            ],
            Reason(account.Reason),
            account.Enabled == 1 && windows?.AwakeUntil(Recorded.KeyOf(account), now) is { } end && end < DateTimeOffset.MaxValue
                ? end
                : null
        );

    private static GrantView View(
        GrantRow grant,
        Edition? edition,
        Edition? newest,
        Func<EntitlementKey, DateTimeOffset?> ends,
        ClaimsPrincipal user,
        PersonRow row
    ) =>
        new(
            grant.Target,
            grant.Slot,
            grant.Entitlement,
            edition?.Rulebook.Targets.GetValueOrDefault(grant.Target)?.Entitlements.GetValueOrDefault(grant.Entitlement)?.Title
                ?? grant.Entitlement,
            grant.FromAt.ToInstant(),
            grant.UntilAt.ToInstant() ?? ends(Recorded.KeyOf(grant)),
            Reason(grant.Reason),
            grant.UntilAt is null && HandRequests.MayEnd(user, row, (newest ?? edition)?.Rulebook.Find(Recorded.KeyOf(grant)))
        );

    /// <summary>Changes that were approved and lie ahead, in order.</summary>
    private static async Task<IReadOnlyList<(DateTimeOffset Due, Change Change, RequestRow Request)>> ScheduledAsync(
        Session s,
        IReadOnlyList<RequestRow> requests
    )
    {
        var scheduled = new List<(DateTimeOffset Due, Change Change, RequestRow Request)>();
        foreach (var request in requests.Where(r => r.State is RequestState.Fulfilling or RequestState.Completed))
        {
            foreach (var step in (await s.StepsOfAsync(request.Id)).Where(x => x.State == StepState.Pending))
            {
                var change = JsonSerializer.Deserialize<Change>(step.Change, JsonSerializerOptions.Web)!;
                if (change is not Change.Verify)
                    scheduled.Add((step.DueAt.ToInstant(), change, request));
            }
        }
        return [.. scheduled.OrderBy(x => x.Due)];
    }

    /// <summary>
    /// False for a removal that its second look will drop: what is still wanted then, since it was extended, and what is
    /// neither held nor given before, since it was ended early.
    /// </summary>
    private static bool WillRun(
        DateTimeOffset due,
        Change change,
        AccessWindows? windows,
        AccessState held,
        IReadOnlyList<(DateTimeOffset Due, Change Change, RequestRow Request)> scheduled
    ) =>
        change is not Change.Revoke revoke
        || windows is null
        || (
            !windows.At(due).Grants.ContainsKey(revoke.Taken)
            && (
                held.Grants.ContainsKey(revoke.Taken)
                || scheduled.Any(x => x.Due < due && x.Change is Change.Grant grant && grant.Given == revoke.Taken)
            )
        );

    /// <summary>When a grant that is held will end: by a step that is scheduled, else by the rules; null when no end is known.</summary>
    private static Func<EntitlementKey, DateTimeOffset?> Ends(
        IReadOnlyList<(DateTimeOffset Due, Change Change, RequestRow Request)> scheduled,
        AccessWindows? windows,
        DateTimeOffset now
    )
    {
        var steps = scheduled
            .Where(x => x.Change is Change.Revoke)
            .GroupBy(x => x.Change.Entitlement!)
            .ToDictionary(g => g.Key, g => g.First().Due);
        return key =>
        {
            var byRule = windows?.HeldUntil(key, now);
            if (byRule == DateTimeOffset.MaxValue)
                return null;
            return byRule ?? (steps.TryGetValue(key, out var due) ? due : null);
        };
    }

    /// <summary>A person whom the edition cannot serve has no windows; their requests say why.</summary>
    private static AccessWindows? Quietly(Subject person, Edition edition)
    {
        try
        {
            return Desired.Windows(person, edition);
        }
        catch (PlanFault)
        {
            return null;
        }
    }

    private static ReasonView Reason(string json)
    {
        var reason = Recorded.ReasonOf(json);
        return new(reason.Rule, reason.Place, reason.Condition);
    }
}
