using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Intake;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;
using Oikonom.Service.Connectors;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Planning;

/// <summary>Looks into the targets before a plan is made: which entries are a person's already, and which names are free.</summary>
public sealed class EntryFinder(Store.Store store, ConnectorBook connectors, TimeProvider time)
{
    /// <summary>What was found, and what is free, in the targets in which the person has no account yet.</summary>
    public sealed class Entries(Subject subject)
    {
        /// <summary>Entries that are there and are adopted.</summary>
        public Dictionary<AccountKey, ExistingAccount> Existing { get; } = [];

        /// <summary>The person, with the names and ids that were found or are free.</summary>
        public Subject Named { get; private set; } = subject;

        /// <summary>Names to be taken for the person once the plan stands, each with what it was made of.</summary>
        public List<(AccountKey Account, string Name, string Wish)> Fresh { get; } = [];

        /// <summary>The immutable ids of entries that were deleted and are brought back.</summary>
        public Dictionary<AccountKey, string> Deleted { get; } = [];

        /// <summary>An entry is there already, or is brought back under its id.</summary>
        public void Found(AccountKey account, string immutableId) =>
            Named = Named with { AccountIds = new Dictionary<AccountKey, string>(Named.AccountIds) { [account] = immutableId } };

        /// <summary>Several entries that answer: somebody has to choose.</summary>
        public List<ExistingAccount> Candidates { get; } = [];

        /// <summary>An account that is not recorded yet is given a name.</summary>
        public void Name(AccountKey account, string name, string wish)
        {
            Named = Named.Named(account, name);
            Fresh.Add((account, name, wish));
        }

        /// <summary>The same of an account that is there under another name.</summary>
        public void Rename(AccountKey account, string name, string wish)
        {
            Named = Named.Renamed(account, name);
            Fresh.Add((account, name, wish));
        }
    }

    /// <summary>Looks for each account that the rules give.</summary>
    /// <exception cref="PlanFault">An entry that answers is somebody else's, or no name is free.</exception>
    /// <exception cref="TargetFault">A target is away.</exception>
    public async Task<Entries> LookAsync(RequestRow request, Edition edition, Subject subject, Recorded recorded, CancellationToken cancel)
    {
        var chosen = JsonSerializer.Deserialize<Dictionary<string, string>>(request.Chosen) ?? [];
        var entries = new Entries(subject);
        foreach (var (target, account) in edition.Rulebook.Accounts)
        {
            if (recorded.Account(request.PersonId, account) is not null)
            {
                await RenameAsync(request, edition, target, account, recorded, entries, cancel);
                continue;
            }
            var wishes = Desired.NameWishes(entries.Named, edition, account);
            if (wishes.Count == 0)
                continue;
            // What was there before is only ever taken for the ordinary account: another is known by nothing but its name.
            var found = account.IsOrdinary ? await FindAsync(edition, target, entries.Named, wishes, cancel) : [];
            var deleted = found.Count == 0 ? recorded.DeletedEntry(request.PersonId, account) : null;
            // Somebody brought back by hand what was deleted, perhaps without what it is found by.
            if (deleted is not null && await connectors.Accounts(edition, target.Name).ReadAsync(deleted, cancel) is { } there)
                found = [there];
            if (found.Count > 1)
            {
                if (chosen.TryGetValue(target.Name, out var pick) && found.FirstOrDefault(f => f.ImmutableId == pick) is { } picked)
                    found = [picked];
                else
                    entries.Candidates.AddRange(found);
            }
            if (found.Count == 1)
            {
                await RequireOwnAsync(request, target, found[0], cancel);
                entries.Existing[account] = found[0];
                entries.Found(account, found[0].ImmutableId);
                entries.Name(account, found[0].Name, wishes[0]);
            }
            else if (found.Count == 0)
            {
                entries.Name(
                    account,
                    await FreeNameAsync(
                        edition,
                        target,
                        request.PersonId,
                        account.Slot,
                        subject.AccountNames.GetValueOrDefault(account),
                        wishes,
                        [.. entries.Fresh.Where(f => f.Account.Target == target.Name).Select(f => f.Name)],
                        cancel
                    ),
                    wishes[0]
                );
                if (deleted is not null && await IsDeletedAsync(edition, target, deleted, cancel))
                {
                    entries.Deleted[account] = deleted;
                    entries.Found(account, deleted);
                }
            }
        }
        return entries;
    }

    /// <summary>True where a target keeps what was deleted: it is brought back. Else another one is made.</summary>
    private async Task<bool> IsDeletedAsync(Edition edition, TargetRule target, string entry, CancellationToken cancel) =>
        target.Settings.Can.HasFlag(TargetAbilities.Restores)
        && connectors.Accounts(edition, target.Name) is IRestoringConnector restoring
        && await restoring.IsDeletedAsync(entry, cancel);

    /// <summary>An account whose name follows its person gets another once theirs leads to one.</summary>
    private async Task RenameAsync(
        RequestRow request,
        Edition edition,
        TargetRule target,
        AccountKey account,
        Recorded recorded,
        Entries entries,
        CancellationToken cancel
    )
    {
        if (!EnumText.Parse<RequestKind>(request.Kind).RenamesAccounts())
            return;
        var name = entries.Named.AccountNames[account];
        var naming = edition.Rulebook.Access.Ask().Naming(entries.Named, account, time.GetUtcNow());
        if (!naming.IsOutgrown(name, recorded.NamedFor(request.PersonId, account, name), target.Names))
            return;
        var own = entries.Fresh.Where(f => f.Account.Target == target.Name).Select(f => f.Name).ToList();
        var free = await FreeNameAsync(edition, target, request.PersonId, account.Slot, null, naming.Wishes, own, cancel);
        entries.Rename(account, free, naming.Wishes[0]);
    }

    private async Task<IReadOnlyList<ExistingAccount>> FindAsync(
        Edition edition,
        TargetRule target,
        Subject subject,
        IReadOnlyList<string> wishes,
        CancellationToken cancel
    )
    {
        // The match keys are attributes of the account as it would be made.
        var tentative = subject with
        {
            AccountNames = new Dictionary<AccountKey, string>(subject.AccountNames) { [target.Name] = wishes[0] },
        };
        var start = Term.Of(Employments.Now(subject, edition.Rulebook, DateTimeOffset.MaxValue)[0], edition.Rulebook).Start;
        var wanted = Desired.At(tentative, edition, start).Accounts.GetValueOrDefault(target.Name);
        if (wanted is null)
            return [];
        var keys = edition.Rulebook.Access.Ask().Keys(subject, target, target.Name, wanted.Known);
        return (await connectors.Accounts(edition, target.Name).FindAsync(keys, cancel)).Found;
    }

    /// <summary>An entry belongs to one person: what is recorded for somebody else, or is known to be something else, is never
    /// taken over.</summary>
    /// <exception cref="PlanFault">The entry is somebody else's, or nobody's on purpose.</exception>
    private async Task RequireOwnAsync(RequestRow request, TargetRule target, ExistingAccount found, CancellationToken cancel)
    {
        var (recorded, holder) = await store.ReadAsync(
            async s =>
                (await s.AccountOfEntryAsync(target.Name, found.ImmutableId), await s.HolderOfEntryAsync(target.Name, found.ImmutableId)),
            cancel
        );
        if (recorded is { PersonId: null } other && AccountPurpose.IsKnown(other.Purpose))
            throw new PlanFault(
                $"The entry {found.Location} in {target.Title} answers to {found.MatchedBy}, and is recorded as a {other.Purpose} "
                    + $"account. Correct the {found.MatchedBy}, or say that it is not ('oikonom targets mark')."
            );
        if (holder is null || holder.Id == request.PersonId)
            return;
        throw new PlanFault(
            $"The entry {found.Location} in {target.Title} answers to {found.MatchedBy}, and is recorded for {holder.Display} "
                + $"({holder.Number}). Correct the {found.MatchedBy} of the entry or of the record; then it is planned anew by itself."
        );
    }

    private async Task<string> FreeNameAsync(
        Edition edition,
        TargetRule target,
        string person,
        string slot,
        string? reserved,
        IReadOnlyList<string> wishes,
        IReadOnlyList<string> own,
        CancellationToken cancel
    )
    {
        var connector = connectors.Accounts(edition, target.Name);
        if (reserved is not null && !own.Contains(reserved) && !await connector.NameIsTakenAsync(reserved, cancel))
            return reserved;
        foreach (var batch in AccountNames.Candidates(wishes, target.Names).Chunk(20))
        {
            var taken = await store.ReadAsync(s => s.NamesTakenAsync(target.Name, batch, person, slot), cancel);
            foreach (var name in batch.Except(taken).Except(own))
                if (!await connector.NameIsTakenAsync(name, cancel))
                    return name;
        }
        throw new PlanFault($"No free account name is left for {string.Join(", ", wishes)} in {target.Title}.");
    }
}
