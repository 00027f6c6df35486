using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Planning;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Rulebook;

/// <summary>Roll-outs as people see them: whose role is limited is told of nothing outside their part.</summary>
public sealed class RollOutViews(Store.Store store, EditionBook editions)
{
    private static readonly string[] UnderWay = ["running", "own", "turning"];

    /// <summary>How many stand where; asked by department, state and wave.</summary>
    private sealed record Counts(IReadOnlyList<(string Department, string State, long Wave, long People, long Losing)> Rows, bool IsWhole)
    {
        public static async Task<Counts> LoadAsync(Session s, RolloutRow row, ClaimsPrincipal user)
        {
            var reach = user.ReachParts();
            return new(await s.RolloutTalliesAsync(row.Id, reach), reach is null);
        }

        public bool Any(params string[] states) => Rows.Any(t => states.Contains(t.State));

        public long Of(params string[] states) => Rows.Where(t => states.Contains(t.State)).Sum(t => t.People);

        /// <summary>Those for whom something changes, by department.</summary>
        public IEnumerable<(string Department, Counts Part)> Departments =>
            Rows.Where(t => !IsUnchanged(t))
                .GroupBy(t => t.Department)
                .OrderBy(g => g.Key, StringComparer.Ordinal)
                .Select(g => (g.Key, new Counts([.. g], IsWhole)));

        public IEnumerable<(long Wave, Counts Part)> Waves =>
            Rows.Where(t => t.Wave > 0 || IsUnchanged(t))
                .GroupBy(t => t.Wave)
                .OrderBy(g => g.Key)
                .Select(g => (g.Key, new Counts([.. g], IsWhole)));

        /// <summary>Those whom the edition can serve and changes something for.</summary>
        public long Differing => Rows.Where(t => t.State != "failing" && !IsUnchanged(t)).Sum(t => t.People);

        public long Losing => Rows.Sum(t => t.Losing);

        public long Unchanged => Rows.Where(IsUnchanged).Sum(t => t.People);

        private static bool IsUnchanged((string Department, string State, long Wave, long People, long Losing) t) =>
            t.Wave == 0 && t.State is "done" or "turned-back";
    }

    /// <summary>All roll-outs in lines, the newest first.</summary>
    public Task<IReadOnlyList<RolloutSummary>> ListAsync(ClaimsPrincipal user, bool openOnly, CancellationToken cancel) =>
        store.ReadAsync<IReadOnlyList<RolloutSummary>>(
            async s =>
            {
                var found = new List<RolloutSummary>();
                foreach (var row in (await s.RolloutsAsync(100)).Where(r => !openOnly || RollOutMachine.IsOpen(r.StateOf())))
                    found.Add(Summary(row, await Counts.LoadAsync(s, row, user)));
                return found;
            },
            cancel
        );

    public Task<RolloutDetail> DetailAsync(string id, ClaimsPrincipal user, CancellationToken cancel) =>
        store.ReadAsync(
            async s =>
            {
                var row = await s.FindRolloutAsync(id) ?? throw NotFound(id);
                var right = new RollOutRight(row, await editions.BeforeAsync(row.Edition, cancel), await s.UsersAsync(), user);
                var counts = await Counts.LoadAsync(s, row, user);
                var isDecidedOn = RollOutMachine.IsDecidedOn(row.StateOf());
                async Task<(IReadOnlyList<string> People, string Digest)?> CoveredAsync(string department, Counts part) =>
                    isDecidedOn && part.Any("open") && right.MayDecide(department) ? await right.CoveredAsync(s, department) : null;

                var departments = new List<RolloutDepartment>();
                foreach (var (name, part) in counts.Departments)
                    departments.Add(Department(name, part, await CoveredAsync(name, part)));
                var covered = await CoveredAsync("", counts);
                var report = counts.IsWhole ? RollOutReport.FromJson(row.Report) : new([], []);
                var decisions = await s.RolloutDecisionsAsync(row.Id);
                return new RolloutDetail
                {
                    Summary = Summary(row, counts),
                    Brake = counts.IsWhole && row.Brake.Length > 0 ? row.Brake : null,
                    ReleasedBy = row.ReleasedBy.Length > 0 ? row.ReleasedBy : null,
                    Digest = covered?.Digest,
                    Covers = covered?.People.Count ?? 0,
                    Templates = RehearsalDesk.Tallies(report.Templates),
                    Entitlements = RehearsalDesk.Tallies(report.Entitlements),
                    Departments = departments,
                    Waves =
                    [
                        .. counts.Waves.Select(w => new RolloutWave(
                            w.Wave,
                            w.Part.Rows.Sum(t => t.People),
                            w.Part.Of("done", "moved"),
                            w.Part.Of(UnderWay),
                            w.Part.Of("turned-back")
                        )),
                    ],
                    Decisions =
                    [
                        .. decisions.Where(d => counts.IsWhole || departments.Exists(x => x.Department == d.Department)).Select(View),
                    ],
                    Rights = Rights(row, counts, right, covered?.People.Count > 0, user),
                    WaveSize = row.WaveSize > 0 ? row.WaveSize : null,
                    Pause = row.Pause is { } pause ? System.Xml.XmlConvert.ToString(TimeSpan.FromMilliseconds(pause)) : null,
                    NextAt = row.NextAt.ToInstant(),
                    States = counts.Rows.GroupBy(t => t.State).ToDictionary(g => g.Key, g => g.Sum(t => t.People)),
                };
            },
            cancel
        );

    private static RolloutSummary Summary(RolloutRow row, Counts counts)
    {
        var state = row.StateOf();
        var problem =
            row.Problem.Length > 0 ? row.Problem
            : state == RollOutState.Held ? row.Brake
            : null;
        return new()
        {
            Id = row.Id,
            Number = row.Number,
            Edition = (int)row.Edition,
            State = row.State,
            StateText = RollOutMachine.Word(state),
            Author = row.Author,
            MadeAt = row.MadeAt.ToInstant(),
            People = counts.IsWhole ? row.People : counts.Differing,
            Losing = counts.IsWhole ? row.Losing : counts.Losing,
            Same = counts.IsWhole ? row.Same : counts.Unchanged,
            Failing = counts.IsWhole ? row.Failing : counts.Of("failing"),
            Wave = row.Wave,
            Undecided = counts.Of("open"),
            Approved = counts.Of("approved"),
            UnderWay = counts.Of(UnderWay),
            Done = counts.Of("done"),
            Problem = counts.IsWhole ? problem : null,
        };
    }

    private static RolloutDepartment Department(string name, Counts part, (IReadOnlyList<string> People, string Digest)? covered) =>
        new(
            name,
            part.Differing,
            part.Losing,
            part.Of("open"),
            part.Of("approved"),
            part.Of("declined"),
            part.Of("failing"),
            part.Of("done", "moved"),
            covered?.Digest,
            covered?.People.Count ?? 0,
            covered?.People.Count > 0
        );

    private static RolloutRights Rights(RolloutRow row, Counts counts, RollOutRight right, bool decides, ClaimsPrincipal user)
    {
        var (state, isOperator) = (row.StateOf(), user.RoleNames().Contains(Roles.Operator) && user.ReachOf(Roles.Operator) is null);
        return new(
            decides,
            state == RollOutState.Held && right.MayPass,
            isOperator && RollOutMachine.Can(state, RollOutEvent.Begin) && (row.People == 0 || counts.Any("approved")),
            isOperator && RollOutMachine.Can(state, RollOutEvent.Stop),
            right.MayDecide("")
                && right.Reach("") is null
                && RollOutMachine.Can(state, RollOutEvent.TurnBack)
                && counts.Any("done")
                && !counts.Any("running", "turning")
        );
    }

    private static RolloutDecision View(RolloutDecisionRow row) =>
        new(row.Department.Length > 0 ? row.Department : null, row.Actor, row.Verdict, row.Remark, row.People, row.At.ToInstant());

    public static RolloutPerson View(RolloutPersonRow row) =>
        new(
            row.PersonId,
            row.PersonNumber,
            row.Display,
            row.Department,
            row.Site,
            row.FromEdition,
            row.State,
            row.Wave,
            [.. (JsonSerializer.Deserialize<List<Effect>>(row.Effects) ?? []).Select(RehearsalDesk.View)],
            row.RequestId.Length > 0 ? row.RequestId : null,
            row.Problem.Length > 0 ? row.Problem : null
        );

    public static Problem NotFound(string id) => Problem.NotFound($"roll-out '{id}'", "See 'oikonom rollouts list'.");
}
