using Oikonom.Core.Approval;
using Oikonom.Store.Rooms;
using Xunit;

namespace Oikonom.Store.Tests;

/// <summary>Roll-outs, and the editions people are on.</summary>
public abstract partial class StoreTests
{
    private static readonly (IReadOnlyList<string> Sites, IReadOnlyList<string> Departments)[] Reef = [(["reef"], [])];

    private static PersonRow Placed(string id, string department, string site = "harbour") =>
        new()
        {
            Id = id,
            PersonKey = "P" + id,
            Number = "E" + id,
            Display = "Tor " + id,
            SearchKey = $"quill{id} tor",
            Department = department,
            Site = site,
            StartDay = "2026-01-01",
            Facts = "{}",
            Source = "hr",
            At = Now,
        };

    private static RolloutPersonRow Listed(string person, string state = "open", string effects = "[{\"Rule\":\"pay\"}]") =>
        new()
        {
            RolloutId = "r1",
            PersonId = person,
            Effects = effects,
            Digest = "d" + person,
            Loses = person == "2" ? 1 : 0,
            State = state,
        };

    private static RolloutRow Rollout(string id = "r1", long number = 1, string state = "open") =>
        new()
        {
            Id = id,
            Number = number,
            Edition = 4,
            State = state,
            Author = "edda",
            MadeAt = Now,
            UpdatedAt = Now,
            People = 3,
        };

    /// <summary>Three people on edition 3 in the list of a roll-out of edition 4; a fourth is on it already, a fifth on none.</summary>
    private Task RolledAsync(string state = "open") =>
        _store.WriteAsync(async s =>
        {
            await s.UpsertPeopleAsync([
                Placed("1", "Dive"),
                Placed("2", "Dive", "reef"),
                Placed("3", "Office"),
                Placed("4", "Office"),
                Placed("5", "Office"),
            ]);
            Assert.Equal(3, await s.PutOnEditionAsync(["1", "2", "3"], 0, 3, Now));
            Assert.Equal(1, await s.PutOnEditionAsync(["4"], 0, 4, Now));
            await s.AddRolloutAsync(Rollout(state: state));
            await s.AddRolloutPeopleAsync(4, [Listed("1"), Listed("2"), Listed("3"), Listed("4"), Listed("5"), Listed("nobody")]);
        });

    private Task<IReadOnlyList<RolloutPersonRow>> PeopleOfAsync(
        string state = "",
        string department = "",
        string template = "",
        long? wave = null,
        string text = ""
    ) => _store.ReadAsync(s => s.RolloutPeopleAsync(new("r1", state, department, template, wave, text)));

    [Fact]
    public async Task Somebody_is_put_on_an_edition_only_from_the_one_they_were_thought_to_be_on()
    {
        await RolledAsync();
        Assert.Equal([(3L, 3L), (4L, 1L)], await _store.ReadAsync(s => s.PeopleByEditionAsync()));
        Assert.Equal([3L], await _store.ReadAsync(s => s.EditionsBeforeAsync(4)));
        Assert.Empty(await _store.ReadAsync(s => s.EditionsBeforeAsync(3)));
        Assert.Equal(0, await _store.WriteAsync(s => s.PutOnEditionAsync(["1"], 2, 4, Now)));
        Assert.Equal(3, await _store.WriteAsync(s => s.EditionOfAsync("1")));
        // Whoever is put on another is looked at anew, and what was worked out before is not written over it.
        var before = (await _store.ReadAsync(s => s.DuePeopleAsync(long.MaxValue, 9))).Single(d => d.Id == "1");
        Assert.Equal(1, await _store.WriteAsync(s => s.PutOnEditionAsync(["1"], 3, 4, Now + 5)));
        var after = (await _store.ReadAsync(s => s.DuePeopleAsync(long.MaxValue, 9))).Single(d => d.Id == "1");
        Assert.Equal((before.NextAt, before.Looks + 1), (after.NextAt, after.Looks));
        // What HR says of them later leaves the edition as it is.
        await _store.WriteAsync(s => s.UpsertPeopleAsync([Placed("1", "Office")]));
        Assert.Equal(4, (await _store.ReadAsync(s => s.PersonAsync("1")))!.Edition);
    }

    [Fact]
    public async Task The_list_of_a_roll_out_holds_who_is_on_an_earlier_edition_each_once()
    {
        await RolledAsync();
        var people = await PeopleOfAsync();
        Assert.Equal(
            [("1", 3L, "Dive"), ("2", 3L, "Dive"), ("3", 3L, "Office")],
            people.Select(p => (p.PersonId, p.FromEdition, p.Department))
        );
        Assert.Equal(0, await _store.WriteAsync(s => s.AddRolloutPeopleAsync(4, [Listed("1", "approved")])));
        Assert.Equal("open", (await _store.ReadAsync(s => s.RolloutPersonAsync("r1", "1")))!.State);
        Assert.Null(await _store.ReadAsync(s => s.RolloutPersonAsync("r1", "4")));
        // By number and by id; what is neither names none.
        Assert.Equal("edda", (await _store.ReadAsync(s => s.FindRolloutAsync("1")))!.Author);
        Assert.Null(await _store.ReadAsync(s => s.FindRolloutAsync("2")));
        Assert.Null(await _store.ReadAsync(s => s.FindRolloutAsync("r1' OR 1=1")));
        Assert.Equal(2, await _store.ReadAsync(s => s.NextRolloutNumberAsync()));
    }

    [Fact]
    public async Task People_of_a_roll_out_are_found_by_what_they_are_asked_for()
    {
        await RolledAsync();
        await _store.WriteAsync(async s =>
        {
            await s.PutOnEditionAsync(["5"], 0, 2, Now);
            await s.AddRolloutPeopleAsync(4, [Listed("5", "done", "[]")]);
            await s.MarkRolloutPeopleAsync("r1", ["2"], "approved");
        });
        Assert.Equal(["1", "3"], (await PeopleOfAsync("open")).Select(p => p.PersonId));
        Assert.Equal(["1", "2"], (await PeopleOfAsync(department: "Dive")).Select(p => p.PersonId));
        Assert.Equal(["2"], (await PeopleOfAsync("approved", "Dive")).Select(p => p.PersonId));
        Assert.Equal(3, (await PeopleOfAsync(template: "pay")).Count);
        Assert.Empty(await PeopleOfAsync(template: "p%"));
        Assert.Equal(["3"], (await PeopleOfAsync(text: "E3")).Select(p => p.PersonId));
        Assert.Equal(["3"], (await PeopleOfAsync(text: "Quill3")).Select(p => p.PersonId));
        // For whom nothing changes is not in the way; their wave, which is none, shows them.
        Assert.Empty(await PeopleOfAsync("done"));
        Assert.Equal(["5"], (await PeopleOfAsync("done", wave: 0)).Select(p => p.PersonId));
        Assert.Equal(
            ["2"],
            (await _store.ReadAsync(s => s.RolloutPeopleAsync(new("r1", "", "", "", null, "") { Reach = Reef }))).Select(p => p.PersonId)
        );
        var rest = await _store.ReadAsync(s =>
            s.RolloutPeopleAsync(
                new("r1", "", "", "", null, "")
                {
                    AfterName = "quill1 tor",
                    AfterId = "1",
                    Limit = 1,
                }
            )
        );
        Assert.Equal(["2"], rest.Select(p => p.PersonId));
    }

    [Fact]
    public async Task Decisions_cover_the_undecided_within_reach_and_are_counted_by_department()
    {
        await RolledAsync();
        Task<IReadOnlyList<(string, string, string)>> OpenAsync(string department, bool reef = false) =>
            _store.ReadAsync(s => s.UndecidedAsync("r1", department, reef ? Reef : null));
        Assert.Equal([("1", "E1", "d1"), ("2", "E2", "d2"), ("3", "E3", "d3")], await OpenAsync(""));
        Assert.Equal([("1", "E1", "d1"), ("2", "E2", "d2")], await OpenAsync("Dive"));
        Assert.Equal([("2", "E2", "d2")], await OpenAsync("", reef: true));
        Assert.Empty(await _store.ReadAsync(s => s.UndecidedAsync("r1", "", [])));
        await _store.WriteAsync(s => s.MarkRolloutPeopleAsync("r1", ["2"], "declined"));
        Assert.Equal([("1", "E1", "d1")], await OpenAsync("Dive"));
        Assert.Equal(
            [("Dive", "declined", 1L, 1L), ("Dive", "open", 1L, 0L), ("Office", "open", 1L, 0L)],
            (await _store.ReadAsync(s => s.RolloutTalliesAsync("r1", null)))
                .Select(t => (t.Department, t.State, t.People, t.Losing))
                .Order()
        );
        Assert.Equal(
            [("Dive", "declined")],
            (await _store.ReadAsync(s => s.RolloutTalliesAsync("r1", Reef))).Select(t => (t.Department, t.State))
        );
        await _store.WriteAsync(s =>
            s.AddRolloutDecisionAsync(
                new()
                {
                    RolloutId = "r1",
                    Department = "Dive",
                    Actor = "mara",
                    Verdict = "approved",
                    Digest = "x",
                    People = 2,
                    At = Now,
                }
            )
        );
        Assert.Equal(("mara", 2L), (await _store.ReadAsync(s => s.RolloutDecisionsAsync("r1"))).Select(d => (d.Actor, d.People)).Single());
    }

    [Fact]
    public async Task A_wave_takes_who_was_approved_and_has_nothing_else_open_and_nobody_twice()
    {
        await RolledAsync("running");
        await _store.WriteAsync(async s =>
        {
            await s.MarkRolloutPeopleAsync("r1", ["1", "2", "3"], "approved");
            await s.AddRequestsAsync([Request("q1", "2")]);
        });
        Assert.Equal(["1", "3"], (await _store.ReadAsync(s => s.NextOfRolloutAsync("r1", 9))).Select(p => p.PersonId));
        Assert.Equal(["1"], (await _store.ReadAsync(s => s.NextOfRolloutAsync("r1", 1))).Select(p => p.PersonId));
        // The second takes the edition by a request of their own.
        await _store.WriteAsync(async s =>
        {
            await s.PutOnEditionAsync(["2"], 3, 4, Now);
            Assert.Equal(1, await s.NoteMovedAsync("r1", 4));
            Assert.Equal(0, await s.NoteMovedAsync("r1", 4));
        });
        Assert.Equal("moved", (await _store.ReadAsync(s => s.RolloutPersonAsync("r1", "2")))!.State);
        // A request of the wave is followed until it has ended.
        await _store.WriteAsync(async s =>
        {
            await s.AddRequestsAsync([Request("q2", "1")]);
            var first = (await s.RolloutPersonAsync("r1", "1"))!;
            (first.State, first.Wave, first.RequestId) = ("running", 1, "q2");
            await s.SaveRolloutPeopleAsync([first]);
        });
        var way = Assert.Single(await _store.ReadAsync(s => s.UnderWayAsync("r1")));
        Assert.Equal(
            ("1", "running", 1L, 3L, RequestState.Planning, 0L),
            (way.PersonId, way.State, way.Wave, way.Edition, way.RequestState, way.Stopped)
        );
        Assert.Null(await _store.ReadAsync(s => s.LastDoneWaveAsync("r1")));
        await _store.WriteAsync(s => s.MarkRolloutPeopleAsync("r1", ["1"], "done"));
        Assert.Equal(1, await _store.ReadAsync(s => s.LastDoneWaveAsync("r1")));
        Assert.Equal(["1"], (await _store.ReadAsync(s => s.DoneOfWaveAsync("r1", 1, 9))).Select(p => p.PersonId));
    }

    [Fact]
    public async Task The_rest_is_who_is_on_another_edition_and_not_in_the_list()
    {
        await RolledAsync();
        await _store.WriteAsync(s => s.PutOnEditionAsync(["5"], 0, 2, Now));
        Assert.Equal([("5", 2L)], await _store.ReadAsync(s => s.RestOfAsync("r1", 4, 9)));
        await _store.WriteAsync(s => s.AddRolloutPeopleAsync(4, [Listed("5", "done", "[]")]));
        Assert.Empty(await _store.ReadAsync(s => s.RestOfAsync("r1", 4, 9)));
    }

    [Fact]
    public async Task Roll_outs_are_due_while_something_of_them_is_under_way_or_their_pause_is_over()
    {
        await RolledAsync("held");
        Task<IReadOnlyList<string>> DueAsync() => _store.ReadAsync(s => s.DueRolloutsAsync(Now));
        async Task StandAsync(string state, long? next = null) =>
            await _store.WriteAsync(async s =>
            {
                var row = (await s.FindRolloutAsync("1", forUpdate: true))!;
                (row.State, row.NextAt) = (state, next);
                await s.SaveRolloutAsync(row);
            });
        Assert.Empty(await DueAsync());
        foreach (
            var (state, next, due) in new[]
            {
                ("open", (long?)null, false),
                ("running", null, true),
                ("turning-back", null, true),
                ("pausing", null, false),
                ("pausing", Now + 1, false),
                ("pausing", Now, true),
                ("stopped", null, false),
                ("done", null, false),
            }
        )
        {
            await StandAsync(state, next);
            Assert.Equal(due ? ["r1"] : [], await DueAsync());
        }
        // What is decided on its own is followed to its end, also when all else is done.
        await _store.WriteAsync(s => s.MarkRolloutPeopleAsync("r1", ["1"], "own"));
        Assert.Equal(["r1"], await DueAsync());
        Assert.Equal(1, (await _store.ReadAsync(s => s.OpenRolloutOfAsync("1")))!.Number);
        Assert.Equal(1, (await _store.ReadAsync(s => s.OpenRolloutOfAsync("3")))!.Number);
        Assert.Null(await _store.ReadAsync(s => s.OpenRolloutOfAsync("4")));
        await StandAsync("superseded");
        Assert.Null(await _store.ReadAsync(s => s.OpenRolloutOfAsync("3")));
        Assert.Empty(await _store.WriteAsync(s => s.OpenRolloutsAsync()));
    }

    [Fact]
    public async Task A_plan_made_while_somebody_was_on_another_edition_is_found()
    {
        await RolledAsync();
        await _store.WriteAsync(async s =>
        {
            await s.AddRequestsAsync([Request("q1", "1"), Request("q2", "2"), Request("q3", "3")]);
            foreach (
                var (id, state, on, plan) in new[]
                {
                    ("q1", RequestState.Deciding, 3L, "{}"),
                    ("q2", RequestState.Releasing, 2L, "{}"),
                    ("q3", RequestState.Asked, 2L, null),
                }
            )
            {
                var row = (await s.RequestAsync(id, forUpdate: true))!;
                if (state == RequestState.Asked)
                    row.Move(RequestEvent.AskBack);
                else
                    row.Move(RequestEvent.Planned, state == RequestState.Deciding ? 0 : 1, 1);
                Assert.Equal(state, row.State);
                (row.OnEdition, row.Plan) = (on, plan);
                Assert.True(await s.SaveRequestAsync(row));
            }
        });
        // Planned where they are; planned elsewhere; not planned at all.
        Assert.Equal(["q2"], await _store.ReadAsync(s => s.PlannedElsewhereAsync(["1", "2", "3"])));
    }
}
