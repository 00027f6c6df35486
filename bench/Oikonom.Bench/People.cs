using Oikonom.Testing;

namespace Oikonom.Bench;

/// <summary>How fast people are found among many, by any part of a name, number or place, and the catalogue beside them, on both
/// engines.</summary>
internal static class People
{
    private static readonly string[] Given = ["Tor", "Zoë", "Ирина", "Søren", "Mara", "Ruben", "Kaya", "Anselm"];
    private static readonly string[] Family = ["Quill", "Ōmori", "Волкова", "D'Arcy", "Brackwater", "Ærø", "Halvorsen", "Lindqvist"];

    public static async Task RunAsync(int people)
    {
        await foreach (var (engine, world) in Engines.EachAsync())
        {
            world.WriteHr(
                Enumerable
                    .Range(0, people)
                    .Select(i => new HrRow($"B{i:000000}", Given[i % 8], $"{Family[i / 8 % 8]}-{Letters(i)}")
                    {
                        Start = "2020-01-05",
                        Department = $"Department {i % 40}",
                    })
            );
            var watch = System.Diagnostics.Stopwatch.StartNew();
            await world.RunIntakeAsync("baseline", actor: "edda");
            Console.WriteLine($"  loaded in {watch.Elapsed.TotalSeconds:0.0} s");
            watch.Restart();
            await world.GetAsync<Oikonom.Contracts.Page<Oikonom.Contracts.PersonSummary>>("/api/v1/people?text=quill&limit=50");
            Console.WriteLine($"  first search {watch.Elapsed.TotalSeconds:0.0} s");
            // In the first two minutes after so many changes each search counts them.
            await Task.Delay(TimeSpan.FromSeconds(125));
            Console.WriteLine($"{people} people on {engine}, 4 clients   (wanted: p99 under 50 ms)");
            foreach (var text in new[] { "quill", "omori", "волк", "B0427", "q", "kaya brackwater", "nobody at all", "" })
                await Inbox.MeasureAsync(world, $"people, '{text}'", $"/api/v1/people?text={Uri.EscapeDataString(text)}&limit=50", "otto");
            await Inbox.MeasureAsync(world, "people of a department", "/api/v1/people?department=Department%207&limit=50", "otto");
            await Inbox.MeasureAsync(world, "catalogue", "/api/v1/catalogue", "ines");
        }
    }

    private static string Letters(int number)
    {
        var text = "";
        for (var i = 0; i < 4; i++, number /= 26)
            text += (char)('a' + (number % 26));
        return text;
    }
}
