using System.Text.Json;
using Oikonom.Core.Approval;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Common;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Records;

/// <summary>When a stage is late, when somebody is reminded next, and how far it has escalated. Instants in milliseconds.</summary>
public sealed record StageClock(long? Deadline = null, long? Remind = null, int Level = 0, long? Stopped = null)
{
    public long? Next =>
        (Deadline, Remind) switch
        {
            ({ } d, { } r) => Math.Min(d, r),
            var (d, r) => d ?? r,
        };

    public string ToJson() => JsonSerializer.Serialize(this, JsonSerializerOptions.Web);

    public static StageClock FromJson(string json) => JsonSerializer.Deserialize<StageClock>(json, JsonSerializerOptions.Web) ?? new();
}

/// <summary>A request with all that decisions on it rest on, as it is now: read once for one decision or one page.</summary>
public sealed class Case
{
    private readonly Staff _staff;
    private readonly string _managersManager;

    private Case(
        RequestRow row,
        Plan plan,
        Edition edition,
        Workflow workflow,
        PersonRow person,
        Wish wish,
        IReadOnlyList<DecisionRow> decisions,
        Staff staff,
        string managersManager
    )
    {
        (Row, Plan, Edition, Workflow, Person, Wish, Decisions) = (row, plan, edition, workflow, person, wish, decisions);
        (_staff, _managersManager) = (staff, managersManager);
        // What the request itself says is taken as it stands now; all else is worked out when somebody asks for it.
        Votes =
        [
            .. decisions
                .Where(d => d.Verdict == "approved" && d.Round == row.Round)
                .Select(d =>
                    VoteOf(
                        d.Stage,
                        d.Item,
                        d.Actor,
                        d.OnBehalf.Length > 0 ? d.OnBehalf : d.Actor,
                        JsonSerializer.Deserialize<Dictionary<string, string>>(d.Covers) ?? []
                    )
                ),
        ];
        Struck = wish.Struck.ToHashSet(StringComparer.Ordinal);
        Open = row.Ballots.Length <= 2 ? [] : JsonSerializer.Deserialize<List<Ballot>>(row.Ballots, JsonSerializerOptions.Web) ?? [];
    }

    private Circumstances Circumstances()
    {
        var facts = Recorded;
        foreach (var (name, text) in Wish.Changes)
            facts = facts.WithText(name, text, Edition.Rulebook.Attributes, out _) ?? facts;
        return new(
            Row.Kind,
            Row.Source.Length > 0 ? Row.Source : Workflow.ByHand,
            Row.Requester,
            Users.FirstOrDefault(u => u.Name == Row.Requester)?.Number ?? "",
            facts,
            _managersManager,
            Wish.Urgent,
            Items,
            Plan.Conflicts is { Count: > 0 }
        )
        {
            Recorded = Recorded,
            RequesterPerson = PersonOf(Row.Requester),
            BeneficiaryPerson = $"person:{Person.Id}",
        };
    }

    /// <summary>Those who can sign in, as parties to decisions: the same for all cases that are read together.</summary>
    private sealed class Staff(IReadOnlyList<UserRow> users, IReadOnlyList<DelegationRow> delegations)
    {
        public IReadOnlyList<UserRow> Users => users;
        public IReadOnlyList<Delegation> Delegations => field ??= [.. delegations.Select(DelegationOf)];

        /// <summary>Whom a number stands for, where a user of that number is linked to a person.</summary>
        private Dictionary<string, string> Linked =>
            field ??= users
                .Where(u => u.PersonId.Length > 0 && u.Number.Length > 0)
                .GroupBy(u => u.Number, StringComparer.Ordinal)
                .ToDictionary(g => g.Key, g => g.First().PersonId, StringComparer.Ordinal);

        private IReadOnlyList<Party> Parties => field ??= [.. users.Select(PartyOf)];

        /// <summary>The numbers of users of whom nobody knows yet who they are.</summary>
        private HashSet<string> Unknown =>
            field ??= users
                .Where(u => u.PersonId.Length == 0 && u.Number.Length > 0 && !Linked.ContainsKey(u.Number))
                .Select(u => u.Number)
                .ToHashSet(StringComparer.Ordinal);

        /// <summary>All of them, when the person a case is about is known by some numbers.</summary>
        public IReadOnlyList<Party> With(PersonRow person, IReadOnlyCollection<string> numbers) =>
            numbers.Any(Unknown.Contains)
                ?
                [
                    .. Parties.Select(
                        (party, i) =>
                            users[i].PersonId.Length == 0 && numbers.Contains(users[i].Number) && Unknown.Contains(users[i].Number)
                                ? party with
                                {
                                    Person = $"person:{person.Id}",
                                }
                                : party
                    ),
                ]
                : Parties;

        /// <summary>With who stands behind a user: the person HR knows, under whichever of their numbers; else a number; else the
        /// user alone.</summary>
        private Party PartyOf(UserRow user) =>
            new(
                user.Name,
                user.Roles.Split(' ', StringSplitOptions.RemoveEmptyEntries).ToHashSet(),
                user.Number.Length > 0 ? user.Number : null,
                user.Active == 1
            )
            {
                Reach = Reach.FromJson(user.Reach),
                Person =
                    user.PersonId.Length > 0 ? $"person:{user.PersonId}"
                    : user.Number.Length > 0 && Linked.TryGetValue(user.Number, out var person) ? $"person:{person}"
                    : Party.PersonOf(user.Number, user.Name),
                Display = user.Display.Length > 0 ? user.Display : user.Name,
            };
    }

    private static Delegation DelegationOf(DelegationRow row) =>
        new(
            row.Id,
            row.FromUser,
            row.ToUser,
            row.BeginsAt.ToInstant(),
            row.EndsAt.ToInstant(),
            row.Kinds.Split(' ', StringSplitOptions.RemoveEmptyEntries)
        );

    /// <summary>A vote with the people behind the users it names.</summary>
    public Vote VoteOf(string stage, string item, string actor, string behalf, IReadOnlyDictionary<string, string> covers) =>
        new(stage, item, actor, behalf, covers) { ActorPerson = PersonOf(actor), ForPerson = PersonOf(behalf) };

    /// <summary>The person behind a user, as <see cref="Party.Person"/> names them.</summary>
    public string PersonOf(string user) => Parties.FirstOrDefault(p => p.UserName == user)?.Person ?? Party.PersonOf(null, user);

    /// <summary>The caller as a party of this case: with the person behind them as it is recorded now.</summary>
    public Party PartyOf(System.Security.Claims.ClaimsPrincipal user) =>
        Access.Roles.AsParty(user) with
        {
            Person = PersonOf(Access.Roles.UserName(user)),
        };

    public RequestRow Row { get; }
    public Plan Plan { get; }
    public Edition Edition { get; }
    public Workflow Workflow { get; }
    public PersonRow Person { get; }
    public Wish Wish { get; }
    public IReadOnlyList<DecisionRow> Decisions { get; }
    public IReadOnlyList<UserRow> Users => _staff.Users;
    public IReadOnlyList<Party> Parties =>
        field ??= _staff.With(
            Person,
            [.. Facts.ListFromJson(Person.Others, Edition.Rulebook.Attributes).Append(Recorded).Select(f => f.Number)]
        );
    public IReadOnlyList<Delegation> Delegations => _staff.Delegations;
    public IReadOnlyList<Item> Items => field ??= Core.Approval.Items.Of(Plan, Edition.Rulebook);
    public Circumstances About => field ??= Circumstances();
    public IReadOnlyList<Vote> Votes { get; private set; }
    public IReadOnlySet<string> Struck { get; }
    public IReadOnlyList<StageAsk> Stages =>
        field ??= Standing.Ask(StagesOf(Workflow, Plan, Edition.Rulebook), About, Edition.Rulebook, Parties);
    private Facts Recorded => field ??= Facts.FromJson(Person.Facts, Edition.Rulebook.Attributes);

    /// <summary>What the present stage asked when it began, with what escalation added.</summary>
    public IReadOnlyList<Ballot> Open { get; private set; }

    public Stage? Stage =>
        Row.State is RequestState.Deciding or RequestState.Asked && Row.Stage >= 0 && Row.Stage < Stages.Count
            ? Stages[(int)Row.Stage].Rule
            : null;

    /// <param name="plan">The plan just made; null for the one that is stored.</param>
    /// <param name="way">The workflow that the plan goes, when it is settled by what the request belongs to.</param>
    public static async Task<Case> LoadAsync(
        Session s,
        RequestRow row,
        Edition edition,
        DateTimeOffset now,
        Plan? plan = null,
        Workflow? way = null
    ) => (await LoadAsync(s, [(row, edition)], now, plan, way))[0];

    /// <summary>Several requests, each by its edition: what they rest on is read once for all of them.</summary>
    public static Task<IReadOnlyList<Case>> LoadAsync(
        Session s,
        IReadOnlyList<(RequestRow Row, Edition Edition)> rows,
        DateTimeOffset now
    ) => LoadAsync(s, rows, now, null, null);

    private static async Task<IReadOnlyList<Case>> LoadAsync(
        Session s,
        IReadOnlyList<(RequestRow Row, Edition Edition)> rows,
        DateTimeOffset now,
        Plan? plan,
        Workflow? way
    )
    {
        if (rows.Count == 0)
            return [];
        var people = (await s.PeopleByIdAsync([.. rows.Select(r => r.Row.PersonId).Distinct()])).ToDictionary(p => p.Id);
        var managers = await s.PeopleByNumberAsync([.. people.Values.Select(p => p.Manager).Where(m => m.Length > 0).Distinct()]);
        var decisions = (await s.DecisionsAsync([.. rows.Select(r => r.Row.Id)])).ToLookup(d => d.RequestId);
        var staff = await StaffAsync(s, now);
        return [.. rows.Select(r => Of(r.Row, r.Edition))];

        Case Of(RequestRow row, Edition edition)
        {
            var person =
                people.GetValueOrDefault(row.PersonId) ?? throw new InvalidOperationException($"The person of request {row.Id} is gone.");
            var shown = plan ?? (row.Plan is null ? new Plan(edition.Number, []) : Plan.FromJson(row.Plan));
            var above = managers.GetValueOrDefault(person.Manager)?.Manager ?? "";
            var wish = Wish.FromJson(row.Wish);
            // A plan just made chooses its workflow; later decisions stay with it.
            var workflow =
                plan is not null ? way
                : Workflow.BuiltIn(row.Workflow) is { } builtIn ? builtIn
                : edition.Rulebook.Workflows.FirstOrDefault(w => w.Name == row.Workflow);
            workflow ??= WorkflowFor(edition, row, shown, person, wish, above, staff.Users);
            return new(row, shown, edition, workflow, person, wish, [.. decisions[row.Id]], staff, above);
        }
    }

    private static async Task<Staff> StaffAsync(Session s, DateTimeOffset now) =>
        new(await s.UsersAsync(), await s.DelegationsAsync("", now.ToUnixTimeMilliseconds()));

    /// <summary>A case that is only thought of: nothing of it is stored.</summary>
    public static async Task<Case> PreviewAsync(Session s, RequestRow row, Edition edition, Plan plan, PersonRow person, DateTimeOffset now)
    {
        var manager = person.Manager.Length > 0 ? await s.PersonByNumberAsync(person.Manager) : null;
        var (wish, staff) = (Wish.FromJson(row.Wish), await StaffAsync(s, now));
        return new(
            row,
            plan,
            edition,
            WorkflowFor(edition, row, plan, person, wish, manager?.Manager ?? "", staff.Users),
            person,
            wish,
            [],
            staff,
            manager?.Manager ?? ""
        );
    }

    private static Workflow WorkflowFor(
        Edition edition,
        RequestRow row,
        Plan plan,
        PersonRow person,
        Wish wish,
        string managersManager,
        IReadOnlyList<UserRow> users
    )
    {
        var rulebook = edition.Rulebook;
        var source = row.Source.Length > 0 ? row.Source : Workflow.ByHand;
        var fitting = rulebook
            .Workflows.Where(w => w.For.Contains(row.Kind) && (w.Sources.Count == 0 || w.Sources.Contains(source)))
            .OrderByDescending(w => w.Priority)
            .ThenByDescending(w => (w.When is null ? 0 : 1) + (w.Sources.Count == 0 ? 0 : 1))
            .ToList();
        if (fitting.Count > 0 && fitting.Any(w => w.When is not null))
        {
            var about = new Circumstances(
                row.Kind,
                source,
                row.Requester,
                users.FirstOrDefault(u => u.Name == row.Requester)?.Number ?? "",
                Facts.FromJson(person.Facts, rulebook.Attributes),
                managersManager,
                wish.Urgent,
                Core.Approval.Items.Of(plan, rulebook),
                plan.Conflicts is { Count: > 0 }
            );
            if (fitting.FirstOrDefault(w => Approvers.Holds(w.When, about, rulebook)) is { } found)
                return found;
        }
        return fitting.FirstOrDefault(w => w.When is null) ?? DefaultFor(edition, row.Kind);
    }

    /// <summary>The workflow of a kind before anything is known of its plan; a kind without one of its own goes the way of a
    /// mover.</summary>
    public static Workflow DefaultFor(Edition edition, string kind) =>
        edition.Rulebook.Workflows.FirstOrDefault(w => w.For.Contains(kind))
        ?? edition.Rulebook.Workflows.First(w => w.For.Contains("mover"));

    /// <summary>The stages of the workflow, and one for each approver whom a broken separation demands.</summary>
    private static IReadOnlyList<Stage> StagesOf(Workflow workflow, Plan plan, Core.Rulebook.Rulebook rulebook) =>
        [
            .. workflow.Stages,
            .. (plan.Conflicts ?? [])
                .GroupBy(c => c.Decides)
                .Select(g =>
                {
                    var approver =
                        rulebook.Separations.FirstOrDefault(x => x.Name == g.First().Separation)?.Approver
                        ?? new Approver("role", "engineer", null);
                    return new Stage(
                        $"separation-{g.Key}",
                        string.Join("; ", g.Select(c => c.Title)),
                        [approver],
                        [approver],
                        workflow.Place
                    );
                }),
        ];

    /// <summary>The first stage that lacks approvals now. What was passed stays passed while the plan is the same.</summary>
    public int FirstOpen(bool fromTheStart)
    {
        if (fromTheStart)
            return Standing.FirstOpen(Stages, Items, Votes, Struck, 0, Plan.Inputs);
        var now = (int)Row.Stage;
        return StillOpen().Count > 0 ? now : Standing.FirstOpen(Stages, Items, Votes, Struck, now + 1, Plan.Inputs);
    }

    /// <summary>Of what the present stage asked, what still lacks approvals.</summary>
    public IReadOnlyList<Ballot> StillOpen() => [.. Open.Where(b => Standing.IsOpen(b, Items, Votes, Struck, Plan.Inputs))];

    /// <summary>Whose rights were used to approve a ballot as it is now.</summary>
    public IReadOnlyCollection<string> Given(Ballot ballot) => Standing.Given(ballot, Items, Votes, Struck, Plan.Inputs);

    public void Add(Vote vote) => Votes = [.. Votes, vote];

    public void Replace(IReadOnlyList<Ballot> ballots) => Open = ballots;

    /// <summary>The open ballots an actor may vote on, with whose right each uses; one right votes once.</summary>
    public IReadOnlyList<(Ballot Ballot, string For)> VotesOf(Party actor, DateTimeOffset at) =>
        [
            .. StillOpen()
                .Select(b => (Ballot: b, For: Acts(actor, b, at) ?? ""))
                .Where(b => b.For.Length > 0 && !Given(b.Ballot).Any(g => PersonOf(g) == PersonOf(b.For))),
        ];

    private string? Acts(Party actor, Ballot ballot, DateTimeOffset at) =>
        DecisionRight.Acts(actor, ballot.Deciders, About, Delegations, Parties, at);

    /// <exception cref="RefusedMove">Nothing here is the actor's to decide; the message says whose it is.</exception>
    public IReadOnlyList<(Ballot Ballot, string For)> RequireVotes(Party actor, DateTimeOffset at)
    {
        var open = StillOpen();
        var mine = VotesOf(actor, at);
        if (mine.Count > 0)
            return mine;
        if (open.Count == 0)
            throw new RefusedMove("wrong-state", $"The request is {RequestMachine.Name(Row.State)}; nothing in it is to be decided.");
        DecisionRight.Require(actor, open[0].Deciders, About, Delegations, Parties, at);
        throw new RefusedMove("already-decided", "You decided on this already; it waits for others.");
    }

    /// <summary>The user who is the recorded line manager of the person; null when there is none, or they cannot sign in.</summary>
    public UserRow? Manager => Users.FirstOrDefault(u => u.Active == 1 && u.Number.Length > 0 && u.Number == Person.Manager);

    public UserRow? User(string name) => Users.FirstOrDefault(u => u.Name == name && u.Active == 1);

    /// <summary>Users who may decide a ballot, without the requester and the person it is for.</summary>
    public IEnumerable<UserRow> Deciding(IEnumerable<Ballot> ballots) =>
        Users.Where(u =>
            u.Active == 1
            && Parties.First(p => p.UserName == u.Name) is var party
            && !party.IsConcerned(About)
            && ballots.Any(b => b.Deciders.Includes(party, About))
        );
}
