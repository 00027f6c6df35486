using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Notices;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Planning;

/// <summary>
/// The one schedule: each person has a next instant at which what they should have may change. When it comes, the
/// function is asked with the inputs as they are then. What was approved runs as steps of its request; access whose
/// written end has come is taken away here, whoever did not decide in time. What would give more and was not approved with
/// an earlier plan becomes a request of its own, which people decide.
/// </summary>
public sealed partial class InstantLoop(
    Store.Store store,
    EditionBook editions,
    StageEntry stages,
    RequestDesk requests,
    Notifier notices,
    Pressure pressure,
    TimeProvider time,
    Pulse pulse,
    ILogger<InstantLoop> log
) : Loop(TimeSpan.FromSeconds(1), pulse, log)
{
    private const int Batch = 200;

    /// <summary>People who could not be dealt with, and since when their ends count all the same.</summary>
    private readonly Dictionary<string, long> _atFault = [];

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        if (pressure.IsHigh || await editions.CurrentOrNullAsync(cancel) is not { } newest)
            return false;
        var now = time.GetUtcNow();
        var due = await store.ReadAsync(s => s.DuePeopleAsync(now.ToUnixTimeMilliseconds(), Batch), cancel);
        if (due.Count == 0)
            return false;
        var ids = due.Select(d => d.Id).ToList();
        var (recorded, underWay, elsewhere) = await store.ReadAsync(
            async s =>
                (
                    await Recorded.LoadAsync(s, ids),
                    UnderWay(await s.RemovalsDueAsync(ids, now.ToUnixTimeMilliseconds())),
                    await s.PlannedElsewhereAsync(ids)
                ),
            cancel
        );
        await EachAsync(elsewhere, request => ReplanAsync(request, cancel), (_, _) => Task.CompletedTask);
        var quiet = new List<(string, long, long?)>();
        await EachAsync(
            due,
            async person =>
            {
                var since = Math.Min(person.NextAt, _atFault.GetValueOrDefault(person.Id, long.MaxValue)).ToInstant();
                var edition = await editions.OnAsync(recorded.Person(person.Id).Edition, cancel);
                var next = LookAt(person.Id, recorded, underWay, newest, edition, since, now, out var acts);
                if (!acts || !await ActAsync(person.Id, person.Looks, since, newest, edition, cancel))
                    quiet.Add((person.Id, person.Looks, next?.ToUnixTimeMilliseconds()));
                _atFault.Remove(person.Id);
            },
            (person, _) =>
            {
                // Somebody at fault is looked at again later, and no end is lost by that; the others go on.
                _atFault.TryAdd(person.Id, person.NextAt);
                quiet.Add((person.Id, person.Looks, now.AddMinutes(10).ToUnixTimeMilliseconds()));
                return Task.CompletedTask;
            }
        );
        await store.WriteAsync(s => s.SetNextAsync(quiet), cancel);
        return due.Count == Batch;
    }

    private static HashSet<(string, string)> UnderWay(IReadOnlyList<(string PersonId, string Change)> rows) =>
        [.. rows.Select(r => (r.PersonId, JsonSerializer.Deserialize<Change>(r.Change, JsonSerializerOptions.Web)!.Key))];

    /// <summary>The next instant of a person, and whether something is to be done now.</summary>
    private static DateTimeOffset? LookAt(
        string id,
        Recorded recorded,
        HashSet<(string, string)> underWay,
        Edition newest,
        Edition edition,
        DateTimeOffset since,
        DateTimeOffset now,
        out bool acts
    )
    {
        var inputs = recorded.Inputs(id, newest);
        var state = recorded.State(id);
        acts = false;
        if (!inputs.HasHandMade && state.Accounts.Count == 0 && state.Grants.Count == 0)
            return null;
        var subject = recorded.Subject(id, edition, ReferenceEquals(edition, newest) ? inputs : null);
        AccessWindows windows;
        try
        {
            windows = Desired.Windows(subject, edition);
        }
        catch (PlanFault)
        {
            // The edition cannot serve the person: their next request says why, and another edition looks again.
            return null;
        }
        acts =
            IsShownOtherwise(recorded.Person(id), inputs, newest, now)
            || Over(recorded, id, state, windows, underWay, edition, since, now).Count > 0
            || Planner.Begun(windows, state, since, now).Count > 0;
        return windows.NextAfter(now);
    }

    private static bool IsShownOtherwise(PersonRow row, Inputs inputs, Edition edition, DateTimeOffset now) =>
        inputs.HasHandMade
        && inputs.Row(row.Id, row.Source, edition.Rulebook, now) is var shown
        && (shown.Facts != row.Facts || shown.Others != row.Others);

    /// <summary>What has come to its written end, is still recorded as there, and is taken away by no step.</summary>
    private static IReadOnlyList<Change> Over(
        Recorded recorded,
        string id,
        AccessState state,
        AccessWindows windows,
        HashSet<(string, string)> underWay,
        Edition edition,
        DateTimeOffset since,
        DateTimeOffset now
    ) =>
        Planner.Over(
            windows,
            state,
            recorded.ImmutableIds(id),
            edition.Rulebook,
            since,
            now,
            change => underWay.Contains((id, change.Key))
        );

    /// <summary>Who was put on another edition has their open requests planned anew by it.</summary>
    private Task ReplanAsync(string id, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                if (
                    await s.RequestAsync(id, forUpdate: true)
                        is { State: RequestState.Deciding or RequestState.Asked or RequestState.Releasing } row
                    && await s.EditionOfAsync(row.PersonId) is var on
                    && on != row.OnEdition
                )
                    await requests.ReplanAsync(s, row, $"{row.Display} was put on edition {on} of the rulebook");
            },
            cancel
        );

    /// <summary>Does what has come; false when there is nothing to do after all.</summary>
    private Task<bool> ActAsync(string id, long looks, DateTimeOffset since, Edition newest, Edition edition, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                if (!await s.IsAsLookedAtAsync(id, looks))
                    return false;
                var now = time.GetUtcNow();
                var recorded = await Recorded.LoadAsync(s, [id]);
                var row = recorded.Person(id);
                var inputs = recorded.Inputs(id, newest);
                var isShown = IsShownOtherwise(row, inputs, newest, now);
                // An attribute that was approved for a term begins or ends: lists show it from now on.
                if (isShown)
                    row = await inputs.ShowAsync(s, row, newest.Rulebook, "oikonom", null, now, ("because", "its day has come"));
                var (windows, state) = (Desired.Windows(recorded.Subject(id, edition), edition), recorded.State(id));
                var over = Over(
                    recorded,
                    id,
                    state,
                    windows,
                    UnderWay(await s.RemovalsDueAsync([id], now.ToUnixTimeMilliseconds())),
                    edition,
                    since,
                    now
                );
                if (over.Count > 0)
                    await EndAsync(s, row, over, newest, edition, now);
                var begun = await UndecidedAsync(s, id, Planner.Begun(windows, state, since, now));
                if (begun.Count > 0)
                    await AskAsync(s, row, begun, newest, edition, now);
                // What was done raised the count: the person is looked at once more, and then has a next instant.
                return isShown || over.Count > 0;
            },
            cancel
        );

    /// <summary>Of what has begun, what no step gives and no open request of the person is about.</summary>
    private static async Task<IReadOnlyList<string>> UndecidedAsync(Session s, string id, IReadOnlyList<string> begun)
    {
        if (begun.Count == 0 || (await s.OpenRequestsOfAsync([id])).Count > 0)
            return [];
        var given = (await s.GivenAheadAsync(id))
            .Select(c => JsonSerializer.Deserialize<Change>(c, JsonSerializerOptions.Web)!.Key)
            .ToHashSet();
        return [.. begun.Where(b => !given.Contains(b))];
    }

    /// <summary>Lets people decide about what has begun by the rules and was approved with no plan.</summary>
    private async Task AskAsync(
        Session s,
        PersonRow person,
        IReadOnlyList<string> begun,
        Edition newest,
        Edition edition,
        DateTimeOffset now
    )
    {
        var titles = begun.Select(b =>
            EntitlementKey.TryParse(b, out var key)
                ? edition.Rulebook.Find(key)?.Title ?? b
                : $"the account in {edition.Rulebook.TitleOf(AccountKey.Parse(b))}"
        );
        var cause = $"By the rules {person.Display} has {string.Join(", ", titles)} from now on, and nobody has decided about it";
        await Raising.RaiseAsync(
            s,
            [
                new(person.Id, "change", Case.DefaultFor(newest, "change").Name, newest.Number, cause)
                {
                    Details = [("what", "begun"), ("edition", edition.Number)],
                },
            ],
            now
        );
        LogBegun(log, person.Number, begun.Count);
    }

    /// <summary>Takes away what is over, as a request of its own that needs nobody's decision; who answers for the person is
    /// told.</summary>
    private async Task EndAsync(
        Session s,
        PersonRow person,
        IReadOnlyList<Change> over,
        Edition newest,
        Edition edition,
        DateTimeOffset now
    )
    {
        var plan = new Plan(edition.Number, over);
        var what = over.Any(c => c is Change.DisableAccount)
            ? $"The last day of {person.Display} is over"
            : $"What {person.Display} had for a term is over";
        var made = await Raising.RaiseAsync(
            s,
            [
                new(person.Id, "leaver", Workflow.WrittenEnd.Name, newest.Number, $"{what}, and nobody had decided about it in time")
                {
                    Source = "",
                    Details =
                    [
                        ("what", "written-end"),
                        ("edition", edition.Number),
                        ("digest", plan.Digest),
                        ("changes", plan.Changes.Count),
                    ],
                },
            ],
            now
        );
        var row = (await s.RequestAsync(made[0], forUpdate: true))!;
        (row.Plan, row.PlanDigest, row.DueAt, row.OnEdition) = (plan.ToJson(), plan.Digest, null, person.Edition);
        var of = await Case.LoadAsync(s, row, newest, now);
        await stages.EnterAsync(s, of, RequestEvent.Planned);
        await s.SaveRequestAsync(row);
        var values = new Dictionary<string, string> { ["text"] = what, ["effect"] = StageEntry.Effect(of) };
        if (of.Manager is { } manager)
            notices.To(s, of, manager, NoticeEvents.Ended, values);
        else
            notices.ToRole(s, of, Access.Roles.Approver, NoticeEvents.Ended, values);
        LogEnded(log, person.Number, over.Count);
    }

    [LoggerMessage(Level = LogLevel.Information, Message = "The written end of {Person} has come: {Count} changes run without a decision")]
    private static partial void LogEnded(ILogger log, string person, int count);

    [LoggerMessage(Level = LogLevel.Information, Message = "What {Person} has by the rules has begun: {Count} changes go to approval")]
    private static partial void LogBegun(ILogger log, string person, int count);
}
