using Oikonom.Core.Approval;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Proofs;
using Oikonom.Store.Rooms;
using Oikonom.Testing;
using Xunit;

[assembly: AssemblyFixture(typeof(Oikonom.Store.Tests.PostgresFixture))]

namespace Oikonom.Store.Tests;

public sealed class PostgresFixture : IAsyncLifetime
{
    public PostgresServer Server { get; private set; } = null!;

    public async ValueTask InitializeAsync() => Server = await PostgresServer.StartAsync();

    public ValueTask DisposeAsync() => Server.DisposeAsync();
}

/// <summary>The same tests on both engines.</summary>
public sealed class SqliteStoreTests : StoreTests
{
    protected override Task<Engine> NewEngineAsync() => Task.FromResult<Engine>(new SqliteEngine(Folder.At("oikonom.db")));
}

public sealed class PostgresStoreTests(PostgresFixture fixture) : StoreTests
{
    protected override async Task<Engine> NewEngineAsync() => new PostgresEngine(await fixture.Server.NewDatabaseAsync());

    [Fact]
    public async Task Two_nodes_can_migrate_at_once()
    {
        var connection = await fixture.Server.NewDatabaseAsync();
        await Task.WhenAll(
            Enumerable
                .Range(0, 4)
                .Select(_ =>
                    Task.Run(async () =>
                    {
                        await using var engine = new PostgresEngine(connection);
                        engine.Migrate();
                    })
                )
        );
        await using var store = new Store(new PostgresEngine(connection), TimeProvider.System);
        Assert.Equal(0, await store.ReadAsync(s => s.LastEditionNumberAsync()));
    }
}

public abstract partial class StoreTests : IAsyncLifetime
{
    private const long Now = 1_800_000_000_000;
    private Store _store = null!;

    protected ScratchFolder Folder { get; } = new();

    protected abstract Task<Engine> NewEngineAsync();

    public async ValueTask InitializeAsync()
    {
        var engine = await NewEngineAsync();
        engine.Migrate();
        engine.Migrate();
        _store = new(engine, TimeProvider.System);
    }

    public async ValueTask DisposeAsync()
    {
        await _store.DisposeAsync();
        Folder.Dispose();
        GC.SuppressFinalize(this);
    }

    [Fact]
    public async Task What_a_request_wrote_is_taken_back_and_what_it_ended_holds_again_unless_a_later_one_took_its_place()
    {
        static ExtraRow Grant(string id, string subject, string request) =>
            new()
            {
                Id = id,
                PersonId = "p1",
                Kind = "grant",
                Subject = subject,
                FromAt = 1,
                Reason = "{}",
                RequestId = request,
            };
        await _store.WriteAsync(s => s.UpsertPeopleAsync([Person("p1")]));
        await _store.WriteAsync(s => s.AddExtrasAsync([Grant("a1", "a", "r1"), Grant("b1", "b", "r1")]));
        await _store.WriteAsync(async s =>
        {
            await s.EndExtraAsync("p1", "grant", "a", 2, "r2");
            await s.EndExtraAsync("p1", "grant", "b", 2, "r2");
            await s.AddExtrasAsync([Grant("a2", "a", "r2"), Grant("b2", "b", "r2"), Grant("c2", "c", "r2")]);
        });
        await _store.WriteAsync(async s =>
        {
            await s.EndExtraAsync("p1", "grant", "b", 3, "r3");
            await s.AddExtrasAsync([Grant("b3", "b", "r3")]);
        });
        await _store.WriteAsync(s => s.TakeBackInputsAsync("r2", ["c"], 4));
        Assert.Equal(["a1", "b3", "c2"], (await _store.ReadAsync(s => s.ExtrasAsync(["p1"]))).Select(e => e.Id));
    }

    [Fact]
    public async Task A_subject_moves_while_steps_of_others_are_due_or_were_done_just_now()
    {
        static StepRow Step(string id, string request, string subject, long due) =>
            new()
            {
                Id = id,
                RequestId = request,
                SubjectId = subject,
                Target = "directory",
                Ordinal = 1,
                Change = "{}",
                DueAt = due,
            };
        Task<bool> MovesAsync(string subject, string request, long since) =>
            _store.ReadAsync(s => s.IsMovingAsync(subject, request, since, Now));
        await _store.WriteAsync(s => s.AddStepsAsync([Step("s1", "r1", "p1", Now), Step("s2", "r1", "p2", Now + 1)]));
        Assert.True(await MovesAsync("p1", "r2", Now));
        // Its own steps, those of another day, and those that were tried and wait do not count.
        Assert.False(await MovesAsync("p1", "r1", Now));
        Assert.False(await MovesAsync("p2", "r2", Now));
        await _store.WriteAsync(s =>
            s.SaveStepsAsync([
                new()
                {
                    Id = "s1",
                    State = StepState.Pending,
                    Attempts = 1,
                    DueAt = Now,
                },
            ])
        );
        Assert.False(await MovesAsync("p1", "r2", Now));
        await _store.WriteAsync(s =>
            s.SaveStepsAsync([
                new()
                {
                    Id = "s1",
                    State = StepState.Done,
                    DueAt = Now,
                    DoneAt = Now - 5,
                },
            ])
        );
        Assert.True(await MovesAsync("p1", "r2", Now - 5));
        Assert.False(await MovesAsync("p1", "r2", Now - 4));
    }

    [Fact]
    public async Task What_takes_access_away_passes_what_waits_longer()
    {
        static StepRow Step(string subject, long due, long removes) =>
            new()
            {
                Id = subject + due,
                RequestId = "r1",
                SubjectId = subject,
                Target = "directory",
                Ordinal = 1,
                Change = "{}",
                DueAt = due,
                Removes = removes,
            };
        // Everybody is to lose something one day; of one that day has come.
        var many = Enumerable.Range(0, 40).Select(i => $"p{i:00}").ToList();
        await _store.WriteAsync(s =>
            s.AddStepsAsync([
                .. many.Select(p => Step(p, Now - 1000, 0)),
                .. many.Select(p => Step(p, Now + 1000, 1)),
                Step("leaver", Now - 1, 1),
            ])
        );
        // What waits is found in its own target, and not while all of it is worked on or before its day.
        async Task<IReadOnlySet<string>> WaitingAsync(long now) =>
            await _store.ReadAsync(s => s.WaitingTargetsAsync(["directory", "desk"], now));
        Assert.Equal(["directory"], await WaitingAsync(Now));
        Assert.Empty(await WaitingAsync(Now - 1001));
        var first = await _store.WriteAsync(s => s.ClaimChainsAsync("directory", "n", Now, Now + 500, 3));
        Assert.Equal(["directory"], await WaitingAsync(Now));
        Assert.Equal(3, first.Count);
        Assert.Equal("leaver", first[0].SubjectId);
        Assert.DoesNotContain(
            "leaver",
            (await _store.WriteAsync(s => s.ClaimChainsAsync("directory", "n", Now, Now + 500, 99))).Select(c => c.SubjectId)
        );
        Assert.Empty(await WaitingAsync(Now + 499));
        Assert.Equal(["directory"], await WaitingAsync(Now + 500));
        var later = await _store.WriteAsync(s => s.ClaimChainsAsync("directory", "n", Now + 2000, Now + 3000, 99));
        Assert.Equal(41, later.Select(c => c.SubjectId).Distinct().Count());
        Assert.Equal(41, later.Count);
    }

    private static PersonRow Person(string id, string family = "quill") =>
        new()
        {
            Id = id,
            PersonKey = "P" + id,
            Number = "E" + id,
            Display = "Tor " + family,
            SearchKey = $"{family} tor",
            Kind = "employee",
            Department = "Dive Team",
            Site = "harbour",
            Title = "Diver",
            Manager = "E2",
            StartDay = "2026-01-01",
            Facts = "{\"given\":\"Tor \\\"ø\\\"\"}",
            Source = "hr",
            At = Now,
        };

    private static RequestRow Request(string id, string person) =>
        new()
        {
            Id = id,
            Kind = "joiner",
            PersonId = person,
            Requester = "ines",
            Cause = "{}",
            Edition = 1,
            Workflow = "staff",
            CreatedAt = Now,
        };

    private Task AddAsync(params string[] ids) =>
        _store.WriteAsync(async s =>
        {
            await s.UpsertPeopleAsync([.. ids.Select(id => Person(id))]);
            await s.AddRequestsAsync([.. ids.Select(id => Request("r" + id, id))]);
        });

    [Fact]
    public async Task What_is_read_as_of_one_instant_fits_together_whoever_writes_meanwhile()
    {
        await _store.WriteAsync(s => s.UpsertPeopleAsync([Person("1")]));
        Task AnotherAsync(string id) => _store.WriteAsync(s => s.UpsertPeopleAsync([Person(id)]));
        var apart = await _store.ReadAsync(async s =>
        {
            var first = await s.PeopleCountAsync();
            await AnotherAsync("2");
            return (first, await s.PeopleCountAsync());
        });
        Assert.Equal((1, 2), apart);
        var together = await _store.SnapshotAsync(async s =>
        {
            var first = await s.PeopleCountAsync();
            await AnotherAsync("3");
            return (first, await s.PeopleCountAsync());
        });
        Assert.Equal((2, 2), together);
        // The connection goes back without what was begun on it, also after a failure.
        await Assert.ThrowsAsync<InvalidOperationException>(() =>
            _store.SnapshotAsync<long>(async s =>
            {
                await s.PeopleCountAsync();
                throw new InvalidOperationException("no");
            })
        );
        await AnotherAsync("4");
        Assert.Equal(4, await _store.SnapshotAsync(s => s.PeopleCountAsync()));
        Assert.Equal(4, await _store.ReadAsync(s => s.PeopleCountAsync()));
    }

    [Fact]
    public async Task A_decision_that_fails_leaves_nothing_behind()
    {
        await Assert.ThrowsAsync<InvalidOperationException>(() =>
            _store.WriteAsync(async s =>
            {
                await s.UpsertPeopleAsync([Person("1")]);
                s.Record(LedgerEntry.Of(DateTimeOffset.UnixEpoch, "a", "b", null, null));
                s.Send(new("x@y.example", "s", "b", null));
                throw new InvalidOperationException("no");
            })
        );
        await _store.ReadAsync(async s =>
        {
            Assert.Null(await s.PersonAsync("1"));
            Assert.Equal(0, await s.ScalarAsync<long>("SELECT COUNT(*) FROM ledger"));
            Assert.Equal(0, await s.ScalarAsync<long>("SELECT COUNT(*) FROM notices"));
            return true;
        });
    }

    [Fact]
    public async Task State_ledger_hints_and_notices_commit_together_and_wake_the_loops()
    {
        var woken = 0;
        _store.Committed += () => woken++;
        await _store.WriteAsync(async s =>
        {
            await s.UpsertPeopleAsync([Person("1")]);
            s.Record(LedgerEntry.Of(DateTimeOffset.UnixEpoch, "mara", "test", "1", "r", ("text", "quote \" and 'ø' \\ ")));
            s.Tell("people", "1");
            s.Send(new("x@y.example", "subject", "body", null));
        });
        Assert.Equal(1, woken);
        var entry = Assert.Single(await _store.ReadAsync(s => s.LedgerPageAsync("", "", "", long.MaxValue, 10)));
        Assert.Contains("quote \\\" and 'ø' \\\\ ", entry.Held, StringComparison.Ordinal);
        Assert.DoesNotContain("quote", entry.Body, StringComparison.Ordinal);
        Assert.Equal("quote \" and 'ø' \\ ", LedgerText.Open(entry.Body, entry.Held).GetProperty("text").GetString());
        Assert.Single(await _store.ReadAsync(s => s.HintsAfterAsync(0)));
        var notice = Assert.Single(await _store.WriteAsync(s => s.ClaimNoticesAsync(long.MaxValue / 2, long.MaxValue, 10)));
        Assert.Equal("subject", notice.Subject);
        Assert.Empty(await _store.WriteAsync(s => s.ClaimNoticesAsync(long.MaxValue / 2, long.MaxValue, 10)));
    }

    [Fact]
    public async Task The_ledger_and_editions_cannot_be_changed_or_shortened()
    {
        await _store.WriteAsync(s =>
        {
            s.Record(LedgerEntry.Of(DateTimeOffset.UnixEpoch, "a", "b", null, null));
            return s.AddEditionAsync(
                new()
                {
                    Number = 1,
                    Digest = "d",
                    Author = "edda",
                    PublishedAt = Now,
                    Files = "[]",
                }
            );
        });
        foreach (
            var sql in new[]
            {
                "UPDATE ledger SET actor='x'",
                "DELETE FROM ledger",
                "UPDATE editions SET digest='x'",
                "DELETE FROM editions",
            }
        )
            Assert.Contains(
                "append-only",
                (await Assert.ThrowsAnyAsync<Exception>(() => _store.WriteAsync(s => s.ExecuteAsync(sql)))).Message.Replace(
                    "editions are immutable",
                    "append-only",
                    StringComparison.Ordinal
                ),
                StringComparison.Ordinal
            );
    }

    [Fact]
    public async Task Optimistic_versions_let_one_of_two_win()
    {
        await AddAsync("1");
        var first = (await _store.ReadAsync(s => s.RequestAsync("r1")))!;
        var second = (await _store.ReadAsync(s => s.RequestAsync("r1")))!;
        first.Problem = "first";
        second.Problem = "second";
        Assert.True(await _store.WriteAsync(s => s.SaveRequestAsync(first)));
        Assert.False(await _store.WriteAsync(s => s.SaveRequestAsync(second)));
        Assert.Equal("first", (await _store.ReadAsync(s => s.RequestAsync("r1")))!.Problem);
    }

    [Fact]
    public async Task Work_is_claimed_once_however_many_ask()
    {
        await AddAsync([.. Enumerable.Range(0, 200).Select(i => $"{i:000}")]);
        await _store.WriteAsync(s =>
            s.AddStepsAsync([
                .. Enumerable
                    .Range(0, 200)
                    .Select(i => new StepRow
                    {
                        Id = $"s{i}",
                        RequestId = $"r{i:000}",
                        SubjectId = $"{i:000}",
                        Target = "directory",
                        Ordinal = 1,
                        DueAt = Now,
                    }),
            ])
        );
        var claimed = await Task.WhenAll(
            Enumerable
                .Range(0, 20)
                .Select(n => Task.Run(() => _store.WriteAsync(s => s.ClaimChainsAsync("directory", $"n{n}", Now, Now + 1000, 15))))
        );
        var all = claimed.SelectMany(c => c).Select(c => c.SubjectId).ToList();
        Assert.Equal(all.Count, all.Distinct().Count());
        var rest = await _store.WriteAsync(s => s.ClaimChainsAsync("directory", "last", Now, Now + 1000, 500));
        Assert.Equal(200, all.Count + rest.Count);
        Assert.Empty(await _store.WriteAsync(s => s.ClaimChainsAsync("directory", "late", Now + 500, Now + 2000, 500)));

        // A lease that is renewed ends later; neither one that is over nor another's is.
        var first = claimed.SelectMany(c => c).First();
        await _store.WriteAsync(s => s.RenewChainsAsync([first], Now + 1500));
        var others = await _store.WriteAsync(s => s.ClaimChainsAsync("directory", "other", Now + 1000, Now + 1400, 500));
        Assert.Equal(199, others.Count);
        Assert.DoesNotContain(first.SubjectId, others.Select(o => o.SubjectId));
        await _store.WriteAsync(s => s.RenewChainsAsync([.. claimed.SelectMany(c => c).Skip(1)], Now + 9999));
        await _store.WriteAsync(s => s.ReleaseChainsAsync([first]));
        await _store.WriteAsync(s => s.RenewChainsAsync([first], Now + 9999));

        // A lease that ran out is taken over, and the old holder's fence no longer holds.
        var taken = await _store.WriteAsync(s => s.ClaimChainsAsync("directory", "other", Now + 1500, Now + 3000, 500));
        Assert.Equal(200, taken.Count);
        Assert.Empty(await _store.WriteAsync(s => s.HeldChainsAsync([claimed.SelectMany(c => c).First()])));
        Assert.Single(await _store.WriteAsync(s => s.HeldChainsAsync([taken[0]])));
    }

    [Fact]
    public async Task A_released_chain_is_due_with_its_next_step_and_not_while_one_is_stopped()
    {
        await AddAsync("1");
        await _store.WriteAsync(s =>
            s.AddStepsAsync([
                new()
                {
                    Id = "a",
                    RequestId = "r1",
                    PersonId = "1",
                    Target = "directory",
                    Ordinal = 1,
                    DueAt = Now,
                },
                new()
                {
                    Id = "b",
                    RequestId = "r1",
                    PersonId = "1",
                    Target = "directory",
                    Ordinal = 2,
                    DueAt = Now + 5000,
                },
            ])
        );
        var claim = (await _store.WriteAsync(s => s.ClaimChainsAsync("directory", "n", Now, Now + 1, 5))).Single();
        await _store.WriteAsync(async s =>
        {
            await s.SaveStepsAsync([
                new()
                {
                    Id = "a",
                    State = StepState.Done,
                    DueAt = Now,
                    DoneAt = Now,
                },
            ]);
            await s.ReleaseChainsAsync([claim]);
        });
        Assert.Empty(await _store.WriteAsync(s => s.ClaimChainsAsync("directory", "n", Now + 4999, Now + 9999, 5)));
        var next = (await _store.WriteAsync(s => s.ClaimChainsAsync("directory", "n", Now + 5000, Now + 9999, 5))).Single();
        await _store.WriteAsync(async s =>
        {
            await s.SaveStepsAsync([
                new()
                {
                    Id = "b",
                    State = StepState.Stopped,
                    DueAt = Now,
                    Problem = "p",
                },
            ]);
            await s.ReleaseChainsAsync([next]);
        });
        Assert.Empty(await _store.WriteAsync(s => s.ClaimChainsAsync("directory", "n", Now + 99999, Now + 999999, 5)));
        await _store.WriteAsync(s => s.RetryAsync("r1", Now + 100000));
        Assert.Single(await _store.WriteAsync(s => s.ClaimChainsAsync("directory", "n", Now + 100001, Now + 999999, 5)));
    }

    [Fact]
    public async Task A_name_is_taken_once_for_ever_and_given_back_only_unused()
    {
        Assert.True(await _store.WriteAsync(s => s.TakeNameAsync("directory", "tor.quill", "1", Now)));
        Assert.True(await _store.WriteAsync(s => s.TakeNameAsync("directory", "tor.quill", "1", Now)));
        Assert.False(await _store.WriteAsync(s => s.TakeNameAsync("directory", "tor.quill", "2", Now)));
        await _store.WriteAsync(s => s.ReleaseNamesAsync("1"));
        Assert.True(await _store.WriteAsync(s => s.TakeNameAsync("directory", "tor.quill", "2", Now)));
        await _store.WriteAsync(s =>
            s.UpsertAccountsAsync([
                new()
                {
                    PersonId = "2",
                    Target = "directory",
                    Name = "tor.quill",
                    ImmutableId = "u",
                    At = Now,
                },
            ])
        );
        await _store.WriteAsync(s => s.ReleaseNamesAsync("2"));
        Assert.Equal(["tor.quill"], await _store.ReadAsync(s => s.NamesTakenAsync("directory", ["tor.quill", "x"], "3")));
    }

    [Fact]
    public async Task Of_an_account_that_is_renamed_the_names_it_has_had_and_is_to_have_stay_its_own()
    {
        string[] names = ["tor.quill", "tor.reed", "tor.stone", "tor.gull"];
        await _store.WriteAsync(async s =>
        {
            foreach (var name in names)
                Assert.True(await s.TakeNameAsync("directory", name, "1", Now, "", "tor." + name));
            await s.UpsertAccountsAsync([
                new()
                {
                    Id = "a1",
                    PersonId = "1",
                    Target = "directory",
                    Name = "Tor.Quill",
                    Former = "[\"tor.reed\"]",
                    ImmutableId = "u",
                    At = Now,
                },
            ]);
            await s.AddExtrasAsync([
                new()
                {
                    Id = "e1",
                    PersonId = "1",
                    Kind = "name",
                    Subject = "directory",
                    Value = "tor.stone",
                    RequestId = "r",
                },
            ]);
            await s.ReleaseNamesAsync("1");
        });
        // The one that was only ever thought of is free again.
        Assert.Equal(
            ["tor.quill", "tor.reed", "tor.stone"],
            (await _store.ReadAsync(s => s.NamesTakenAsync("directory", names, "2"))).Order()
        );
        Assert.Equal("tor.tor.reed", (await _store.ReadAsync(s => s.NamesOfAsync(["1"]))).Single(n => n.NameKey == "tor.reed").Wish);
        Assert.Equal("[\"tor.reed\"]", (await _store.ReadAsync(s => s.AccountsAsync(["1"]))).Single().Former);
    }

    [Fact]
    public async Task Grants_have_a_history_and_one_is_open_at_a_time()
    {
        GrantRow Grant(string id, long from) =>
            new()
            {
                Id = id,
                PersonId = "1",
                Target = "directory",
                Entitlement = "dive-team",
                FromAt = from,
                Reason = "{}",
            };
        await _store.WriteAsync(s => s.OpenGrantsAsync([Grant("a", 1)]));
        await _store.WriteAsync(s => s.OpenGrantsAsync([Grant("b", 2)]));
        await _store.WriteAsync(s =>
            s.CloseGrantsAsync([
                new()
                {
                    PersonId = "1",
                    Target = "directory",
                    Entitlement = "dive-team",
                    UntilAt = 5,
                },
            ])
        );
        await _store.WriteAsync(s => s.OpenGrantsAsync([Grant("c", 9)]));
        var all = await _store.ReadAsync(s => s.GrantsAsync(["1"], past: true));
        Assert.Equal([("a", 1L, 5L), ("c", 9L, null)], all.Select(g => (g.Id, g.FromAt, g.UntilAt)));
        Assert.Equal("c", (await _store.ReadAsync(s => s.GrantsAsync(["1"], past: false))).Single().Id);
    }

    private static AccountRow Account(string id, string? person, string name, string slot = "", string immutable = "") =>
        new()
        {
            Id = id,
            PersonId = person,
            Target = "directory",
            Slot = slot,
            Purpose = person is null ? "unmatched" : "",
            Name = name,
            ImmutableId = immutable.Length > 0 ? immutable : "i-" + name,
            Enabled = 1,
            At = Now,
        };

    [Fact]
    public async Task What_is_recorded_of_a_target_is_gone_through_account_by_account()
    {
        await _store.WriteAsync(async s =>
        {
            await s.UpsertPeopleAsync([Person("1"), Person("2")]);
            await s.UpsertAccountsAsync([
                Account("a1", "1", "tor") with
                {
                    Attributes = """{"cn":["Zoë D'Arcy"]}""",
                },
                Account("a2", "2", "quill", "administrator") with
                {
                    Enabled = 0,
                },
                Account("a3", "1", "tor") with
                {
                    Target = "office",
                },
            ]);
            foreach (var (person, entitlement) in new[] { ("2", "pay"), ("1", "pay"), ("2", "audit"), ("1", "staff") })
                await s.OpenGrantsAsync([
                    new()
                    {
                        Id = person + entitlement,
                        PersonId = person,
                        Target = "directory",
                        Entitlement = entitlement,
                        FromAt = 1,
                    },
                ]);
        });
        var (accounts, grants) = (new List<BookedAccount>(), new List<(string Person, string Slot, string Entitlement)>());
        await _store.ReadAsync(async s =>
        {
            await s.EachAccountAsync("directory", accounts.Add, default);
            await s.EachGrantAsync("directory", (person, slot, entitlement) => grants.Add((person, slot, entitlement)), default);
            return true;
        });
        Assert.Equal(
            [("a1", "1", "", "i-tor", true, Now), ("a2", "2", "administrator", "i-quill", false, Now)],
            accounts.OrderBy(a => a.Id).Select(a => (a.Id, a.PersonId, a.Slot, a.ImmutableId, a.Enabled, a.At))
        );
        Assert.Equal("""{"cn":["Zoë D'Arcy"]}""", System.Text.Encoding.UTF8.GetString(accounts.Single(a => a.Id == "a1").Attributes));
        Assert.Equal(["1", "1", "2", "2"], grants.Select(g => g.Person));
        Assert.Equal(["audit", "pay", "pay", "staff"], grants.Select(g => g.Entitlement).Order());
    }

    [Fact]
    public async Task Accounts_of_one_person_stand_beside_each_other_and_keep_their_ids()
    {
        await _store.WriteAsync(async s =>
        {
            await s.UpsertPeopleAsync([Person("1")]);
            await s.UpsertAccountsAsync([Account("a1", "1", "tor"), Account("a2", "1", "adm-tor", "administrator")]);
            // Recorded once more, under an id that was made up meanwhile: it stays the account it is.
            await s.UpsertAccountsAsync([Account("a9", "1", "tor") with { Enabled = 0 }]);
            foreach (var slot in new[] { "", "administrator" })
                await s.OpenGrantsAsync([
                    new()
                    {
                        Id = "g" + slot,
                        PersonId = "1",
                        Target = "directory",
                        Slot = slot,
                        Entitlement = "pay",
                        FromAt = 1,
                    },
                ]);
            await s.CloseGrantsAsync([
                new()
                {
                    PersonId = "1",
                    Target = "directory",
                    Slot = "administrator",
                    Entitlement = "pay",
                    UntilAt = 5,
                },
            ]);
            Assert.True(await s.TakeNameAsync("directory", "adm-tor", "1", Now, "administrator"));
            // One name is one account's, also of the same person.
            Assert.False(await s.TakeNameAsync("directory", "adm-tor", "1", Now));
            Assert.Equal(["adm-tor"], await s.NamesTakenAsync("directory", ["adm-tor", "free"], "1"));
            Assert.Empty(await s.NamesTakenAsync("directory", ["adm-tor", "free"], "1", "administrator"));
            Assert.True(await s.TakeNameAsync("directory", "later-tor", "1", Now, "spare"));
            await s.ReleaseNamesAsync("1");
        });
        var accounts = await _store.ReadAsync(s => s.AccountsAsync(["1"]));
        Assert.Equal([("a1", "", 0L), ("a2", "administrator", 1L)], accounts.Select(a => (a.Id, a.Slot, a.Enabled)).Order());
        Assert.Equal("", (await _store.ReadAsync(s => s.GrantsAsync(["1"], past: false))).Single().Slot);
        // A name that never became an account of that slot is given back.
        Assert.Equal([("administrator", "adm-tor")], (await _store.ReadAsync(s => s.NamesOfAsync(["1"]))).Select(n => (n.Slot, n.NameKey)));
        Assert.Equal(
            ["", "administrator"],
            (
                await _store.ReadAsync(async s =>
                {
                    var slots = new List<string>();
                    await s.EachNameAsync((_, _, slot, _, _) => slots.Add(slot), default);
                    return slots;
                })
            ).Order()
        );
    }

    [Fact]
    public async Task What_belongs_to_nobody_is_recorded_once_and_becomes_somebodys_under_its_id()
    {
        await _store.WriteAsync(async s =>
        {
            await s.UpsertPeopleAsync([Person("1"), Person("2")]);
            await s.UpsertAccountsAsync([Account("a1", "1", "tor")]);
            await s.AddNobodysAsync([Account("n1", null, "svc-100%"), Account("n2", null, "kiosk")]);
            // A second look, and an entry that is somebody's.
            await s.AddNobodysAsync([Account("n9", null, "svc-100%"), Account("n8", null, "x", immutable: "i-tor")]);
        });
        Task<IReadOnlyList<AccountRow>> Listed(string purpose = "", string text = "", string target = "directory") =>
            _store.ReadAsync(s => s.NobodysAsync(target, purpose, text, 9));
        Assert.Equal(["n2", "n1"], (await Listed()).Select(a => a.Id));
        Assert.Equal(["n1"], (await Listed(text: "100%")).Select(a => a.Id));
        Assert.Empty(await Listed(text: "%k%"));
        Assert.Empty(await Listed(target: "mail"));
        Assert.True(
            await _store.WriteAsync(s => s.SetPurposeAsync(Account("n1", null, "") with { Purpose = "service", Owner = "2", At = Now }))
        );
        Assert.False(
            await _store.WriteAsync(s => s.SetPurposeAsync(Account("a1", null, "") with { Purpose = "service", Owner = "2", At = Now }))
        );
        Assert.Equal([("n1", "2")], (await Listed("service")).Select(a => (a.Id, a.Owner)));
        await _store.WriteAsync(s => s.SetEndAsync("n1", 77, Now));
        await _store.WriteAsync(s => s.SaveNobodysAsync([Account("n1", null, "svc-100%") with { Enabled = 0, Location = "uid=moved" }]));
        Assert.Equal((77L, 0L, "uid=moved"), (await Listed("service")).Select(a => (a.UntilAt, a.Enabled, a.Location)).Single());
        var counts = await _store.ReadAsync(s => s.TargetCountsAsync("directory", Now));
        Assert.Equal((1L, 2L), (counts.Accounts, counts.Nobodys));

        // It turns out to be hers: the same account, and nothing of what it was taken for.
        await _store.WriteAsync(async s =>
        {
            var hers = Account("n7", "2", "svc-100%");
            await s.BelongAsync([hers]);
            await s.UpsertAccountsAsync([hers]);
        });
        var now = (await _store.ReadAsync(s => s.AccountsAsync(["2"]))).Single();
        Assert.Equal(("n1", "", "", null), (now.Id, now.Purpose, now.Owner, now.UntilAt));
        Assert.Equal("n2", (await Listed()).Single().Id);
        Assert.Equal("2", (await _store.ReadAsync(s => s.AccountOfEntryAsync("directory", "i-svc-100%")))!.PersonId);
        Assert.Null(await _store.ReadAsync(s => s.AccountAsync("n9")));
    }

    [Fact]
    public async Task A_request_about_an_account_is_told_with_its_name_and_is_none_of_its_owners_own()
    {
        await AddAsync("1");
        await _store.WriteAsync(async s =>
        {
            await s.AddNobodysAsync([Account("n1", null, "kiosk")]);
            await s.AddRequestsAsync([
                new()
                {
                    Id = "c1",
                    Kind = "closing",
                    PersonId = "1",
                    SubjectKind = SubjectKind.Account,
                    SubjectId = "n1",
                    Requester = "otto",
                    Workflow = "staff",
                    CreatedAt = Now,
                },
            ]);
            await s.AddStepsAsync([
                new()
                {
                    Id = "s1",
                    RequestId = "c1",
                    SubjectId = "n1",
                    Target = "directory",
                    Removes = 1,
                    DueAt = Now,
                },
            ]);
        });
        var row = (await _store.ReadAsync(s => s.RequestAsync("c1")))!;
        Assert.Equal((SubjectKind.Account, "n1", "kiosk", "1"), (row.SubjectKind, row.SubjectId, row.Account, row.PersonId));
        var own = (await _store.ReadAsync(s => s.RequestAsync("r1")))!;
        Assert.Equal((SubjectKind.Person, "1", ""), (own.SubjectKind, own.SubjectId, own.Account));
        Assert.Equal([("n1", row.Number, RequestState.Planning)], await _store.ReadAsync(s => s.OpenRequestsAboutAsync(["n1", "n2"])));
        Assert.DoesNotContain(await _store.ReadAsync(s => s.OpenRequestsOfAsync(["1"])), r => r.Id == "c1");
        Assert.Empty(await _store.ReadAsync(s => s.RemovalsDueAsync(["1"], Now)));
        Assert.Equal("c1", (await _store.ReadAsync(s => s.RequestsPageAsync(new(Text: "kios")))).Single().Id);
    }

    /// <summary>What was tried, or waits for hands, is under way whenever it is looked at again; what has its day ahead is not.</summary>
    [Fact]
    public async Task What_was_begun_to_be_taken_away_is_under_way_until_it_is_over()
    {
        await _store.WriteAsync(s => s.UpsertPeopleAsync([Person("1")]));
        StepRow Step(string id, StepState state, long attempts, long due, long removes = 1) =>
            new()
            {
                Id = id,
                RequestId = "r1",
                SubjectId = "1",
                Target = id,
                Change = id,
                Removes = removes,
                State = state,
                Attempts = attempts,
                Problem = attempts > 0 ? "It was away." : "",
                DueAt = due,
            };
        await _store.WriteAsync(async s =>
        {
            await s.AddRequestsAsync([
                new()
                {
                    Id = "r1",
                    Kind = "leaver",
                    PersonId = "1",
                    SubjectId = "1",
                    Requester = "hr",
                    Workflow = "staff",
                    State = RequestState.Fulfilling,
                    CreatedAt = Now,
                },
            ]);
            IReadOnlyList<StepRow> steps =
            [
                Step("due", StepState.Pending, 0, Now),
                Step("away", StepState.Pending, 2, Now + 9000),
                Step("stopped", StepState.Stopped, 1, Now + 9000),
                Step("by-hand", StepState.Pending, 0, Now + 9000),
                Step("ahead", StepState.Pending, 0, Now + 9000),
                Step("over", StepState.Done, 1, Now),
                Step("given", StepState.Pending, 1, Now, 0),
            ];
            await s.AddStepsAsync(steps);
            await s.SaveStepsAsync(steps);
            await s.AddTasksAsync([
                new()
                {
                    Id = "t1",
                    StepId = "by-hand",
                    RequestId = "r1",
                    PersonId = "1",
                    Target = "by-hand",
                    Kind = "take",
                    CreatedAt = Now,
                    DueAt = Now + 9000,
                },
            ]);
        });
        async Task<IEnumerable<string>> UnderWayAsync() =>
            (await _store.ReadAsync(s => s.RemovalsDueAsync(["1"], Now))).Select(r => r.Change).Order();
        Assert.Equal(["away", "by-hand", "due", "stopped"], await UnderWayAsync());
        // Put on another day, it is as if it had not been tried.
        await _store.WriteAsync(s => s.PutOnAnotherDayAsync([("away", Now + 5000)]));
        Assert.Equal(["by-hand", "due", "stopped"], await UnderWayAsync());
    }

    [Fact]
    public async Task Fingerprints_and_hostile_texts_come_back_as_they_went_in()
    {
        var hash = UInt128.MaxValue - 12345;
        var key = "E'1\"; DROP TABLE people; --\\ ø🐙";
        await _store.WriteAsync(s =>
            s.UpsertRecordsAsync([
                new()
                {
                    Source = "hr",
                    RecordKey = key,
                    Hash = hash.ToString("x32", System.Globalization.CultureInfo.InvariantCulture),
                    Facts = "{}",
                    Status = "received",
                    PersonId = "1",
                    RunId = "x",
                },
            ])
        );
        var known = await _store.ReadAsync(s => s.FingerprintsAsync("hr", default));
        Assert.Equal(hash, known[key]);
    }

    [Fact]
    public async Task A_store_of_an_earlier_release_goes_through_with_what_is_open_in_it()
    {
        var engine = await OlderEngineAsync();
        engine.Migrate("0010");
        await using var store = new Store(engine, TimeProvider.System);
        await store.WriteAsync(async s =>
        {
            foreach (
                var statement in new[]
                {
                    "INSERT INTO people (id, person_key, number, display, search_key, kind, department, site, title, manager, "
                        + "start_day, facts, source, others, created_at, updated_at, version) VALUES ('p1', 'P1', 'E1', 'Tor Quill', "
                        + "'quill tor', 'employee', 'Dive', 'harbour', 'Diver', '', '2026-01-05', '{\"number\":\"E1\"}', 'hr', '[]', "
                        + "1, 1, 1)",
                    "INSERT INTO accounts (person_id, target, name, container, location, immutable_id, attributes, enabled, "
                        + "reason, created_at, updated_at) VALUES ('p1', 'directory', 'tor', '', 'uid=tor', 'i1', '{}', 1, '{}', 1, "
                        + "1)",
                    "INSERT INTO extras (id, person_id, kind, subject, from_at, reason, request_id) VALUES ('x1', 'p1', "
                        + "'grant', 'directory/pay', 1, '{}', 'r1')",
                    "INSERT INTO steps (id, request_id, person_id, target, ordinal, change, due_at, later, state, attempts, "
                        + "problem) VALUES ('s1', 'r1', 'p1', 'directory', 1, "
                        + "'{\"kind\":\"disable-account\",\"target\":\"directory\"}', 99, 1, 'pending', 0, ''), ('s2', 'r1', 'p1', "
                        + "'directory', 2, '{\"kind\":\"verify\"}', 99, 1, 'pending', 0, '')",
                    "INSERT INTO requests (id, kind, state, stage, person_id, requester, cause, edition, workflow, "
                        + "stage_title, deciders, decider_role, decider_why, problem, candidates, chosen, since_at, created_at, "
                        + "updated_at, attempts, lease_owner, lease_until, fence, version, source, wish, batch) VALUES ('r1', "
                        + "'joiner', 'completed', 0, 'p1', 'ines', '{}', 1, 'staff', '', '', '', '', '', '', '{}', 1, 1, 1, 0, '', "
                        + "0, 0, 1, 'hr', '{}', ''), ('r2', 'change', 'deciding', 0, 'p1', 'ines', '{}', 4, 'staff', '', '', '', '', '', "
                        + "'', '{}', 1, 1, 1, 0, '', 0, 0, 1, 'hand', '{}', ''), ('r3', 'joiner', 'planning', 0, 'p2', 'ines', '{}', 4, "
                        + "'staff', '', '', '', '', '', '', '{}', 1, 1, 1, 0, '', 0, 0, 1, 'hr', '{}', '')",
                    "INSERT INTO chains (person_id, target, due_at, lease_owner, lease_until, fence) VALUES ('p1', 'directory', 99, "
                        + "'', 0, 3)",
                    "INSERT INTO people (id, person_key, number, display, search_key, kind, department, site, title, manager, "
                        + "start_day, facts, source, others, created_at, updated_at, version) VALUES ('p2', 'P2', 'E2', 'Una Reed', "
                        + "'reed una', 'employee', 'Dive', 'harbour', 'Diver', '', '2026-01-05', '{\"number\":\"E2\"}', 'hr', '[]', "
                        + "1, 1, 1)",
                    "INSERT INTO editions (number, digest, author, approver, published_at, files) VALUES (3, 'a', 'edda', '', 1, '[]'), "
                        + "(4, 'b', 'edda', '', 2, '[]')",
                }
            )
                await s.ExecuteAsync(statement);
        });
        engine.Migrate();
        Assert.Equal(
            ("", "{\"number\":\"E1\"}"),
            (await store.ReadAsync(s => s.PersonAsync("p1"))) is { } person ? (person.Said, person.Facts) : default
        );
        // Who has something is looked at once, and what takes access away has its own lane.
        Assert.Equal(["p1"], (await store.ReadAsync(s => s.DuePeopleAsync(Now, 9))).Select(p => p.Id));
        Assert.Equal(["p1"], (await store.ReadAsync(s => s.RemovalsDueAsync(["p1"], long.MaxValue))).Select(r => r.PersonId));
        Assert.Equal("", (await store.ReadAsync(s => s.ExtrasAsync(["p1"]))).Single().Employment);
        // Until then everybody who has something was on the newest edition; open requests go on as they were planned.
        Assert.Equal([(4L, 1L)], await store.ReadAsync(s => s.PeopleByEditionAsync()));
        Assert.Equal(0, (await store.ReadAsync(s => s.PersonAsync("p2")))!.Edition);
        Assert.Equal((4L, ""), (await store.ReadAsync(s => s.RequestAsync("r2"))) is { } open ? (open.OnEdition, open.Rollout) : default);
        Assert.Empty(await store.ReadAsync(s => s.PlannedElsewhereAsync(["p1", "p2"])));
        // Accounts have ids and are the ordinary ones; what is open is about the person it was about, and goes on.
        var account = (await store.ReadAsync(s => s.AccountsAsync(["p1"]))).Single();
        Assert.Equal(("", "tor", "i1"), (account.Slot, account.Name, account.ImmutableId));
        Assert.True(Guid.TryParse(account.Id, out var id) && id != Guid.Empty);
        Assert.Equal(
            (SubjectKind.Person, "p2", "p1"),
            (
                (await store.ReadAsync(s => s.RequestAsync("r2")))!.SubjectKind,
                (await store.ReadAsync(s => s.RequestAsync("r3")))!.SubjectId,
                (await store.ReadAsync(s => s.StepsOfAsync("r1")))[0].SubjectId
            )
        );
        var claims = await store.WriteAsync(s => s.ClaimChainsAsync("directory", "n", 99, 199, 9));
        Assert.Equal(["p1"], claims.Select(c => c.SubjectId));
        var due = await store.ReadAsync(s => s.DueStepsAsync(claims, 99));
        Assert.Equal(
            [("s1", SubjectKind.Person, "p1"), ("s2", SubjectKind.Person, "p1")],
            due.Select(d => (d.Id, d.SubjectKind, d.PersonId))
        );
        engine.Migrate();
    }

    /// <summary>An engine over nothing.</summary>
    private async Task<Engine> OlderEngineAsync() =>
        this is SqliteStoreTests ? new SqliteEngine(Folder.At("older.db")) : await NewEngineAsync();

    [Fact]
    public async Task Next_instants_come_in_order_and_are_not_lost_to_a_change_meanwhile()
    {
        await _store.WriteAsync(s => s.UpsertPeopleAsync([Person("1"), Person("2"), Person("3")]));
        Assert.Empty(await _store.ReadAsync(s => s.DuePeopleAsync(Now, 9)));
        await _store.WriteAsync(s => s.LookAgainAsync(["1", "2"], 50));
        // What has come and was not looked at stays; an earlier instant goes first.
        await _store.WriteAsync(s => s.LookAgainAsync(["1"], 70));
        await _store.WriteAsync(s => s.LookAgainAsync(["2"], 40));
        var due = await _store.ReadAsync(s => s.DuePeopleAsync(60, 9));
        Assert.Equal([("2", 40L), ("1", 50L)], due.Select(d => (d.Id, d.NextAt)));
        Assert.Single(await _store.ReadAsync(s => s.DuePeopleAsync(60, 1)));
        // Something changed about 2 after it was looked at, by either way: what was worked out before is not written over it.
        await _store.WriteAsync(s => s.LookAgainAsync(["2"], 55));
        await _store.WriteAsync(s => s.SetNextAsync([.. due.Select(d => (d.Id, d.Looks, (long?)900))]));
        var again = Assert.Single(await _store.ReadAsync(s => s.DuePeopleAsync(60, 9)));
        Assert.Equal(("2", 40L), (again.Id, again.NextAt));
        await _store.WriteAsync(s => s.UpsertPeopleAsync([Person("2", "renamed")]));
        await _store.WriteAsync(s => s.SetNextAsync([("2", again.Looks, null)]));
        Assert.Equal(
            (false, 40L),
            (
                await _store.WriteAsync(s => s.IsAsLookedAtAsync("2", again.Looks)),
                Assert.Single(await _store.ReadAsync(s => s.DuePeopleAsync(60, 9))).NextAt
            )
        );
        var last = Assert.Single(await _store.ReadAsync(s => s.DuePeopleAsync(60, 9)));
        Assert.True(await _store.WriteAsync(s => s.IsAsLookedAtAsync("2", last.Looks)));
        await _store.WriteAsync(s => s.SetNextAsync([("2", last.Looks, null)]));
        Assert.Equal([("1", 900L)], (await _store.ReadAsync(s => s.DuePeopleAsync(long.MaxValue, 9))).Select(d => (d.Id, d.NextAt)));
    }

    [Fact]
    public async Task People_that_changed_since_an_instant_are_told_with_what_they_are_found_by()
    {
        await _store.WriteAsync(s => s.UpsertPeopleAsync([Person("3", "b"), Person("1", "a")]));
        var all = await _store.ReadAsync(s => s.PeopleSinceAsync(long.MinValue));
        Assert.Equal(["1", "3"], all.Select(p => p.Id).Order());
        Assert.All(all, p => Assert.Equal(1, p.Version));
        Assert.Empty(await _store.ReadAsync(s => s.PeopleSinceAsync(all.Max(p => p.UpdatedAt))));
        await _store.WriteAsync(s => s.UpsertPeopleAsync([Person("3", "c")]));
        Assert.Equal(2, (await _store.ReadAsync(s => s.PeopleSinceAsync(long.MinValue))).Single(p => p.Id == "3").Version);
        Assert.Empty(await _store.ReadAsync(s => s.NamesSinceAsync(long.MinValue)));
        Assert.Equal((2, 3, 0, 0), await _store.ReadAsync(s => s.PeopleMarkAsync(long.MinValue)));
        Assert.Equal((0, 0, 0, 0), await _store.ReadAsync(s => s.PeopleMarkAsync(long.MaxValue)));
    }

    [Fact]
    public async Task The_inbox_holds_what_is_mine_and_never_my_own()
    {
        await AddAsync("1", "2", "3");
        async Task DecideAsync(string id, string deciders, string role)
        {
            var row = (await _store.ReadAsync(s => s.RequestAsync(id)))!;
            row.Move(RequestEvent.Planned, 0, 1);
            (row.Deciders, row.DeciderRole) = (deciders, role);
            await _store.WriteAsync(s => s.SaveRequestAsync(row));
        }

        await DecideAsync("r1", "|mara|", "");
        await DecideAsync("r2", "", "approver");
        Task<IReadOnlyList<RequestRow>> Inbox(string user, string person, params string[] roles) =>
            _store.ReadAsync(s => s.RequestsPageAsync(new(InboxUser: user, InboxPerson: person, InboxRoles: roles)));
        Assert.Equal(["r2", "r1"], (await Inbox("mara", "9", "approver")).Select(r => r.Id));
        Assert.Equal(["r1"], (await Inbox("mara", "2", "approver")).Select(r => r.Id));
        Assert.Equal(["r2"], (await Inbox("mar", "9", "approver")).Select(r => r.Id));
        Assert.Empty(await Inbox("ines", "", "approver"));
        Assert.Empty(await Inbox("otto", "", "operator"));
        Assert.Equal(2, await _store.ReadAsync(s => s.CountRequestsAsync(new(InboxUser: "mara", InboxRoles: ["approver"], Limit: 1))));
        Assert.Null(
            (await _store.ReadAsync(s => s.RequestsPageAsync(new(InboxUser: "mara", InboxRoles: ["approver"]) { Light = true })))[0].Plan
        );
    }

    [Fact]
    public async Task Leaves_follow_the_order_of_commit_and_miss_nothing()
    {
        await Task.WhenAll(
            Enumerable
                .Range(0, 30)
                .Select(i =>
                    Task.Run(() =>
                        _store.WriteAsync(s =>
                        {
                            s.Record(LedgerEntry.Of(DateTimeOffset.UnixEpoch, "a", $"k{i}", null, null));
                            return Task.CompletedTask;
                        })
                    )
                )
        );
        var unsealed = await _store.ReadAsync(s => s.UnsealedAsync(20));
        Assert.Equal(20, unsealed.Count);
        await _store.WriteAsync(s =>
            s.AddLeavesAsync([.. unsealed.Select((e, i) => ((long)i, e.Entry, Convert.ToHexStringLower(Merkle.Leaf(e.Body))))])
        );
        Assert.Equal(10, (await _store.ReadAsync(s => s.UnsealedAsync(100))).Count);
        Assert.Equal(10, await _store.ReadAsync(s => s.UnsealedCountAsync()));
    }

    [Fact]
    public async Task A_duty_belongs_to_one_node_until_its_lease_runs_out()
    {
        Assert.True(await _store.WriteAsync(s => s.TakeLeaseAsync("sealer", "a", 0, 100)));
        Assert.False(await _store.WriteAsync(s => s.TakeLeaseAsync("sealer", "b", 50, 150)));
        Assert.True(await _store.WriteAsync(s => s.TakeLeaseAsync("sealer", "a", 50, 150)));
        Assert.True(await _store.WriteAsync(s => s.TakeLeaseAsync("sealer", "b", 150, 250)));
    }

    [Fact]
    public async Task A_number_is_given_once_however_many_ask_and_the_lowest_free_one_first()
    {
        var people = Enumerable.Range(0, 20).Select(i => $"n{i}").ToArray();
        await AddAsync(people);
        var given = await Task.WhenAll(
            people.Select(person =>
                _store.WriteAsync(async s =>
                {
                    while (await s.FreeNumberAsync("till", 1, 15) is { } free)
                        if (await s.TakeNumberAsync("till", free, person, Now))
                            return free;
                    return 0;
                })
            )
        );
        Assert.Equal(Enumerable.Range(1, 15).Select(n => (long)n), given.Where(n => n > 0).Order());
        Assert.Equal(5, given.Count(n => n == 0));
        var holder = (await _store.ReadAsync(s => s.NumbersOfAsync(people))).Single(n => n.Number == 7).PersonId;
        await _store.WriteAsync(s => s.ReleaseNumbersAsync(holder));
        Assert.Equal(7, await _store.ReadAsync(s => s.FreeNumberAsync("till", 1, 15)));
        Assert.Equal(100, await _store.ReadAsync(s => s.FreeNumberAsync("till", 100, 100)));
        // Another pool knows nothing of this one, and a number that reached an account stays.
        Assert.Equal(1, await _store.ReadAsync(s => s.FreeNumberAsync("extension", 1, 15)));
        var kept = (await _store.ReadAsync(s => s.NumbersOfAsync(people))).First();
        await _store.WriteAsync(async s =>
        {
            await s.UpsertAccountsAsync([
                new()
                {
                    PersonId = kept.PersonId,
                    Target = "directory",
                    Name = "a",
                    ImmutableId = "i1",
                    At = Now,
                },
            ]);
            await s.ReleaseNumbersAsync(kept.PersonId);
        });
        Assert.Contains(await _store.ReadAsync(s => s.NumbersOfAsync([kept.PersonId])), n => n.Number == kept.Number);
    }

    [Fact]
    public async Task A_scheduled_run_and_a_held_run_are_each_decided_by_one()
    {
        await _store.WriteAsync(s =>
            s.SaveSourceStateAsync(
                new()
                {
                    Source = "hr",
                    Active = 1,
                    NextAt = Now,
                }
            )
        );
        Assert.Single(await _store.ReadAsync(s => s.DueSourcesAsync(Now)));
        var claims = await Task.WhenAll(
            Enumerable.Range(0, 8).Select(_ => _store.WriteAsync(s => s.ClaimSourceAsync("hr", Now, Now + 60_000)))
        );
        Assert.Single(claims, won => won);
        Assert.Empty(await _store.ReadAsync(s => s.DueSourcesAsync(Now)));
        await _store.WriteAsync(s => s.SetSinceAsync("hr", "2026-11-25"));
        Assert.Equal(
            (1L, "2026-11-25"),
            (await _store.ReadAsync(s => s.SourceStateAsync("hr"))) is { } state ? (state.Active, state.Since) : (0, "")
        );

        await _store.WriteAsync(s =>
            s.AddHeldAsync(
                new()
                {
                    RunId = "r1",
                    Source = "hr",
                    Digest = "d",
                    Why = "w",
                    Actor = "ines",
                    At = Now,
                }
            )
        );
        var decided = await Task.WhenAll(
            Enumerable
                .Range(0, 4)
                .Select(i => _store.WriteAsync(s => s.DecideHeldAsync("r1", i % 2 == 0 ? HeldEvent.Pass : HeldEvent.Drop, "edda", Now)))
        );
        Assert.Single(decided, won => won);
        await _store.WriteAsync(s =>
            s.AddHeldAsync(
                new()
                {
                    RunId = "r2",
                    Source = "hr",
                    At = Now,
                }
            )
        );
        await _store.WriteAsync(s => s.SupersedeHeldAsync("hr", "r3", Now));
        Assert.Empty(await _store.ReadAsync(s => s.HeldOfAsync("hr")));
    }

    [Fact]
    public async Task An_answer_is_kept_for_its_call_and_told_from_another()
    {
        Task<bool> ClaimAsync(string actor, string hash, long at) =>
            _store.WriteAsync(s => s.ClaimAnswerAsync(actor, "k", hash, at, at + 100));
        Assert.True(await ClaimAsync("edda", "h1", Now));
        // Under way: neither the same call nor another under the same key begins.
        Assert.False(await ClaimAsync("edda", "h1", Now + 50));
        Assert.False(await ClaimAsync("edda", "h2", Now + 200));
        Assert.True(await ClaimAsync("edda", "h1", Now + 100));
        await _store.WriteAsync(s => s.KeepAnswerAsync("edda", "k", "first", Now));
        Assert.False(await ClaimAsync("edda", "h1", Now + 500));
        Assert.Equal(("h1", "first"), await _store.ReadAsync(s => s.AnswerAsync("edda", "k")));
        Assert.Null(await _store.ReadAsync(s => s.AnswerAsync("ines", "k")));
        await _store.WriteAsync(s => s.DropAnswerAsync("edda", "k"));
        Assert.NotNull(await _store.ReadAsync(s => s.AnswerAsync("edda", "k")));
        await _store.WriteAsync(s => s.PruneAnswersAsync(Now + 1000));
        Assert.Null(await _store.ReadAsync(s => s.AnswerAsync("edda", "k")));
    }

    [Fact]
    public async Task A_pushed_resource_is_unique_in_its_source_and_found_by_its_keys()
    {
        static ScimRow Row(string id, string key, string source = "partners") =>
            new()
            {
                Id = id,
                Source = source,
                Kind = "User",
                UniqueKey = key,
                ExternalId = "x" + id,
                Body = "{\"id\":\"" + id + "\"}",
                Version = 1,
                CreatedAt = Now,
                ModifiedAt = Now,
            };
        Assert.True(await _store.WriteAsync(s => s.AddScimAsync(Row("1", "ria"))));
        Assert.False(await _store.WriteAsync(s => s.AddScimAsync(Row("2", "ria"))));
        Assert.True(await _store.WriteAsync(s => s.AddScimAsync(Row("3", "ria", "others"))));
        Assert.Equal("1", await _store.ReadAsync(s => s.ScimByKeyAsync("partners", "User", "ria")));
        Assert.Equal("1", await _store.ReadAsync(s => s.ScimByExternalAsync("partners", "User", "x1")));
        Assert.Null(await _store.ReadAsync(s => s.ScimAsync("partners", "User", "3")));
        await _store.WriteAsync(s => s.SaveScimAsync(Row("1", "rita") with { Version = 2 }));
        Assert.Equal(2, (await _store.ReadAsync(s => s.ScimAsync("partners", "User", "1")))!.Version);
        await _store.WriteAsync(s => s.AddScimAsync(Row("g", "night") with { Kind = "Group", Body = "{\"members\":[{\"value\":\"1\"}]}" }));
        Assert.Equal(["g"], (await _store.ReadAsync(s => s.ScimGroupsWithAsync("partners", "1"))).Select(g => g.Id));
        Assert.Empty(await _store.ReadAsync(s => s.ScimGroupsWithAsync("partners", "11")));
        Assert.Equal(
            (1, "1"),
            (
                (int)await _store.ReadAsync(s => s.ScimCountAsync("partners", "User")),
                (await _store.ReadAsync(s => s.ScimPageAsync("partners", "User", 0, 10))).Single().Id
            )
        );
    }

    [Fact]
    public async Task What_is_written_back_is_claimed_once_tried_again_and_done()
    {
        await AddAsync("w");
        await _store.WriteAsync(s =>
            s.AddWriteBacksAsync([
                new()
                {
                    Source = "payroll",
                    RecordKey = "H1",
                    PersonId = "w",
                    Fields = "{}",
                    CreatedAt = Now,
                },
            ])
        );
        var claims = await Task.WhenAll(
            Enumerable.Range(0, 4).Select(_ => _store.WriteAsync(s => s.ClaimWriteBacksAsync(Now, Now + 1000, 10)))
        );
        var row = Assert.Single(claims.SelectMany(c => c));
        await _store.WriteAsync(s => s.WriteBackFailedAsync(row.Id, Now + 5000, "away"));
        Assert.False(await _store.ReadAsync(s => s.AnyWriteBackAsync(Now + 4000)));
        Assert.True(await _store.ReadAsync(s => s.AnyWriteBackAsync(Now + 5000)));
        Assert.Equal(
            (1, "away"),
            (await _store.ReadAsync(s => s.WriteBacksOfAsync("payroll", 10))).Single() is { } waits
                ? ((int)waits.Attempts, waits.Problem)
                : (0, "")
        );
        await _store.WriteAsync(s => s.WroteBackAsync(row.Id, Now + 6000));
        Assert.False(await _store.ReadAsync(s => s.AnyWriteBackAsync(long.MaxValue)));
    }

    [Fact]
    public async Task Records_are_dropped_listed_by_status_and_a_set_aside_row_clears_by_its_key()
    {
        static RecordRow Record(string key, string status) =>
            new()
            {
                Source = "hr",
                RecordKey = key,
                Hash = new('a', 32),
                Facts = "{}",
                Status = status,
                PersonId = "p",
                RunId = "r",
            };
        await _store.WriteAsync(s => s.UpsertRecordsAsync([Record("1", "received"), Record("2", "vanished"), Record("3", "outside")]));
        Assert.Equal(["2"], (await _store.ReadAsync(s => s.VanishedAsync("hr", 10))).Select(r => r.RecordKey));
        Assert.Equal(["3"], (await _store.ReadAsync(s => s.RecordsPageAsync("hr", "outside", "", "", 10))).Select(r => r.RecordKey));
        Assert.Equal(new string('a', 32), (await _store.ReadAsync(s => s.RecordsWithHashAsync("hr", ["1"]))).Single().Hash);
        await _store.WriteAsync(s => s.DropRecordsAsync("hr", ["1", "3"]));
        Assert.Equal(new Dictionary<string, long> { ["vanished"] = 1 }, await _store.ReadAsync(s => s.RecordCountsAsync("hr")));
        Assert.False(await _store.ReadAsync(s => s.IsFirstLoadAsync("hr")));
        Assert.True(await _store.ReadAsync(s => s.IsFirstLoadAsync("payroll")));
        await _store.WriteAsync(s =>
            s.AddSetAsideAsync([
                new()
                {
                    Source = "hr",
                    RecordKey = "a",
                    File = "f",
                    Fields = "{\"x\":\"=1\"}",
                },
                new()
                {
                    Source = "hr",
                    RecordKey = "b",
                    File = "f",
                },
            ])
        );
        await _store.WriteAsync(s => s.ClearSetAsideAsync("hr", ["a"]));
        Assert.Equal(["b"], (await _store.ReadAsync(s => s.SetAsideAsync("hr", 10))).Select(r => r.RecordKey));
        Assert.Equal(1, await _store.ReadAsync(s => s.SetAsideCountAsync("hr")));
    }
}
