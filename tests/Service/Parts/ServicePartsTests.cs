using System.Text.Json;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Configuration;
using Oikonom.Core.Rulebook;
using Oikonom.Proofs;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Service.Connectors;
using Oikonom.Service.Fulfilment;
using Oikonom.Service.Ledger;
using Oikonom.Store;
using Oikonom.Store.Rooms;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests.Parts;

/// <summary>A clock that stands still until it is moved.</summary>
internal sealed class HandClock : TimeProvider
{
    private DateTimeOffset _now = new(2030, 1, 1, 8, 0, 0, TimeSpan.Zero);

    public override long TimestampFrequency => TimeSpan.TicksPerSecond;

    public override DateTimeOffset GetUtcNow() => _now;

    public override long GetTimestamp() => _now.UtcTicks;

    public void Move(TimeSpan by) => _now += by;
}

/// <summary>Parts of the service by themselves: no HTTP, no directory, a clock of the test's.</summary>
public sealed class ServicePartsTests
{
    private readonly HandClock _clock = new();

    [Fact]
    public void A_loop_stands_still_after_three_failures_in_a_row_or_when_it_hangs()
    {
        var pulse = new Pulse(_clock);
        pulse.Good("One");
        _clock.Move(TimeSpan.FromMinutes(1));
        pulse.Bad("One", "away");
        pulse.Bad("One", "away");
        Assert.Empty(pulse.Standing());
        pulse.Bad("One", "still away");
        var standing = Assert.Single(pulse.Standing());
        Assert.Equal(("One", _clock.GetUtcNow().AddMinutes(-1), "still away"), (standing.Loop, standing.Since, standing.Problem));
        pulse.Good("One");
        Assert.Empty(pulse.Standing());

        pulse.Begin("Two", TimeSpan.FromMinutes(3));
        _clock.Move(TimeSpan.FromMinutes(3));
        Assert.Empty(pulse.Standing());
        _clock.Move(TimeSpan.FromSeconds(1));
        Assert.Contains("since 08:01:00 UTC", Assert.Single(pulse.Standing()).Problem, StringComparison.Ordinal);
    }

    [Fact]
    public void What_ends_within_thirty_days_is_told_once_for_each_of_its_days()
    {
        var reading = RulebookReader.Read([.. Repository.RulebookFiles().Select(f => new RulebookFile(f.Path, f.Text))]);
        var now = _clock.GetUtcNow();
        IReadOnlyList<EndsSoon> Of(double secret, double certificate) =>
            EndsSoon.Of(
                reading.Rulebook!,
                [
                    new TargetStateRow
                    {
                        Target = "directory",
                        Checked = JsonSerializer.Serialize(
                            new
                            {
                                reachable = true,
                                message = "",
                                points = Array.Empty<string>(),
                                certificateUntil = now.AddDays(certificate),
                            }
                        ),
                    },
                    new TargetStateRow { Target = "gone-from-the-rulebook" },
                ],
                [
                    new() { Name = "directory-password", ValidUntil = now.AddDays(secret).ToUnixTimeMilliseconds() },
                    new() { Name = "of-nobody", ValidUntil = 1 },
                    new() { Name = "records-token" },
                ],
                now
            );
        Assert.Empty(Of(30.5, 31));
        Assert.Equal(["secret", "certificate"], Of(3, 30).Select(e => e.Key.Split('-')[0]));
        Assert.Equal("/targets/directory", Of(3, 31).Single().Link);
        string Text(double days) => Of(days, 99).Single().TextAt(now).Split("with ")[1];
        Assert.Equal(
            ["ends in 30 days (2030-01-31).", "ends tomorrow (2030-01-02).", "ended on 2030-01-01.", "ended on 2029-12-30."],
            new[] { 30, 0.9, 0, -2 }.Select(Text)
        );
        Assert.Equal(
            [30, 30, 14, 14, 7, 7, 1, 1, 0, 0],
            new[] { 30, 14.1, 14, 7.1, 7, 1.1, 1, 0.1, 0, -400 }.Select(d => Of(d, 99).Single().DueAt(now))
        );
        Assert.Equal(Of(3, 99)[0].Key, Of(3, 20)[0].Key);
        Assert.NotEqual(Of(3, 99)[0].Key, Of(4, 99)[0].Key);
    }

    [Fact]
    public void A_head_that_another_node_remembers_while_the_leaves_are_read_is_no_sign_of_a_cut()
    {
        using var folder = new ScratchFolder();
        Directory.CreateDirectory(folder.Path);
        var options = new ServiceOptions { Data = folder.Path };
        var (first, second) = (new HeadKeeper(options), new HeadKeeper(options));
        SignedHead Head(long size) => new(size, $"root of {size}", 0, "", "");
        Assert.Null(first.Compare(first.Last, null));
        first.Remember(Head(2));
        var taken = second.Last;
        first.Remember(Head(3));
        Assert.Equal((2, 3), (taken!.Size, second.Last!.Size));
        Assert.Null(second.Compare(taken, "root of 2"));
        Assert.Contains("rewritten", second.Compare(taken, "another"), StringComparison.Ordinal);
        Assert.Contains("was cut: a head of 3 entries", second.Compare(second.Last, null), StringComparison.Ordinal);
        // A ledger that is not whole is no measure for what comes.
        second.Remember(Head(9));
        Assert.Equal(3, second.Last!.Size);
    }

    [Fact]
    public void Records_pour_in_when_fifty_come_in_a_second_and_not_two_seconds_later()
    {
        var pressure = new Pressure(_clock);
        for (var i = 0; i < 49; i++)
            pressure.Note();
        Assert.False(pressure.IsHigh);
        pressure.Note();
        Assert.True(pressure.IsHigh);
        _clock.Move(TimeSpan.FromSeconds(1));
        Assert.True(pressure.IsHigh);
        _clock.Move(TimeSpan.FromSeconds(1));
        Assert.False(pressure.IsHigh);
    }

    [Fact]
    public void A_target_that_fails_five_times_is_left_alone_then_tried_with_one_and_told_once()
    {
        var meter = new TargetMeter(_clock);
        Assert.Equal(int.MaxValue, meter.Allows("shop"));
        for (var i = 0; i < 4; i++)
            meter.Failed("shop", "no answer", null);
        Assert.Equal(int.MaxValue, meter.Allows("shop"));
        meter.Failed("shop", "no answer", null);
        Assert.Equal(0, meter.Allows("shop"));
        Assert.Equal(int.MaxValue, meter.Allows("directory"));
        var told = Assert.Single(meter.Take());
        Assert.Equal(("shop", 0L, 5L, "no answer"), (told.State.Target, told.Done, told.Failed, told.State.Problem));
        Assert.Equal(_clock.GetUtcNow().ToUnixTimeMilliseconds(), told.State.AwayAt);
        Assert.True(told.State.RetryAt > _clock.GetUtcNow().ToUnixTimeMilliseconds());
        Assert.Empty(meter.Take());
        _clock.Move(TimeSpan.FromMilliseconds(told.State.RetryAt) - (_clock.GetUtcNow() - DateTimeOffset.UnixEpoch));
        Assert.Equal(1, meter.Allows("shop"));
        meter.Reached("shop");
        Assert.Equal(int.MaxValue, meter.Allows("shop"));
        told = Assert.Single(meter.Take());
        Assert.Equal((1L, 0L, (long?)null), (told.Done, told.Failed, told.State.AwayAt));
    }

    [Fact]
    public void A_target_that_asks_for_time_gets_it_an_hour_at_most_and_is_not_away()
    {
        var meter = new TargetMeter(_clock);
        meter.Failed("shop", "busy", TimeSpan.FromDays(9));
        Assert.Equal(0, meter.Allows("shop"));
        Assert.Null(Assert.Single(meter.Take()).State.AwayAt);
        _clock.Move(TimeSpan.FromMinutes(59));
        Assert.Equal(0, meter.Allows("shop"));
        _clock.Move(TimeSpan.FromMinutes(1));
        Assert.Equal(int.MaxValue, meter.Allows("shop"));
    }

    [Theory]
    [InlineData("otto", 5L, 5L, "paused", "Paused by otto: a move")]
    [InlineData("", 5L, 0L, "away", "no answer")]
    [InlineData("", 5L, 7L, "away", "no answer It is tried again at 1970-01-01 00:00 UTC.")]
    [InlineData("", null, 0L, "works", "")]
    public void The_state_of_a_target_is_told_in_one_order(string pausedBy, long? away, long retry, string state, string text)
    {
        var row = new TargetStateRow
        {
            Target = "shop",
            PausedBy = pausedBy,
            Reason = "a move",
            AwayAt = away,
            RetryAt = retry,
            Problem = "no answer",
            GoodAt = 3,
        };
        var found = TargetStates.Of(Shop, row, null, "", _clock.GetUtcNow());
        Assert.Equal((state, text), (found.State, found.Text));
        Assert.Equal(state == "works", TargetStates.WhyStill(Shop, row, _clock.GetUtcNow()) is null);
    }

    [Fact]
    public void A_check_that_came_after_the_last_success_knows_better_and_an_older_one_does_not()
    {
        TargetStateRow Row(long good, long check) => new() { GoodAt = good, CheckedAt = check };
        Assert.Equal("away", TargetStates.Of(Shop, Row(3, 4), false, "no name", _clock.GetUtcNow()).State);
        Assert.Equal("works", TargetStates.Of(Shop, Row(4, 3), false, "no name", _clock.GetUtcNow()).State);
        Assert.Equal("unseen", TargetStates.Of(Shop, null, null, "", _clock.GetUtcNow()).State);
    }

    private static TargetRule Shop { get; } =
        new("shop", "Shop", new TargetSettings.Scim(new("https://localhost/"), "", "", 4), new Dictionary<string, Entitlement>(), default!);

    [Theory]
    [InlineData("=1+1", "'=1+1")]
    [InlineData("  =1", "'  =1")]
    [InlineData(" plain", "\" plain\"")]
    [InlineData("+49", "'+49")]
    [InlineData("＝1", "'＝1")]
    [InlineData("\t=1", "'\t=1")]
    [InlineData("a,b", "\"a,b\"")]
    [InlineData("say \"x\"", "\"say \"\"x\"\"\"")]
    [InlineData("plain", "plain")]
    [InlineData("", "")]
    public void A_cell_is_never_a_formula(string value, string cell) => Assert.Equal(cell, Csv.Cell(value));

    [Fact]
    public void What_is_covered_is_covered_in_a_ledger_entry_however_it_is_written()
    {
        var veil = new Veil(["phone"], null);
        var entry = JsonSerializer.SerializeToElement(
            new
            {
                changes = new object[]
                {
                    new
                    {
                        name = "phone",
                        before = new[] { "1" },
                        after = Array.Empty<string>(),
                    },
                    new
                    {
                        Name = "phone",
                        Before = "",
                        After = "2",
                    },
                    new
                    {
                        name = "title",
                        before = "a",
                        after = "b",
                    },
                },
                wish = new { changes = new { phone = "3", title = "c" } },
                fields = new { phone = "4" },
            }
        );
        var text = veil.Over(entry).GetRawText();
        Assert.Equal(
            """
            {"changes":[{"name":"phone","before":["not shown to you"],"after":[]},{"Name":"phone","Before":"","After":"not shown to you"},{"name":"title","before":"a","after":"b"}],"wish":{"changes":{"phone":"not shown to you","title":"c"}},"fields":{"phone":"not shown to you"}}
            """,
            text
        );
        Assert.Equal(entry.GetRawText(), new Veil([], null).Over(entry).GetRawText());
    }

    [Fact]
    public void A_file_of_requests_tells_each_fault_by_its_line_and_what_is_asked_for_twice()
    {
        var rulebook = RulebookReader
            .Read([
                .. Repository
                    .RulebookFiles()
                    .Where(f => !Repository.IsOfApplications(f.Path))
                    .Select(f => new RulebookFile(f.Path, f.Text)),
            ])
            .Rulebook!;
        var rows = BulkFile.Read(
            "kind,person,entitlement,lastDay,title\n"
                + "access,E1,directory/payments;directory/dive-log,,\n"
                + "leaver,E2,,2030-02-31,\n"
                + "mover,E3,,\n"
                + "access,e1,directory/dive-log,,\n"
                + "mover,E4,,,Diver\n",
            rulebook
        );
        Assert.Equal([2, 3, 4, 5, 6], rows.Select(r => r.Line));
        Assert.Equal("'2030-02-31' is no date such as 2026-12-01.", rows[1].Fault);
        Assert.Equal("The row has 4 columns, the header 5.", rows[2].Fault);
        Assert.Equal(2, rows[0].Request!.Grants!.Count);
        Assert.Equal("Diver", rows[4].Request!.Record!["title"]);
        var single = BulkFile.WithoutDoubles(rows);
        Assert.Equal("Row 2 of this file asks for directory/dive-log already.", single[3].Fault);
        Assert.Null(single[4].Fault);
        Assert.Contains(
            "Did you mean 'title'?",
            Assert.Throws<Problem>(() => BulkFile.Read("kind,titlee\naccess,x\n", rulebook)).Message,
            StringComparison.Ordinal
        );
        Assert.Throws<Problem>(() => BulkFile.Read("person\nE1\n", rulebook));
        Assert.Throws<Problem>(() => BulkFile.Read("kind\n", rulebook));
    }

    [Fact]
    public void Settings_come_in_both_spellings_are_kept_within_bounds_and_know_whether_they_are_secure()
    {
        ServiceOptions Of(params (string Name, string Value)[] given) =>
            ServiceOptions.From(
                new ConfigurationBuilder().AddInMemoryCollection(given.ToDictionary(g => g.Name, g => (string?)g.Value)).Build()
            );
        Assert.Equal(2, Of(("lease_seconds", "2")).LeaseSeconds);
        Assert.Equal(0.5, Of(("lease-seconds", "0")).LeaseSeconds);
        Assert.Equal(600, Of(("lease-seconds", "9999")).LeaseSeconds);
        Assert.Equal(new ServiceOptions().LeaseSeconds, Of(("lease-seconds", "soon")).LeaseSeconds);
        Assert.Equal(720, Of(("session-hours", "1e9")).SessionHours);
        Assert.False(Of().IsSecure);
        var secure = Of(("address", "https://oikonom.northmere.example/"));
        Assert.Equal((true, "https://oikonom.northmere.example"), (secure.IsSecure, secure.PublicAddress));
    }

    [Fact]
    public void A_figure_is_written_as_prometheus_reads_it() =>
        Assert.Equal("steps{target=\"a\\\"b\\\\c\\nd\"} 1.5\n", Telemetry.Line("steps", 1.5, ("target", "a\"b\\c\nd")));
}

/// <summary>Parts of the service over a store of their own.</summary>
public sealed class StoredPartsTests : IAsyncLifetime
{
    private readonly ScratchFolder _folder = new();
    private readonly HandClock _clock = new();
    private Store.Store _store = null!;

    public ValueTask InitializeAsync()
    {
        var engine = new SqliteEngine(_folder.At("oikonom.db"));
        engine.Migrate();
        _store = new(engine, _clock);
        return default;
    }

    public async ValueTask DisposeAsync()
    {
        await _store.DisposeAsync();
        _folder.Dispose();
    }

    private long Now => _clock.GetUtcNow().ToUnixTimeMilliseconds();

    private Task<long?> TryAsync(string name, string address) => _store.WriteAsync(s => SignInTries.CountAsync(s, name, address, Now));

    [Fact]
    public async Task Guessing_is_slowed_ever_more_by_name_and_address_and_forgotten_after_half_an_hour()
    {
        for (var i = 0; i < 5; i++)
            Assert.Null(await TryAsync("otto", "10.0.0.1"));
        var until = await TryAsync("otto", "10.0.0.1");
        Assert.Equal(Now + 60_000, until);
        // Others are not slowed by it, and the name not from elsewhere.
        Assert.Null(await TryAsync("edda", "10.0.0.1"));
        Assert.Null(await TryAsync("otto", "10.0.0.2"));
        _clock.Move(TimeSpan.FromSeconds(61));
        Assert.Null(await TryAsync("otto", "10.0.0.1"));
        Assert.True(await TryAsync("otto", "10.0.0.1") - Now > 60_000);
        _clock.Move(TimeSpan.FromMinutes(31));
        for (var i = 0; i < 5; i++)
            Assert.Null(await TryAsync("otto", "10.0.0.1"));
        await _store.WriteAsync(async s =>
        {
            await SignInTries.ForgetAsync(s, "otto", "10.0.0.1");
            return true;
        });
        Assert.Null(await TryAsync("otto", "10.0.0.1"));
    }

    [Fact]
    public async Task A_name_is_slowed_whoever_tries_and_one_address_whatever_the_name()
    {
        for (var i = 0; i < 20; i++)
            Assert.Null(await TryAsync("otto", $"10.0.1.{i}"));
        Assert.Equal(Now + 30_000, await TryAsync("otto", "10.0.2.1"));
        for (var i = 0; i < 40; i++)
            Assert.Null(await TryAsync($"name{i}", "10.0.3.1"));
        Assert.Equal(Now + 60_000, await TryAsync("somebody", "10.0.3.1"));
    }

    private static DefaultHttpContext With(string key)
    {
        var context = new DefaultHttpContext();
        context.Request.Path = "/api/v1/requests";
        context.Request.Headers["Idempotency-Key"] = key;
        return context;
    }

    [Fact]
    public async Task A_call_with_a_key_is_done_once_and_one_that_failed_may_come_again()
    {
        var once = new Idempotency(_store, _clock);
        var done = 0;
        Task<string> CallAsync(string key, string body, string actor = "ines") =>
            once.OnceAsync(With(key), actor, body, () => Task.FromResult($"{++done}"), CancellationToken.None);
        Assert.Equal("1", await CallAsync("k", "a"));
        Assert.Equal("1", await CallAsync("k", "a"));
        Assert.Equal("key-used", (await Assert.ThrowsAsync<Problem>(() => CallAsync("k", "b"))).Code);
        // Somebody else's key of that name is another; without a key each call counts.
        Assert.Equal("2", await CallAsync("k", "a", "mara"));
        Assert.Equal("3", await CallAsync("", "a"));
        Assert.Equal("4", await CallAsync("", "a"));
        await Assert.ThrowsAsync<Problem>(() => CallAsync(new('k', 201), "a"));
        await Assert.ThrowsAsync<InvalidOperationException>(() =>
            once.OnceAsync<string>(With("f"), "ines", "a", () => throw new InvalidOperationException(), CancellationToken.None)
        );
        Assert.Equal("5", await CallAsync("f", "a"));
    }
}
