using System.Data.Common;
using System.Diagnostics;
using Microsoft.Data.Sqlite;
using Npgsql;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests.Stories;

/// <summary>
/// The book of stories, run line by line through the real thing: a service, a directory, an HR file, and a clock that is
/// moved. All stories of a chapter share them, day by day, and each has people of its own. What is tested in one class runs
/// one after the other, so the chapters are dealt out to some.
/// </summary>
public abstract class StoryTests(Servers servers)
{
    private const int Parts = 4;
    internal static readonly TimeZoneInfo Harbour = TimeZoneInfo.FindSystemTimeZoneById("Europe/Lisbon");
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(60);

    /// <summary>Every chapter on the embedded engine, and one of a dozen stories on PostgreSQL too; every fourth of them.</summary>
    protected static TheoryData<string, string> Part(int part)
    {
        var chapters = new TheoryData<string, string>();
        (string Chapter, string Engine)[] all =
        [
            ("leavers", "postgres"),
            .. Book.Files.Select(f => (Path.GetFileNameWithoutExtension(f), "sqlite")),
        ];
        for (var i = part; i < all.Length; i += Parts)
            chapters.Add(all[i].Chapter, all[i].Engine);
        return chapters;
    }

    /// <summary>Tells a chapter, and fails with each line that is not so.</summary>
    protected async Task TellAsync(string chapter, string engine)
    {
        await using var world = await World.StartAsync(servers.Directory, (await servers.OnAsync(engine)) with { MovesClock = true });
        // Stories begin in the morning of a working day at the harbour.
        var now = TimeZoneInfo.ConvertTime(DateTimeOffset.UtcNow, Harbour);
        var morning = now.Date.AddDays(1).AddHours(10);
        while (morning.DayOfWeek != DayOfWeek.Monday)
            morning = morning.AddDays(1);
        world.MoveClock(morning - now.DateTime);
        var first = DateOnly.FromDateTime(morning);
        var rules = new HashSet<(string, string)>();
        var tales = Book.Read(Repository.At("docs", "stories", chapter + ".md"))
            .Select(t => (Tale: t, Teller: new Teller(world, first, rules)))
            .ToList();
        var wrong = new List<string>();
        var given = new HashSet<string>();
        var today = 0;
        foreach (var day in tales.SelectMany(t => t.Tale.Lines).Select(l => l.Day).Distinct().Order())
        {
            if (day > today)
                world.MoveClock(TimeSpan.FromDays(day - today));
            today = day;
            await RestedAsync(day);
            for (var turn = 0; tales.Exists(t => LineOf(t.Tale, day, turn) is not null); turn++)
            {
                var lines = tales
                    .Where(t => !given.Contains(t.Tale.Title))
                    .Select(t => (t.Tale, t.Teller, Line: LineOf(t.Tale, day, turn)!))
                    .Where(t => t.Line is not null)
                    .ToList();
                foreach (var (_, teller, line) in lines)
                foreach (var says in line.Happens.Where(Teller.IsOfHr))
                    teller.Write(says);
                foreach (var (_, teller, line) in lines)
                foreach (var before in line.Happens.Where(Teller.IsAlready))
                    await teller.DoAsync(before["already ".Length..]);
                if (lines.Exists(l => l.Line.Happens.Any(Teller.IsOfHr)))
                {
                    world.WriteHr(tales.SelectMany(t => t.Teller.Rows));
                    await world.RunIntakeAsync();
                    await RestedAsync(day);
                }
                foreach (var (tale, teller, line) in lines)
                    await TellAsync(tale, line, teller.DoAsync);
                await RestedAsync(day);
                foreach (var (tale, teller, line) in lines)
                foreach (var then in line.Then)
                    if (await SeenAsync(teller, then) is { } why)
                        wrong.Add($"{line.Place} ({tale.Title}), day {day}: {then}; {why}");
            }
        }
        Assert.True(wrong.Count == 0, string.Join('\n', wrong));

        async Task RestedAsync(int day)
        {
            if (!await RestAsync(world))
                wrong.Add($"{chapter}, day {day}: something is due and does not run");
        }

        async Task TellAsync(Tale tale, Line line, Func<string, Task> tell)
        {
            foreach (var what in line.Happens.Where(h => !Teller.IsOfHr(h) && !Teller.IsAlready(h)))
                try
                {
                    await tell(what);
                }
                catch (Exception error) when (error is InvalidOperationException or TimeoutException)
                {
                    // The rest of the story rests on what could not be done.
                    wrong.Add($"{line.Place} ({tale.Title}), day {line.Day}: {what}; {error.Message}");
                    given.Add(tale.Title);
                    return;
                }
        }
    }

    private static Line? LineOf(Tale tale, int day, int turn) => tale.Lines.Where(l => l.Day == day).ElementAtOrDefault(turn);

    private static async Task<string?> SeenAsync(Teller teller, string then)
    {
        var watch = Stopwatch.StartNew();
        while (true)
        {
            if (await teller.LookAsync(then) is not { } why)
                return null;
            if (watch.Elapsed > Patience)
                return why;
            await Task.Delay(200);
        }
    }

    /// <summary>
    /// Waits until the service has nothing to do at this moment: no plan, no step that is due, nobody whose instant has come.
    /// </summary>
    /// <returns>False when it does not come to that.</returns>
    private static async Task<bool> RestAsync(World world)
    {
        await using DbConnection store =
            world.Store == "sqlite"
                ? new SqliteConnection($"Data Source={world.DataFolder}/oikonom.db;Pooling=False;Default Timeout=30")
                : new NpgsqlConnection(world.Store);
        await store.OpenAsync();
        var watch = Stopwatch.StartNew();
        while (watch.Elapsed < Patience)
        {
            var now = (DateTimeOffset.UtcNow + world.Ahead).ToUnixTimeMilliseconds();
            await using var command = store.CreateCommand();
            command.CommandText =
                $"SELECT (SELECT COUNT(*) FROM people WHERE next_at<={now}) + (SELECT COUNT(*) FROM requests WHERE state='planning') "
                + $"+ (SELECT COUNT(*) FROM chains WHERE due_at<={now}) + (SELECT COUNT(*) FROM notices WHERE due_at<={now})";
            if ((long)(await command.ExecuteScalarAsync())! == 0)
                return true;
            await Task.Delay(50);
        }
        return false;
    }
}

/// <summary>Chapters of the book.</summary>
public sealed class FirstStoryTests(Servers servers) : StoryTests(servers)
{
    public static TheoryData<string, string> Chapters => Part(0);

    [Theory]
    [MemberData(nameof(Chapters))]
    public Task Every_line_of_a_chapter_is_so(string chapter, string engine) => TellAsync(chapter, engine);
}

/// <summary>Chapters of the book.</summary>
public sealed class SecondStoryTests(Servers servers) : StoryTests(servers)
{
    public static TheoryData<string, string> Chapters => Part(1);

    [Theory]
    [MemberData(nameof(Chapters))]
    public Task Every_line_of_a_chapter_is_so(string chapter, string engine) => TellAsync(chapter, engine);
}

/// <summary>Chapters of the book.</summary>
public sealed class ThirdStoryTests(Servers servers) : StoryTests(servers)
{
    public static TheoryData<string, string> Chapters => Part(2);

    [Theory]
    [MemberData(nameof(Chapters))]
    public Task Every_line_of_a_chapter_is_so(string chapter, string engine) => TellAsync(chapter, engine);
}

/// <summary>Chapters of the book.</summary>
public sealed class FourthStoryTests(Servers servers) : StoryTests(servers)
{
    public static TheoryData<string, string> Chapters => Part(3);

    [Theory]
    [MemberData(nameof(Chapters))]
    public Task Every_line_of_a_chapter_is_so(string chapter, string engine) => TellAsync(chapter, engine);
}

/// <summary>How the book is read.</summary>
public sealed class BookTests
{
    [Fact]
    public void The_book_is_read_as_it_is_written()
    {
        var tale = Assert.Single(
            Book.Parse(
                "x.md",
                [
                    "# Chapter",
                    "## A tale",
                    "| day | what happens | what is then true |",
                    "| --- | --- | --- |",
                    "| 0 | a; b | c |",
                    "| 12 | | d; e |",
                ]
            )
        );
        Assert.Equal(("A tale", 2), (tale.Title, tale.Lines.Count));
        Assert.Equal(
            (0, "a|b", "c", "x.md:5"),
            (tale.Lines[0].Day, string.Join('|', tale.Lines[0].Happens), tale.Lines[0].Then.Single(), tale.Lines[0].Place)
        );
        Assert.Equal((12, 0, 2), (tale.Lines[1].Day, tale.Lines[1].Happens.Count, tale.Lines[1].Then.Count));
        Assert.Throws<FormatException>(() => Book.Parse("x.md", ["## A tale", "| soon | a | b |"]));
    }
}
