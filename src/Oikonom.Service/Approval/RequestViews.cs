using System.Diagnostics;
using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.People;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Records;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>Tells a request in plain words: what was done, what is next, on whom it waits and since when.</summary>
public static class RequestViews
{
    public static RequestSummary Summary(RequestRow row) =>
        new()
        {
            Id = row.Id,
            Number = row.Number,
            Kind = row.Kind,
            State = row.StateText,
            StateText = RequestMachine.Name(row.State, row.Outcome),
            PersonId = row.PersonId,
            Person = row.Display,
            PersonNumber = row.PersonNumber,
            Department = row.Department,
            Site = row.Site,
            Start = row.StartDay,
            WaitsOn = WaitsOn(row),
            Since = row.SinceAt.ToInstant(),
            Problem = row.Problem.Length > 0 ? row.Problem : null,
            CreatedAt = row.CreatedAt.ToInstant(),
            CompletedAt = row.CompletedAt.ToInstant(),
            Requester = row.Requester,
            Late = row.Late == 1,
            Source = row.Source,
            Stage = row.StageTitle,
            Due = StageClock.FromJson(row.Clock).Deadline.ToInstant(),
            Held = row.Held.Length > 0,
            // Both need the plan read; WithEffect tells them.
            Privileged = false,
            Cause = "",
            Batch = row.Batch.Length > 0 ? row.Batch : null,
            Account = row.Account.Length > 0 ? row.Account : null,
            Outcome = row.Outcome == RequestOutcome.None ? null : row.OutcomeText,
        };

    /// <summary>A summary with the effect and the digest it is bound to: enough to decide on from a list.</summary>
    public static RequestSummary WithEffect(RequestRow row, Edition? edition)
    {
        var summary = Summary(row);
        var cause = JsonSerializer.Deserialize<Cause>(row.Cause)?.Text ?? "";
        if (row.Plan is null || edition is null)
            return summary with { Cause = cause };
        if (!Effects.TryGetValue((row.PlanDigest ?? "", edition.Number), out var known))
        {
            var plan = Plan.FromJson(row.Plan);
            if (Effects.Count >= MostEffects)
                Effects.Clear();
            known = Effects[(row.PlanDigest ?? "", edition.Number)] = (
                EffectOf(plan, edition.Rulebook),
                Core.Approval.Items.Of(plan, edition.Rulebook).Any(i => i.IsPrivileged)
            );
        }
        return summary with { Effect = known.Effect, PlanDigest = row.PlanDigest, Cause = cause, Privileged = known.IsPrivileged };
    }

    private const int MostEffects = 20_000;

    /// <summary>What plans do in one line: a digest always means the same plan.</summary>
    private static readonly System.Collections.Concurrent.ConcurrentDictionary<
        (string Digest, int Edition),
        (string Effect, bool IsPrivileged)
    > Effects = [];

    /// <summary>What a plan does in one line.</summary>
    public static string EffectOf(Plan plan, Core.Rulebook.Rulebook rulebook)
    {
        var parts = new List<string>();
        Add<Change.CreateAccount>("makes", c => !c.IsBroughtBack);
        Add<Change.CreateAccount>("brings back", c => c.IsBroughtBack);
        Add<Change.AdoptAccount>("takes over");
        Add<Change.ChangeAccount>("changes");
        Add<Change.DisableAccount>("disables");
        Of<Change.Grant>("gives");
        Of<Change.Revoke>("takes back");
        if (parts.Count == 0 && plan.Changes.Any(c => c is Change.SetPassword))
            parts.Add("sets a new first password");
        if (parts.Count == 0 && plan.Changes.Any(c => c is Change.EnableAccount))
            parts.Add("unlocks the account");
        return string.Join("; ", parts);

        void Add<T>(string verb, Func<T, bool>? which = null)
            where T : Change
        {
            var accounts = plan
                .Changes.OfType<T>()
                .Where(c => !c.Later && which?.Invoke(c) != false)
                .Select(c => $"{c.Entry.Name} in {rulebook.TitleOf(c.Account)}")
                .Distinct()
                .ToList();
            if (accounts.Count > 0)
                parts.Add($"{verb} {string.Join(", ", accounts)}");
        }

        void Of<T>(string verb)
            where T : Change
        {
            var titles = plan
                .Changes.OfType<T>()
                .Where(c => !c.Later)
                .Select(c => rulebook.Find(c.Entitlement!)?.Title ?? c.Subject)
                .Distinct()
                .ToList();
            if (titles.Count > 0)
                parts.Add($"{verb} {string.Join(", ", titles.Take(4))}{(titles.Count > 4 ? $" and {titles.Count - 4} more" : "")}");
        }
    }

    /// <summary>Whom a request waits on while a target is away.</summary>
    public const string TargetAway = "a target that does not answer";
    public const string TargetNotReady = "a target that is not ready";

    /// <summary>Whom a request waits on that the rules or the record do not let be planned.</summary>
    public const string CannotPlan = "whoever can mend what stops it";
    private const long ASecond = 1000;

    /// <summary>Whom or what a request waits on: the same words in lists, on its page and in the client.</summary>
    public static string WaitsOn(RequestRow row) =>
        row.State switch
        {
            RequestState.Planning => row.Problem.Length == 0 ? "Oikonom"
            : row.DeciderWhy.Length > 0 ? row.DeciderWhy
            : TargetAway,
            RequestState.Choosing => "an operator",
            RequestState.Asked => row.Requester,
            RequestState.Deciding or RequestState.Releasing => row.Deciders.Length > 0
                ? string.Join(", ", row.Deciders.Split('|', StringSplitOptions.RemoveEmptyEntries))
                : $"an {row.DeciderRole}",
            RequestState.Fulfilling => row.Problem.Length > 0
                ? row.DeciderWhy.Length > 0
                    ? row.DeciderWhy
                    : TargetAway
                : row.BlockedBy is { } other
                    ? $"request {other}, which stopped"
                    : row.DeciderWhy == TargetNotReady
                        ? TargetNotReady
                        : row.DeciderRole.Length > 0
                            ? $"work by hand ({row.DeciderRole})"
                            : row.NextAt - row.SinceAt > ASecond
                                ? "the calendar"
                                : "Oikonom",
            _ => "nobody",
        };

    private static StepView View(StepRow step, Edition edition)
    {
        var change = JsonSerializer.Deserialize<Change>(step.Change, JsonSerializerOptions.Web)!;
        return new(
            step.Id,
            (int)step.Ordinal,
            EnumText.Of(step.State),
            View(change, edition).Text,
            (int)step.Attempts,
            step.Problem.Length > 0 ? step.Problem : null,
            step.DueAt.ToInstant(),
            step.DoneAt.ToInstant(),
            step.Later == 1,
            EnumText.Of(change.Kind)
        );
    }

    /// <summary>Why what is due does not begin: its target is paused, is worked on, or does not answer. Null when nothing is in its
    /// way.</summary>
    private static string? Still(
        IReadOnlyList<StepRow> steps,
        IReadOnlyList<TargetStateRow> targets,
        Edition edition,
        DateTimeOffset now
    ) =>
        steps
            .Where(s => s.State == StepState.Pending && s.Later == 0 && s.DueAt.ToInstant() <= now.AddHours(1))
            .Select(s => edition.Rulebook.Targets.GetValueOrDefault(s.Target))
            .OfType<TargetRule>()
            .Distinct()
            .Select(t => TargetStates.WhyStill(t, targets.FirstOrDefault(x => x.Target == t.Name), now))
            .FirstOrDefault(text => text is not null);

    public static RequestDetail Detail(
        Case of,
        IReadOnlyList<StepRow> steps,
        IReadOnlyList<TaskView> tasks,
        IReadOnlyList<FindingRow> findings,
        IReadOnlyList<TargetStateRow> targets,
        ClaimsPrincipal user,
        DateTimeOffset now
    )
    {
        var (row, edition) = (of.Row, of.Edition);
        var cause = JsonSerializer.Deserialize<Cause>(row.Cause) ?? new("", null, null, []);
        var changes = of.Plan.Changes.Select(c => View(c, edition, of.Plan)).ToList();
        var ofPlan = RequestStory.OfPlan(of, steps);
        var stepViews = steps.Select(step => View(step, edition)).ToList();
        var asked = row is { State: RequestState.Asked, Stage: RequestMachine.BeforeThePlan }
            ? edition
                .Rulebook.Access.Ask()
                .Asks(new(Core.People.PersonId.Parse(of.Person.Id), of.About.Facts, new Dictionary<AccountKey, string>()))
            : [];
        return new()
        {
            Summary = Summary(row) with { PlanDigest = row.PlanDigest, Effect = EffectOf(of.Plan, edition.Rulebook), Cause = cause.Text },
            Cause = new(cause.Text, cause.Source, cause.Line, [.. Differences(of, cause)]),
            Edition = row.Plan is null ? (int)row.Edition : of.Plan.Edition,
            From = of.Plan.From,
            DecidedBy = (int)row.Edition,
            Workflow = row.Workflow,
            PlanDigest = row.PlanDigest,
            Story = RequestStory.Of(
                of,
                cause,
                [.. ofPlan.Select(s => View(s, edition))],
                tasks,
                asked,
                Still(ofPlan, targets, edition, now),
                now
            ),
            Plan = changes,
            Steps = stepViews,
            Decisions = [.. of.Decisions.Select(d => View(d, of))],
            Candidates = CandidatesOf(row, edition.Rulebook),
            Rights = RightsOf(of, steps, asked, user, now),
            Stages = StagesOf(of, of.PartyOf(user), now),
            Items = ItemsOf(of),
            Gone = GoneFrom(of),
            Milestones = Milestones(of, ofPlan, findings),
            Wish = View(of.Wish),
            Open = [.. asked.Select(a => HandRequests.FieldOf(a, true, edition))],
            Tasks = tasks,
            Held = row.Held.Length > 0 ? row.Held : null,
            Effect = PlanEffects.Of(of.Plan, edition.Rulebook, cause.Differences.Any(d => d.Name is BuiltIn.Given or BuiltIn.Family)),
            WorkflowTitle = of.Workflow.Title,
            Place = PlaceOf(edition.Rulebook, of.Person.Site),
        };
    }

    private static DecisionView View(DecisionRow made, Case of) =>
        new(
            made.StageTitle,
            made.Actor,
            made.Verdict,
            made.Remark,
            made.At.ToInstant(),
            made.Item.Length > 0 ? made.Item : null,
            made.OnBehalf.Length > 0 ? made.OnBehalf : null,
            made.Verdict != "approved" || IsStanding(of, made)
        );

    private static WishView View(Wish wish) =>
        new(
            wish.Reason,
            [.. wish.Changes.Select(c => new AttributeValue(c.Key, c.Value))],
            [.. wish.Grants.Select(g => new GrantWish(g.Key.ToString(), g.From?.ToString("o"), g.Until?.ToString("o")))],
            [.. wish.Templates.Select(t => t.Template)],
            wish.Struck,
            wish.Target.Length > 0 ? wish.Target : null,
            wish.Urgent,
            wish.From
        );

    /// <summary>The accounts that were found and of which somebody says which is the person's.</summary>
    private static IReadOnlyList<CandidateView> CandidatesOf(RequestRow row, Core.Rulebook.Rulebook rulebook) =>
        row.Candidates.Length == 0
            ? []
            : JsonSerializer
                .Deserialize<List<ExistingAccount>>(row.Candidates)!
                .ConvertAll(c => new CandidateView(
                    c.Target,
                    c.ImmutableId,
                    c.Name,
                    c.Location,
                    c.MatchedBy,
                    [.. c.Attributes.Select(a => new AttributeValue(a.Key, string.Join(", ", a.Value)))],
                    c.Enabled,
                    [
                        .. c.Entitlements.Select(e =>
                            rulebook.Targets.GetValueOrDefault(c.Target)?.Entitlements.GetValueOrDefault(e)?.Title ?? e
                        ),
                    ],
                    c.LastLogOn
                ));

    /// <summary>The zone and title of a site.</summary>
    public static SitePlace PlaceOf(Core.Rulebook.Rulebook rulebook, string site) =>
        new(rulebook.ZoneOf(site).Id, rulebook.Sites.GetValueOrDefault(site)?.Title ?? site);

    /// <summary>What HR changed; and what is asked for by hand as it stands, also where an approver changed it.</summary>
    private static IEnumerable<AttributeChangeView> Differences(Case of, Cause cause) =>
        cause
            .Differences.Where(d => !of.Wish.Changes.ContainsKey(d.Name) && of.Row.Source != Workflow.ByHand)
            .Select(d => new AttributeChangeView(d.Name, d.Before, d.After))
            .Concat(
                of.Wish.Changes.Select(c => new AttributeChangeView(
                    c.Key,
                    cause.Differences.FirstOrDefault(d => d.Name == c.Key)?.Before
                        ?? [Core.People.Facts.FromJson(of.Person.Facts, of.Edition.Rulebook.Attributes).Text(c.Key)],
                    c.Value.Length > 0 ? [c.Value] : []
                ))
            );

    /// <summary>False for an approval that a later plan made void.</summary>
    private static bool IsStanding(Case of, DecisionRow decision) =>
        decision.Round == of.Row.Round
        && Standing.Counts(
            new(
                decision.Stage,
                decision.Item,
                decision.Actor,
                decision.OnBehalf,
                JsonSerializer.Deserialize<Dictionary<string, string>>(decision.Covers) ?? []
            ),
            of.Items,
            of.Struck,
            of.Plan.Inputs
        );

    /// <summary>The items of the plan, marked where they differ from the plan that people saw before.</summary>
    public static IReadOnlyList<ItemView> ItemsOf(Case of)
    {
        var before = of.Row.PlanBefore is null
            ? null
            : Core.Approval.Items.Of(Plan.FromJson(of.Row.PlanBefore), of.Edition.Rulebook).ToDictionary(i => i.Key);
        return
        [
            .. of.Items.Select(i =>
                ViewOf(
                    i,
                    of.Edition,
                    before is null ? ""
                        : !before.TryGetValue(i.Key, out var was) ? "new"
                        : was.Digest != i.Digest ? "changed"
                        : ""
                )
            ),
        ];
    }

    private static IReadOnlyList<ItemView> GoneFrom(Case of) =>
        of.Row.PlanBefore is null
            ? []
            :
            [
                .. Core
                    .Approval.Items.Of(Plan.FromJson(of.Row.PlanBefore), of.Edition.Rulebook)
                    .Where(i => !of.Items.Any(n => n.Key == i.Key))
                    .Select(i => ViewOf(i, of.Edition, of.Struck.Contains(i.Key) ? "struck" : "gone")),
            ];

    private static ItemView ViewOf(Item item, Edition edition, string mark)
    {
        var target = edition.Rulebook.Targets.GetValueOrDefault(item.Target);
        return new(
            item.Key,
            item.Entitlement is { } e
                ? target?.Entitlements.GetValueOrDefault(e)?.Title ?? e
                : $"Account in {edition.Rulebook.TitleOf(AccountKey.Parse(item.Account))}",
            item.Target,
            item.Entitlement,
            item.IsPrivileged,
            item.CanBeStruck,
            mark,
            item.Ordinals
        );
    }

    /// <summary>The stages of the workflow: passed, skipped and why, deciding now, or still to come.</summary>
    private static bool IsThrough(Case of, IReadOnlyList<Ballot> ballots) =>
        ballots.Count > 0 && !ballots.Any(b => Standing.IsOpen(b, of.Items, of.Votes, of.Struck, of.Plan.Inputs));

    public static IReadOnlyList<StageView> StagesOf(Case of, Party? viewer, DateTimeOffset now)
    {
        var row = of.Row;
        var over = row.State is RequestState.Releasing or RequestState.Fulfilling or RequestState.Completed;
        var views = new List<StageView>();
        for (var i = 0; i < of.Stages.Count; i++)
        {
            var stage = of.Stages[i];
            var current = row.State is RequestState.Deciding or RequestState.Asked && i == row.Stage && of.Open.Count > 0;
            var ballots = current ? of.Open : stage.Ballots;
            var state =
                current ? "now"
                : stage.SkippedBecause is not null ? "skipped"
                : over || (row.State is RequestState.Deciding or RequestState.Asked && i < row.Stage) ? "passed"
                : row.State == RequestState.Declined && i >= row.Stage ? "open"
                : row.State is RequestState.Withdrawn or RequestState.Lapsed ? (IsThrough(of, ballots) ? "passed" : "open")
                : "next";
            var mine = viewer is null || !current ? [] : of.VotesOf(viewer, now).Select(v => v.Ballot.Item).ToHashSet();
            views.Add(
                new(
                    stage.Rule.Name,
                    stage.Rule.Title,
                    string.Join("; ", ballots.Select(b => b.Deciders.Why).Distinct()),
                    [.. ballots.SelectMany(b => b.Deciders.UserNames).Distinct()],
                    ballots.Select(b => b.Deciders.Role).FirstOrDefault(r => r is not null),
                    ballots.Count == 0 ? 0 : ballots.Max(b => b.Needed),
                    stage.Rule.PerItem,
                    state,
                    stage.SkippedBecause,
                    current ? StageClock.FromJson(row.Clock).Deadline.ToInstant() : null,
                    [
                        .. ballots.Select(b => new BallotView(
                            b.Item.Length > 0 ? b.Item : null,
                            b.Deciders.Why,
                            b.Deciders.UserNames,
                            b.Deciders.Role,
                            b.Needed,
                            [.. of.Given(b)],
                            mine.Contains(b.Item)
                        )),
                    ]
                )
            );
        }
        return views;
    }

    /// <summary>The points people ask about: when a joiner is prepared and ready, when a leaver is closed off and wound down.</summary>
    /// <param name="findings">What was found changed outside since: a point that was reached is not reached any more then.</param>
    private static IReadOnlyList<Milestone> Milestones(Case of, IReadOnlyList<StepRow> steps, IReadOnlyList<FindingRow> findings)
    {
        if (of.Row.Kind is not ("joiner" or "leaver"))
            return [];
        var changes = steps
            .Select(s => (Step: s, Change: JsonSerializer.Deserialize<Change>(s.Change, JsonSerializerOptions.Web)!))
            .ToList();
        var now = changes.Where(c => c.Step.Later == 0).ToList();
        if (of.Row.Kind == "joiner")
        {
            var made = now.Where(c => c.Change.Due is null || c.Change is Change.CreateAccount or Change.AdoptAccount or Change.SetPassword)
                .ToList();
            return
            [
                Point("prepared", "Prepared", made, "accounts exist and wait for the first day"),
                Point("ready", "Ready", now, "everything works"),
            ];
        }
        var shut = now.Where(c => c.Change is Change.DisableAccount).ToList();
        return
        [
            Point("closed-off", "Closed off", shut.Count > 0 ? shut : now, "no account can be used any more"),
            Point("wound-down", "Wound down", changes, "all that was held is taken back"),
        ];

        Milestone Point(string name, string title, List<(StepRow Step, Change Change)> needed, string meaning) =>
            PointOf(of, needed, findings, new(name, title, true, null, meaning));
    }

    /// <summary>A point that is reached when all that it needs is done. What was no longer wanted was not reached.</summary>
    /// <param name="point">The point as it is told when it is reached.</param>
    private static Milestone PointOf(
        Case of,
        List<(StepRow Step, Change Change)> needed,
        IReadOnlyList<FindingRow> findings,
        Milestone point
    )
    {
        var over = needed.Where(n => n.Step.State == StepState.Done).ToList();
        var dropped = needed.Count(n => n.Step.State == StepState.Dropped);
        var reached = needed.Count > 0 && over.Count == needed.Count;
        var accounts = needed.Select(n => n.Change.Account).ToHashSet();
        // An account that somebody lets stay as it is counts as it was left; more access than was given undoes nothing.
        if (
            reached
            && findings.FirstOrDefault(f => f.LeftBy.Length == 0 && accounts.Contains(new(f.Target, f.Slot)) && Undoes(f)) is { } found
        )
            return point with
            {
                Reached = false,
                Text =
                    $"was reached; the account {found.Account} in {of.Edition.Rulebook.TitleOf(new AccountKey(found.Target, found.Slot))} "
                    + $"was changed outside since {RequestStory.At(found.SinceAt.ToInstant())}",
            };
        DateTimeOffset? at =
            reached ? over.Max(o => o.Step.DoneAt ?? 0).ToInstant()
            : needed.Count > dropped ? needed.Where(n => n.Step.State != StepState.Dropped).Max(n => n.Step.DueAt).ToInstant()
            : null;
        return point with
        {
            Reached = reached,
            At = at,
            Text =
                reached ? point.Text
                : needed.Count == 0 ? "begins when the request is carried out"
                : dropped > 0 ? $"{over.Count} of {needed.Count} steps are done, {dropped} no longer wanted"
                : $"{over.Count} of {needed.Count} steps are done",
        };
    }

    private static bool Undoes(FindingRow finding) => Difference.FromJson(finding.Differences).Any(d => d is not Difference.Surplus);

    public static ChangeView View(Change change, Edition? edition, Plan? plan = null)
    {
        var target = edition?.Rulebook.Targets.GetValueOrDefault(change.Target);
        return new(
            change.Ordinal,
            EnumText.Of(change.Kind),
            Text(change, target),
            change.Account.ToString(),
            change.Subject,
            change.Due,
            change.Later,
            [.. change.Attributes.Select(a => new AttributeChangeView(a.Name, a.Before, a.After))],
            new(change.Reason.Rule, change.Reason.Place, change.Reason.Condition),
            plan?.ByRules?.Contains(change.Ordinal) == true
        );
    }

    public static string Text(Change change, TargetRule? target)
    {
        var where = change.Account.Titled(target?.Title ?? change.Target);
        var account = change.Entry.Name;
        var byHand = target is { HasAccounts: false };
        return change switch
        {
            Change.CreateAccount { IsBroughtBack: true } =>
                $"Bring the deleted account {account} back in {where}{(change.Entry.Enabled ? "" : ", asleep until the first day")}",
            Change.CreateAccount =>
                $"Create the account {account} in {where}{(change.Entry.Enabled ? "" : ", asleep until the first day")}",
            Change.AdoptAccount => $"Take over the existing account {account} in {where}",
            Change.ChangeAccount { Changed.Count: 0 } => $"Move the account {account} in {where} to {change.Entry.Container}",
            Change.ChangeAccount changed when RenameOf(changed, target) is { } before =>
                $"Rename the account {before} in {where} to {account}",
            Change.ChangeAccount => $"Change the account {account} in {where}",
            Change.SetPassword => $"Set a password nobody knows on {account}, and send a one-time link",
            Change.EnableAccount => $"Wake the account {account} in {where}",
            Change.DisableAccount => $"Disable the account {account} in {where}",
            Change.Grant grant => byHand
                ? $"Give {Title(grant.Given)} by hand ({where})"
                : $"Add {account} to {Title(grant.Given)} in {where}",
            Change.Revoke revoke => byHand
                ? $"Take {Title(revoke.Taken)} back by hand ({where})"
                : $"Remove {account} from {Title(revoke.Taken)} in {where}",
            Change.Verify => $"Read {account} back from {where} and compare",
            _ => throw new UnreachableException($"'{change.Kind}' has no words."),
        };

        string Title(EntitlementKey key) => target?.Entitlements.GetValueOrDefault(key.Name)?.Title ?? key.Name;
    }

    /// <summary>The name a change takes from an account; null when it leaves it its name.</summary>
    public static string? RenameOf(Change change, TargetRule? target) =>
        change is Change.ChangeAccount
            ? change
                .Attributes.FirstOrDefault(a => a.Name.Equals(target?.Settings.NameAttribute, StringComparison.OrdinalIgnoreCase))
                ?.Before.FirstOrDefault("")
            : null;

    /// <summary>True when a first password was made with the request and the caller may have a new link to it sent.</summary>
    private static bool MayAskForLink(Case of, IReadOnlyList<StepRow> steps, ClaimsPrincipal user)
    {
        var targets = steps
            .Where(s => s.State == StepState.Done)
            .Select(s => JsonSerializer.Deserialize<Change>(s.Change, JsonSerializerOptions.Web))
            .OfType<Change.SetPassword>()
            .Select(c => c.Target)
            .Distinct()
            .ToList();
        return targets.Count > 0 && PasswordRight.WhyNot(user, of.Person, targets) is null;
    }

    /// <summary>The votes somebody has now, or why they have none.</summary>
    private static (IReadOnlyList<(Ballot Ballot, string For)> Votes, string? WhyNot) VotesOf(Case of, Party party, DateTimeOffset now)
    {
        if (!(of.Row.State is RequestState.Deciding or RequestState.Asked && of.Open.Count > 0))
            return ([], null);
        try
        {
            return (of.RequireVotes(party, now), null);
        }
        catch (RefusedMove refused)
        {
            return ([], refused.Message);
        }
    }

    private static Rights RightsOf(
        Case of,
        IReadOnlyList<StepRow> steps,
        IReadOnlyList<string> asked,
        ClaimsPrincipal user,
        DateTimeOffset now
    )
    {
        var row = of.Row;
        var party = of.PartyOf(user);
        var isOperator = party.Holds(Roles.Operator, of.About);
        var (mine, whyNot) = VotesOf(of, party, now);
        var decide = mine.Count > 0 && row.State == RequestState.Deciding;
        var release =
            row.State == RequestState.Releasing && RequestDesk.DecidersOf(row).Includes(party, of.About) && !party.IsBeneficiary(of.About);
        var own = RequestDesk.IsRequesters(of, user);
        var waiting =
            row.State
            is RequestState.Planning
                or RequestState.Choosing
                or RequestState.Deciding
                or RequestState.Asked
                or RequestState.Releasing;
        IReadOnlyList<string> change =
            !waiting ? []
            : asked.Count > 0 && own ? asked
            : own && row.Source == Workflow.ByHand
                ? [.. of.Wish.Changes.Keys, .. of.Wish.Grants.Count > 0 ? ["until"] : Array.Empty<string>()]
            : decide ? of.Stage?.MayChange ?? []
            : [];
        return new()
        {
            Approve = decide,
            Decline = mine.Count > 0,
            Release = release && row.Held.Length == 0,
            Choose = isOperator && row.State == RequestState.Choosing,
            Retry =
                isOperator
                && (
                    (row.State == RequestState.Planning && row.Problem.Length > 0)
                    || steps.Any(s => s.State == StepState.Stopped || (s.State == StepState.Pending && s.Attempts > 0))
                ),
            WhyNot = whyNot,
            Ask = decide,
            Answer = row.State == RequestState.Asked && own && asked.Count == 0,
            Undo = RequestDesk.WhyNotUndo(of, party, now) is null,
            Withdraw = (waiting || row.State == RequestState.Fulfilling) && RequestDesk.WhyNotWithdraw(of, party, own) is null,
            Hold = release && row.Held.Length == 0,
            Resume = release && row.Held.Length > 0,
            Return = release,
            InPart = decide && of.Stage is { InPart: true },
            Change = change,
            Items = [.. mine.Where(m => m.Ballot.Item.Length > 0).Select(m => m.Ballot.Item)],
            OnBehalf = mine.Count > 0 && mine[0].For != party.UserName ? mine[0].For : null,
            NewLink = MayAskForLink(of, steps, user),
            LeaveOut =
                steps.Where(RequestDesk.IsFailing).ToList() is { Count: > 0 } failing
                && RequestDesk.WhyNotLeaveOut(of, failing, party) is null,
        };
    }
}
