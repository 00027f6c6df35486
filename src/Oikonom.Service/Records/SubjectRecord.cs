using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Records;

/// <summary>What the store holds of what a request is about, and what should be so of it; one kind of record per kind of subject.</summary>
public abstract class SubjectRecord
{
    /// <summary>The id of the subject: of the person, or of the account.</summary>
    public abstract string Id { get; }

    /// <summary>The person whose it is; null while it is nobody's.</summary>
    public abstract string? PersonId { get; }

    /// <summary>What people call it, and the site it belongs to, or "".</summary>
    public abstract (string Display, string Site) Known { get; }

    /// <summary>The accounts it has, in whatever target.</summary>
    public abstract IReadOnlyList<AccountRow> Accounts { get; }

    /// <summary>What is recorded as held.</summary>
    public abstract IReadOnlyCollection<EntitlementKey> Grants { get; }

    /// <summary>What should be so at an instant.</summary>
    /// <param name="withIds">False for what was so before any account was there whose id others take.</param>
    /// <exception cref="PlanFault">The edition cannot serve it.</exception>
    public abstract AccessState Wanted(Edition edition, DateTimeOffset at, bool withIds = true);

    /// <summary>What an account of it is found by.</summary>
    public abstract IReadOnlyList<(string Attribute, string Value)> Keys(
        Edition edition,
        TargetRule target,
        AccountKey account,
        IReadOnlyDictionary<string, IReadOnlyList<string>> attributes
    );

    /// <summary>The subjects of some requests, by their id.</summary>
    public static async Task<IReadOnlyDictionary<string, SubjectRecord>> LoadAsync(
        Session session,
        IReadOnlyCollection<(SubjectKind Kind, string Id)> subjects
    )
    {
        var found = new Dictionary<string, SubjectRecord>(StringComparer.Ordinal);
        foreach (var group in subjects.Distinct().GroupBy(s => s.Kind, s => s.Id))
        {
            switch (group.Key)
            {
                case SubjectKind.Person:
                    var recorded = await Recorded.LoadAsync(session, [.. group]);
                    foreach (var id in group)
                        found[id] = new OfPerson(id, recorded);
                    break;
                case SubjectKind.Account:
                    foreach (var account in await session.AccountsByIdAsync([.. group]))
                        found[account.Id] = new OfAccount(account);
                    break;
                default:
                    throw new System.Diagnostics.UnreachableException($"A request cannot be about a {group.Key}.");
            }
        }
        return found;
    }

    private sealed class OfPerson(string id, Recorded recorded) : SubjectRecord
    {
        public override string Id => id;
        public override string? PersonId => id;
        public override (string, string) Known => (recorded.Person(id).Display, recorded.Person(id).Site);
        public override IReadOnlyList<AccountRow> Accounts { get; } = [.. recorded.Accounts(id)];
        public override IReadOnlyCollection<EntitlementKey> Grants => [.. recorded.State(id).Grants.Keys];

        public override AccessState Wanted(Edition edition, DateTimeOffset at, bool withIds = true)
        {
            var person = recorded.Subject(id, edition);
            return Desired.At(withIds ? person : person.WithoutIds(), edition, at);
        }

        public override IReadOnlyList<(string Attribute, string Value)> Keys(
            Edition edition,
            TargetRule target,
            AccountKey account,
            IReadOnlyDictionary<string, IReadOnlyList<string>> attributes
        ) => edition.Rulebook.Access.Ask().Keys(recorded.Subject(id, edition), target, account, attributes);
    }

    private sealed class OfAccount(AccountRow account) : SubjectRecord
    {
        public override string Id => account.Id;

        /// <remarks>Set once it belongs to somebody: then the rules of that person count, and not the request.</remarks>
        public override string? PersonId => account.PersonId;
        public override (string, string) Known => (account.Name, "");
        public override IReadOnlyList<AccountRow> Accounts => [account];
        public override IReadOnlyCollection<EntitlementKey> Grants => [];

        public override AccessState Wanted(Edition edition, DateTimeOffset at, bool withIds = true) =>
            account.PersonId is null
                ? Nobodys(account).Windows().At(at)
                : throw new PlanFault(
                    $"The account {account.Name} belongs to somebody by now; what becomes of it is a matter of that person."
                );

        public override IReadOnlyList<(string Attribute, string Value)> Keys(
            Edition edition,
            TargetRule target,
            AccountKey account,
            IReadOnlyDictionary<string, IReadOnlyList<string>> attributes
        ) => [];
    }

    /// <summary>An account that belongs to nobody, in the terms of the core.</summary>
    public static NobodysAccount Nobodys(AccountRow row) =>
        new(Recorded.StateOf(row), row.ImmutableId, row.UntilAt.ToInstant(), new("request", "", "its end was approved"));
}
