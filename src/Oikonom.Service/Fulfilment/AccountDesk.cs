using System.Globalization;
using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Editions;
using Oikonom.Service.Intake;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Fulfilment;

/// <summary>
/// Accounts that belong to nobody: found in a target and answering to no person. People say what each is and who answers
/// for it; it ends by a request that is approved like any other, with its owner as the person it concerns.
/// </summary>
public sealed class AccountDesk(Store.Store store, EditionBook editions, ConnectorBook connectors, Baseline baseline, TimeProvider time)
{
    /// <summary>The most that a list shows.</summary>
    private const int Most = 500;

    /// <param name="target">"" for all targets within the caller's reach.</param>
    /// <param name="purpose">"" for all purposes.</param>
    /// <param name="text">A part of the name, or "".</param>
    public async Task<Page<NobodysAccountView>> ListAsync(
        string target,
        string purpose,
        string text,
        ClaimsPrincipal user,
        CancellationToken cancel
    )
    {
        var edition = await editions.CurrentAsync(cancel);
        if (purpose.Length > 0)
            RequirePurpose(purpose);
        return await store.ReadAsync(
            async s =>
            {
                var rows = (await s.NobodysAsync(target, purpose, text, Most)).Where(r => Reaches(user, r.Target)).ToList();
                var owners = (await s.PeopleByIdAsync([.. rows.Select(r => r.Owner).Where(o => o.Length > 0).Distinct()])).ToDictionary(p =>
                    p.Id
                );
                var closing = (await s.OpenRequestsAboutAsync([.. rows.Select(r => r.Id)])).ToLookup(r => r.SubjectId, r => r.Number);
                return new Page<NobodysAccountView>(
                    [.. rows.Select(r => View(r, edition, owners.GetValueOrDefault(r.Owner), closing[r.Id].DefaultIfEmpty().Max()))],
                    null
                );
            },
            cancel
        );
    }

    /// <summary>Says what an account is and who answers for it.</summary>
    public async Task<NobodysAccountView> MarkAsync(string id, AccountMark body, ClaimsPrincipal user, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        RequireMark(body);
        return await store.WriteAsync(
            async s =>
            {
                var (row, owner) = await MarkAsync(s, id, body, user);
                return View(row, edition, owner, 0);
            },
            cancel
        );
    }

    /// <summary>Says the same of several accounts; what cannot be said of one is told, and the others go on.</summary>
    public async Task<IReadOnlyList<AccountDecided>> MarkAsync(AccountMarks body, ClaimsPrincipal user, CancellationToken cancel)
    {
        var mark = body.Mark ?? throw Problem.Invalid("Say what they are.", "mark");
        RequireMark(mark);
        return await EachAsync(
            body.Accounts,
            async id =>
            {
                var row = await store.WriteAsync(async s => (await MarkAsync(s, id, mark, user)).Row, cancel);
                return new AccountDecided(row.Id, row.Name, null);
            }
        );
    }

    /// <summary>Asks for the end of several accounts; each gets a request of its own.</summary>
    public async Task<IReadOnlyList<AccountDecided>> CloseAsync(AccountClosings body, ClaimsPrincipal user, CancellationToken cancel)
    {
        var closing = body.Closing ?? throw Problem.Invalid("Say when they end.", "closing");
        return await EachAsync(
            body.Accounts,
            async id =>
            {
                var request = await CloseAsync(id, closing, user, cancel);
                return await store.ReadAsync(
                    async s => new AccountDecided(
                        id,
                        (await s.AccountAsync(id))?.Name ?? "",
                        null,
                        (await s.RequestAsync(request))?.Number
                    ),
                    cancel
                );
            }
        );
    }

    private static async Task<IReadOnlyList<AccountDecided>> EachAsync(
        IReadOnlyList<string>? accounts,
        Func<string, Task<AccountDecided>> decide
    )
    {
        if (accounts is not { Count: > 0 and <= Most })
            throw Problem.Invalid($"Name the accounts, {Most} at most.", "accounts");
        var decided = new List<AccountDecided>();
        foreach (var id in accounts.Distinct(StringComparer.Ordinal))
            try
            {
                decided.Add(await decide(id));
            }
            catch (Problem problem)
            {
                decided.Add(new(id, "", problem.Message));
            }
        return decided;
    }

    private void RequireMark(AccountMark body)
    {
        RequirePurpose(body.Purpose ?? "");
        if (string.IsNullOrWhiteSpace(body.Remark))
            throw Problem.Invalid("Say why: it stands on the ledger.", "remark");
        if (body.Purpose == AccountPurpose.Ignored && body.Until is null)
            throw Problem.Invalid("Say until when nobody is asked about it.", "until");
        if (body.Until is { } until)
        {
            if (body.Purpose != AccountPurpose.Ignored)
                throw Problem.Invalid("Only what is ignored is so until a day.", "until");
            var today = DateOnly.FromDateTime(time.GetUtcNow().UtcDateTime);
            if (until < today || until > today.AddYears(1))
                throw Problem.Invalid("The day lies in the past, or more than a year ahead.", "until");
        }
    }

    private async Task<(AccountRow Row, PersonRow? Owner)> MarkAsync(Session s, string id, AccountMark body, ClaimsPrincipal user)
    {
        var row = await RequireAsync(s, id, user);
        var owner = string.IsNullOrEmpty(body.Owner) ? null : await OwnerAsync(s, body.Owner);
        if (owner is null && AccountPurpose.IsKnown(body.Purpose!))
            throw Problem.Invalid($"Name who answers for it: a {body.Purpose} account has an owner.", "owner");
        var now = time.GetUtcNow();
        var marked = row with
        {
            Purpose = body.Purpose!,
            Owner = owner?.Id ?? "",
            ReviewAt = body.Until is { } until ? SiteDays.EndOf(until, TimeZoneInfo.Utc).ToUnixTimeMilliseconds() : null,
            At = now.ToUnixTimeMilliseconds(),
        };
        if (!await s.SetPurposeAsync(marked))
            throw Taken(row);
        s.Record(
            LedgerEntry.Of(
                now,
                user.UserName(),
                "account.marked",
                owner?.Id,
                null,
                ("target", row.Target),
                ("account", row.Name),
                ("immutableId", row.ImmutableId),
                ("purpose", body.Purpose),
                ("before", row.Purpose),
                ("until", body.Until?.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)),
                ("remark", body.Remark!.Trim())
            )
        );
        return (marked, owner);
    }

    /// <summary>What was left alone until now is asked about again.</summary>
    public Task ReviewAsync(CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var now = time.GetUtcNow();
                foreach (var row in await s.DueForReviewAsync(now.ToUnixTimeMilliseconds()))
                {
                    await s.SetPurposeAsync(
                        row with
                        {
                            Purpose = AccountPurpose.Unmatched,
                            ReviewAt = null,
                            At = now.ToUnixTimeMilliseconds(),
                        }
                    );
                    s.Record(
                        LedgerEntry.Of(
                            now,
                            "oikonom",
                            "account.marked",
                            null,
                            null,
                            ("target", row.Target),
                            ("account", row.Name),
                            ("immutableId", row.ImmutableId),
                            ("purpose", AccountPurpose.Unmatched),
                            ("before", row.Purpose),
                            ("remark", "the day until which it was left alone is over")
                        )
                    );
                }
            },
            cancel
        );

    /// <summary>
    /// Says whose an account is: it is read, recorded as theirs with what it holds, and what the rules make of it follows as a request.
    /// </summary>
    /// <exception cref="Problem">404, 409: it is gone, somebody's, known to be something else, or the person has one already.</exception>
    /// <exception cref="RefusedMove">Nobody takes an account for themselves.</exception>
    public async Task LinkAsync(string id, AccountLink body, ClaimsPrincipal user, CancellationToken cancel)
    {
        if (string.IsNullOrWhiteSpace(body.Reason))
            throw Problem.Invalid("Say why: it stands on the ledger.", "reason");
        var edition = await editions.CurrentAsync(cancel);
        var (row, person) = await store.ReadAsync(
            async s =>
            {
                var account = await RequireAsync(s, id, user);
                var whose =
                    await s.FindPersonAsync(body.Person ?? "") ?? throw Problem.Invalid($"There is no person '{body.Person}'.", "person");
                if (whose.Number == user.Number())
                    throw new RefusedMove("own-account", "Nobody takes an account for themselves; another operator does.");
                if (AccountPurpose.IsKnown(account.Purpose))
                    throw Problem.Conflict(
                        "known",
                        $"{account.Name} is recorded as a {account.Purpose} account. Say first that nobody knows what it is."
                    );
                if ((await s.AccountsAsync([whose.Id])).Any(a => a.Target == account.Target && a.Slot.Length == 0))
                    throw Problem.Conflict("has-account", $"{whose.Display} has an account in {account.Target} already.");
                return (account, whose);
            },
            cancel
        );
        if (!edition.Rulebook.Targets.TryGetValue(row.Target, out var target))
            throw Problem.NotFound($"target '{row.Target}' in the rulebook", "Publish it first.");
        var entry =
            await connectors.Accounts(edition, row.Target).ReadAsync(row.ImmutableId, cancel)
            ?? throw Problem.Conflict("gone", $"{row.Name} is not in {target.Title} any more.");
        await baseline.AdoptAsync(target, edition, person.Id, entry, cancel);
        await store.WriteAsync(
            async s =>
            {
                var now = time.GetUtcNow();
                s.Record(
                    LedgerEntry.Of(
                        now,
                        user.UserName(),
                        "account.linked",
                        person.Id,
                        null,
                        ("target", row.Target),
                        ("account", row.Name),
                        ("immutableId", row.ImmutableId),
                        ("text", body.Reason.Trim())
                    )
                );
                await s.LookAgainAsync([person.Id], now.ToUnixTimeMilliseconds());
                s.Tell("people", person.Id);
            },
            cancel
        );
    }

    /// <summary>
    /// Asks for the end of an account that belongs to nobody, for another end than the one that was approved, or that it
    /// stays. What was approved last holds; steps of an earlier approval are looked at again before they run.
    /// </summary>
    /// <returns>The id of the request.</returns>
    public async Task<string> CloseAsync(string id, AccountClosing body, ClaimsPrincipal user, CancellationToken cancel)
    {
        var edition = await editions.CurrentAsync(cancel);
        if (string.IsNullOrWhiteSpace(body.Reason))
            throw Problem.Invalid("Say why: those who decide read it.", "reason");
        if (body is { Keep: true, LastDay: not null })
            throw Problem.Invalid("It stays, or it has a last day; not both.", "lastDay");
        return await store.WriteAsync(
            async s =>
            {
                var (row, owner) = await RequireClosableAsync(s, id, body.Keep, user);
                var now = time.GetUtcNow();
                DateTimeOffset? from = body.LastDay is { } day ? SiteDays.EndOf(day, edition.Rulebook.ZoneOf(owner.Site)) : null;
                if (from <= now)
                    throw Problem.Invalid("The last day lies in the past; leave it out to close the account at once.", "lastDay");
                var wish = new Wish
                {
                    Reason = body.Reason.Trim(),
                    Target = Recorded.KeyOf(row).ToString(),
                    From = from,
                    Urgent = !body.Keep && from is null,
                };
                var title = edition.Rulebook.TitleOf(Recorded.KeyOf(row));
                var what =
                    body.Keep ? "stays"
                    : body.LastDay is { } last ? $"is closed after {last.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)}"
                    : "is closed";
                var raised = await Raising.RaiseAsync(
                    s,
                    [
                        new(
                            owner.Id,
                            Closing,
                            Case.DefaultFor(edition, Closing).Name,
                            edition.Number,
                            $"The {row.Purpose} account {row.Name} in {title} {what}: {wish.Reason}"
                        )
                        {
                            Subject = (SubjectKind.Account, row.Id),
                            Requester = user.UserName(),
                            Wish = wish.ToJson(),
                            Details = [("source", Workflow.ByHand), ("target", row.Target), ("account", row.Name)],
                        },
                    ],
                    now
                );
                return raised[0];
            },
            cancel
        );
    }

    /// <summary>An account of nobody that somebody answers for, and about which nothing is open.</summary>
    private static async Task<(AccountRow Row, PersonRow Owner)> RequireClosableAsync(
        Session s,
        string id,
        bool keeps,
        ClaimsPrincipal user
    )
    {
        var row = await RequireAsync(s, id, user);
        if (row.Owner.Length == 0 || await s.PersonAsync(row.Owner) is not { } owner)
            throw Problem.Conflict(
                "no-owner",
                $"Nobody answers for {row.Name}. Say first whose it is ('oikonom targets mark'); then they are asked."
            );
        if ((await s.OpenRequestsAboutAsync([row.Id])).FirstOrDefault(r => r.State != RequestState.Fulfilling) is { Number: > 0 } open)
            throw Problem.Conflict("already-asked", $"Request {open.Number} about {row.Name} is open.");
        if (row.Enabled == 0)
            throw Problem.Conflict("already-so", $"{row.Name} is disabled already.");
        if (keeps && row.UntilAt is null)
            throw Problem.Conflict("already-so", $"{row.Name} has no end that could be taken back.");
        return (row, owner);
    }

    private static readonly string Closing = EnumText.Of(RequestKind.Closing);

    private static async Task<AccountRow> RequireAsync(Session s, string id, ClaimsPrincipal user)
    {
        var row = Guid.TryParse(id, out var parsed) ? await s.AccountAsync(parsed.ToString()) : null;
        if (row is null)
            throw Problem.NotFound($"account '{id}'", "List them with 'oikonom targets accounts'.");
        if (!Reaches(user, row.Target))
            throw new Problem(
                403,
                "out-of-reach",
                "Not allowed",
                "It belongs to no part of the organisation; it is for operators whose role is limited to none, and to no other target."
            );
        return row.PersonId is null ? row : throw Taken(row);
    }

    private static Problem Taken(AccountRow row) =>
        Problem.Conflict("somebodys", $"{row.Name} belongs to a person; what becomes of it is a matter of that person.");

    private static async Task<PersonRow> OwnerAsync(Session s, string number) =>
        await s.FindPersonAsync(number) ?? throw Problem.Invalid($"There is no person '{number}'.", "owner");

    private static void RequirePurpose(string purpose)
    {
        if (!AccountPurpose.All.Contains(purpose))
            throw Problem.Invalid($"'{purpose}' is no purpose; use {string.Join(", ", AccountPurpose.All)}.", "purpose");
    }

    /// <summary>What is nobody's stands in no site and no department: a role that is limited to some does not reach it.</summary>
    private static bool Reaches(ClaimsPrincipal user, string target)
    {
        var party = user.AsParty();
        return party.Roles.Any(r =>
            r is Roles.Operator or Roles.Engineer
            && (
                !party.Reach.TryGetValue(r, out var reach)
                || (reach.Sites.Count == 0 && reach.Departments.Count == 0 && reach.CoversTarget(target))
            )
        );
    }

    private static NobodysAccountView View(AccountRow row, Edition edition, PersonRow? owner, long request) =>
        new(
            row.Id,
            row.Target,
            edition.Rulebook.TitleOf(new AccountKey(row.Target)),
            row.Name,
            row.Location,
            row.Enabled == 1,
            row.Purpose,
            owner?.Number,
            owner?.Display,
            row.CreatedAt.ToInstant(),
            row.UntilAt.ToInstant(),
            request > 0 ? request : null,
            row.ReviewAt.ToInstant()
        );
}
