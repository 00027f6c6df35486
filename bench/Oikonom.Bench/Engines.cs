using Oikonom.Testing;

namespace Oikonom.Bench;

/// <summary>The same measurement on both engines, each with a quiet world of its own.</summary>
internal static class Engines
{
    public static async IAsyncEnumerable<(string Engine, World World)> EachAsync()
    {
        await using var directory = await TestDirectory.StartAsync();
        await using var postgres = await PostgresServer.StartAsync();
        foreach (var engine in new[] { "sqlite", "postgres" })
        {
            var options = new WorldOptions
            {
                Mail = false,
                Environment = new Dictionary<string, string> { ["LOG_LEVEL"] = "Warning" },
            };
            if (engine == "postgres")
                options = options with { Store = await postgres.NewDatabaseAsync() };
            await using var world = await World.StartAsync(directory, options);
            yield return (engine, world);
        }
    }
}
