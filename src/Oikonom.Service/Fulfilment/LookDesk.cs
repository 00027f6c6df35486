using System.Security.Claims;
using Oikonom.Core.Approval;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Ledger;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>
/// Looks whether accounts are in their targets as they were left. What was changed outside is written down with since when,
/// and a request sets it right, as the target's rule says; an operator can let it stay.
/// </summary>
public sealed class LookDesk(Store.Store store, EditionBook editions, ConnectorBook connectors, RequestDesk requests, TimeProvider time)
{
    /// <summary>What a look at some accounts came to.</summary>
    /// <param name="Postponed">Accounts that could not be looked at: their target is away, or something is being done to them.</param>
    public sealed record Looked(IReadOnlyList<string> Postponed, int Differing);

    /// <summary>An account, what it held by the record when it was read, and how it differs from what was left.</summary>
    private sealed record Seen(AccountRow Account, IReadOnlyList<string> Held, IReadOnlyList<Difference> Differences);

    /// <summary>Looks at accounts of people now.</summary>
    public async Task<Looked> LookAsync(IReadOnlyCollection<string> accounts, CancellationToken cancel)
    {
        var (rows, recorded, busy, known) = await store.ReadAsync(
            async s =>
            {
                var found = (await s.AccountsByIdAsync(accounts)).Where(a => a.PersonId is not null).ToList();
                var people = found.Select(a => a.PersonId!).Distinct().ToList();
                return (
                    found,
                    await Recorded.LoadAsync(s, people),
                    (await s.BusyAsync(people, time.Milliseconds())).ToHashSet(),
                    (await s.FindingsAsync(people)).ToDictionary(KeyOf)
                );
            },
            cancel
        );
        var postponed = rows.Where(a => busy.Contains(a.PersonId!)).Select(a => a.Id).ToList();
        var seen = new List<Seen>();
        foreach (var account in rows.Where(a => !busy.Contains(a.PersonId!)))
        {
            var edition = await editions.OnAsync(recorded.Person(account.PersonId!).Edition, cancel);
            if (
                edition.Rulebook.Targets.GetValueOrDefault(account.Target) is not { } target
                || !target.Settings.Can.HasFlag(TargetAbilities.ReadBack)
            )
                continue;
            var held = recorded
                .State(account.PersonId!)
                .Grants.Keys.Where(k => k.Account == Recorded.KeyOf(account))
                .Select(k => k.Name)
                .ToList();
            if (await DifferencesAsync(account, held, edition, cancel) is { } differences)
                seen.Add(new(account, held, differences));
            else
                postponed.Add(account.Id);
        }
        await EndAsync([.. seen.Where(x => x.Differences.Count == 0).Select(x => known.GetValueOrDefault(KeyOf(x.Account)))], cancel);
        foreach (var one in seen.Where(x => x.Differences.Count > 0))
            await WriteAsync(one, cancel);
        return new(postponed, seen.Count(x => x.Differences.Count > 0));
    }

    private static (string, string, string) KeyOf(FindingRow row) => (row.PersonId, row.Target, row.Slot);

    private static (string, string, string) KeyOf(AccountRow row) => (row.PersonId!, row.Target, row.Slot);

    /// <summary>How an account differs from what was left; null when its target does not answer.</summary>
    /// <param name="held">What it was given.</param>
    internal async Task<IReadOnlyList<Difference>?> DifferencesAsync(
        AccountRow account,
        IReadOnlyList<string> held,
        Edition edition,
        CancellationToken cancel
    )
    {
        try
        {
            var back = await connectors
                .Accounts(edition, account.Target)
                .VerifyAsync(account.ImmutableId, Recorded.StateOf(account), held, cancel);
            return back.Differences is [Difference.Gone gone] ? [gone, .. held.Select(h => new Difference.Missing(h))] : back.Differences;
        }
        catch (TargetFault fault) when (fault.Gone is { } gone)
        {
            return [new Difference.Gone(gone), .. held.Select(h => new Difference.Missing(h))];
        }
        catch (TargetFault)
        {
            return null;
        }
    }

    /// <summary>Takes back what was to set something right that is as it was left again.</summary>
    /// <param name="over">Findings that hold no more.</param>
    /// <param name="by">The request that ended them, or "".</param>
    public static async Task GiveWayAsync(Session s, RequestDesk requests, IEnumerable<FindingRow> over, string by)
    {
        foreach (var id in over.Select(f => f.RequestId).Where(id => id.Length > 0 && id != by).Distinct())
            if (await s.RequestAsync(id, forUpdate: true) is { } request && Workflow.BuiltIn(request.Workflow) is { IsRestoring: true })
                await requests.TakeBackAsync(s, request, Raising.ByItself, "all is as it was left again");
    }

    /// <summary>What was found before holds no more.</summary>
    private async Task EndAsync(IReadOnlyList<FindingRow?> over, CancellationToken cancel)
    {
        var rows = over.OfType<FindingRow>().ToList();
        if (rows.Count == 0)
            return;
        await store.WriteAsync(
            async s =>
            {
                await s.EndFindingsAsync(rows);
                await GiveWayAsync(s, requests, rows, "");
                foreach (var row in rows)
                {
                    s.Record(
                        LedgerEntry.Of(
                            time.GetUtcNow(),
                            "oikonom",
                            "account.as-left",
                            row.PersonId,
                            null,
                            ("target", row.Target),
                            ("account", row.Account)
                        )
                    );
                    s.Tell("people", row.PersonId);
                }
            },
            cancel
        );
    }

    private Task WriteAsync(Seen one, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var now = time.GetUtcNow();
                var account = one.Account;
                // Something was done to it since it was read.
                if (
                    await s.AccountAsync(account.Id) is not { PersonId: { } person } fresh
                    || fresh.At != account.At
                    || (await s.BusyAsync([person], now.ToUnixTimeMilliseconds())).Count > 0
                )
                    return;
                // What came and went while it was read is no difference: it is read again.
                var held = (await s.GrantsAsync([person], past: false))
                    .Where(g => g.Target == account.Target && g.Slot == account.Slot)
                    .Select(g => g.Entitlement);
                if (!one.Held.ToHashSet(StringComparer.Ordinal).SetEquals(held))
                {
                    await s.LookedAtAsync([account.Id], 0);
                    return;
                }
                var before = (await s.FindingsAsync([person])).FirstOrDefault(f => KeyOf(f) == KeyOf(account));
                var json = Difference.ToJson(one.Differences);
                var isNew = before is null || before.Differences != json;
                var row = new FindingRow
                {
                    PersonId = person,
                    Target = account.Target,
                    Slot = account.Slot,
                    Account = account.Name,
                    Differences = json,
                    SinceAt = isNew ? now.ToUnixTimeMilliseconds() : before!.SinceAt,
                    SeenAt = now.ToUnixTimeMilliseconds(),
                    RequestId = before?.RequestId ?? "",
                    LeftBy = isNew ? "" : before!.LeftBy,
                    LeftAt = isNew ? null : before!.LeftAt,
                    Remark = isNew ? "" : before!.Remark,
                };
                if (isNew)
                {
                    s.Record(
                        LedgerEntry.Of(
                            now,
                            "oikonom",
                            "account.differs",
                            person,
                            null,
                            ("target", account.Target),
                            ("account", account.Name),
                            ("differences", one.Differences.Select(d => d.Bare).ToList())
                        )
                    );
                    s.Tell("people", person);
                }
                await s.SaveFindingAsync(row);
                if (one.Differences.OfType<Difference.Gone>().Any())
                    await AccountRecord.GoneAsync(s, fresh, null, now);
                await SetRightAsync(s, row, now, cancel);
            },
            cancel
        );

    /// <summary>Raises what sets a finding right, unless something speaks against it: then it is told, and waits.</summary>
    private async Task SetRightAsync(Session s, FindingRow row, DateTimeOffset now, CancellationToken cancel)
    {
        var newest = await editions.CurrentAsync(cancel);
        var person = (await s.PersonAsync(row.PersonId))!;
        if (
            row.LeftBy.Length > 0
            || newest.Rulebook.Targets.GetValueOrDefault(row.Target) is not { } target
            || target.Watch.Then is not (WatchAnswer.Propose or WatchAnswer.Mend)
            || Difference.FromJson(row.Differences) is var differences && differences.All(d => d is Difference.Surplus)
            || (await s.OpenRequestsOfAsync([row.PersonId])).Count > 0
            // Somebody said no to it: it is told until it is set right, or let be.
            || (
                row.RequestId.Length > 0
                && await s.RequestAsync(row.RequestId) is { State: RequestState.Declined or RequestState.Withdrawn }
            )
            || await s.FindingsSinceAsync(row.Target, now.AddDays(-1).ToUnixTimeMilliseconds()) > target.Watch.Most
        )
            return;
        // Nobody gets an account back when the employment is over.
        var edition = await editions.OnAsync(person.Edition, cancel);
        if (
            differences.OfType<Difference.Gone>().Any()
            && Term.Of((await Recorded.LoadAsync(s, [row.PersonId])).Subject(row.PersonId, edition), edition.Rulebook).End <= now
        )
            return;
        if (await JoinsAsync(s, row, target))
            return;
        var what = Shown(differences).Where(d => d is not Difference.Surplus).Take(4).Select(d => Told(d, target));
        var way = target.Watch.Then == WatchAnswer.Mend ? Workflow.Mended : Workflow.Restored;
        var ids = await Raising.RaiseAsync(
            s,
            [
                new(
                    row.PersonId,
                    "change",
                    way.Name,
                    newest.Number,
                    $"The account {row.Account} in {target.Title} was changed outside: {string.Join("; ", what)}"
                )
                {
                    Details = [("what", "changed-outside"), ("edition", person.Edition)],
                },
            ],
            now
        );
        await s.SaveFindingAsync(row with { RequestId = ids[0] });
    }

    /// <summary>One request sets right all that is found of a person: true when there is one, and it has this in it now.</summary>
    private async Task<bool> JoinsAsync(Session s, FindingRow row, TargetRule target)
    {
        foreach (var other in (await s.FindingsAsync([row.PersonId])).Where(f => f.RequestId.Length > 0))
        {
            if (
                await s.RequestAsync(other.RequestId, forUpdate: true)
                is not { State: RequestState.Planning or RequestState.Deciding or RequestState.Releasing } open
            )
                continue;
            if (other.RequestId != row.RequestId)
                await s.SaveFindingAsync(row with { RequestId = other.RequestId });
            if (open.State != RequestState.Planning)
                await requests.ReplanAsync(s, open, $"the account {row.Account} in {target.Title} is not as it was when it was planned");
            return true;
        }
        return false;
    }

    /// <summary>What people are told of differences: an entry that is gone holds nothing any more, which goes without saying.</summary>
    public static IEnumerable<Difference> Shown(IReadOnlyList<Difference> differences) =>
        differences.Any(d => d is Difference.Gone) ? differences.Where(d => d is Difference.Gone) : differences;

    /// <summary>A difference as people read it, without the values that were found.</summary>
    public static string Told(Difference difference, TargetRule? target) =>
        difference switch
        {
            Difference.OtherValues { Found.Count: 0 } missing
                when target?.Settings is TargetSettings.Ldap ldap && ldap.References.ContainsKey(missing.Attribute) =>
                $"{target.TitleOf(missing.Attribute) ?? missing.Attribute} is not set",
            Difference.OtherValues other => $"{target?.TitleOf(other.Attribute) ?? other.Attribute} was changed",
            Difference.Missing missing => $"taken out of {Title(missing.Entitlement, target)}",
            Difference.Surplus surplus => $"put into {Title(surplus.Entitlement, target)}",
            _ => difference.Bare,
        };

    private static string Title(string entitlement, TargetRule? target) =>
        target?.Entitlements.GetValueOrDefault(entitlement)?.Title ?? entitlement;

    /// <summary>Looks at the accounts of one person now, whoever asks for it.</summary>
    /// <exception cref="Problem">A target does not answer, or something is being done to the person.</exception>
    public async Task LookAtAsync(string person, ClaimsPrincipal user, CancellationToken cancel)
    {
        var (row, accounts) = await store.ReadAsync(async s => ((await s.PersonAsync(person))!, await s.AccountsAsync([person])), cancel);
        user.RequireReach(row.Site, row.Department, Roles.Operator, Roles.Engineer);
        var looked = await LookAsync([.. accounts.Select(a => a.Id)], cancel);
        await store.WriteAsync(
            async s =>
            {
                await s.LookedAtAsync([.. accounts.Select(a => a.Id).Except(looked.Postponed)], time.Milliseconds());
                s.Record(
                    LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "person.looked-at", person, null, ("differing", looked.Differing))
                );
            },
            cancel
        );
        if (looked.Postponed.Count > 0)
        {
            var names = accounts.Where(a => looked.Postponed.Contains(a.Id)).Select(a => $"{a.Name} ({a.Target})");
            throw new Problem(
                409,
                "cannot-look",
                "Not everything could be looked at",
                $"{string.Join(", ", names)}: the target does not answer, or a step is being carried out. Try again in a moment."
            );
        }
    }

    /// <summary>An operator lets an account stay as it is: what would set it right is taken back, and later plans leave it alone.</summary>
    /// <param name="reason">Why; not empty.</param>
    public Task LeaveAsync(string person, AccountKey account, string reason, ClaimsPrincipal user, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var row =
                    (await s.FindingsAsync([person])).FirstOrDefault(f => new AccountKey(f.Target, f.Slot) == account)
                    ?? throw Problem.NotFound(
                        $"difference of the account '{account}'",
                        "Read the person again: it may be set right already."
                    );
                var about = (await s.PersonAsync(person))!;
                user.RequireReach(about.Site, about.Department, Roles.Operator);
                user.RequireTargets([account.Target], Roles.Operator);
                if (user.IsSelf(about))
                    throw new RefusedMove("own-request", "This is your own account; somebody else says whether it may stay so.");
                if (string.IsNullOrWhiteSpace(reason))
                    throw Problem.Invalid("Say why it may stay as it is.", "reason");
                var now = time.GetUtcNow();
                await s.SaveFindingAsync(
                    row with
                    {
                        LeftBy = user.UserName(),
                        LeftAt = now.ToUnixTimeMilliseconds(),
                        Remark = reason.Trim(),
                    }
                );
                s.Record(
                    LedgerEntry.Of(
                        now,
                        user.UserName(),
                        "account.left",
                        person,
                        row.RequestId.Length > 0 ? row.RequestId : null,
                        ("target", row.Target),
                        ("account", row.Account),
                        ("reason", reason.Trim())
                    )
                );
                s.Tell("people", person);
                if (row.RequestId.Length > 0 && await s.RequestAsync(row.RequestId, forUpdate: true) is { } request)
                    await requests.TakeBackAsync(s, request, user.UserName(), $"it may stay as it is: {reason.Trim()}");
            },
            cancel
        );
}
