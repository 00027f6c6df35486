using System.Diagnostics;
using Npgsql;
using Oikonom.Standins.Directory;

namespace Oikonom.Testing;

/// <summary>A private PostgreSQL server on loopback, in a folder of its own.</summary>
public sealed class PostgresServer : IAsyncDisposable
{
    private readonly ScratchFolder _folder = new();
    private readonly string _binaries =
        System.IO.Directory.GetDirectories("/usr/lib/postgresql").Order(StringComparer.Ordinal).Last() + "/bin";
    private Process? _process;

    public int Port { get; } = DirectoryServer.FreePort();

    public static async Task<PostgresServer> StartAsync()
    {
        var server = new PostgresServer();
        await server.OpenAsync();
        return server;
    }

    private async Task OpenAsync()
    {
        var data = _folder.At("data");
        if (Environment.IsPrivilegedProcess)
            await Child.RunAsync("chown", "postgres", _folder.Path);
        await Child.RunAsync([
            .. AsOwner,
            $"{_binaries}/initdb",
            "-D",
            data,
            "-U",
            "postgres",
            "-A",
            "trust",
            "-E",
            "UTF8",
            "--locale=C",
            "--no-sync",
        ]);
        await RunAsync();
    }

    private async Task RunAsync()
    {
        _process = Child.Start([
            .. AsOwner,
            $"{_binaries}/postgres",
            "-D",
            _folder.At("data"),
            "-p",
            $"{Port}",
            "-c",
            "listen_addresses=127.0.0.1",
            "-c",
            $"unix_socket_directories={_folder.Path}",
            "-c",
            "fsync=off",
            "-c",
            "max_connections=200",
            "-c",
            "shared_buffers=64MB",
        ]);
        for (var attempt = 0; ; attempt++)
        {
            try
            {
                await using var connection = new NpgsqlConnection(ConnectionOf("postgres"));
                await connection.OpenAsync();
                return;
            }
            catch (NpgsqlException) when (attempt < 200)
            {
                await Task.Delay(50);
            }
        }
    }

    /// <summary>Ends all connections and starts again, with what was committed.</summary>
    public async Task RestartAsync()
    {
        await EndAsync("fast");
        await RunAsync();
    }

    private async Task EndAsync(string mode)
    {
        await Child.RunAsync([.. AsOwner, $"{_binaries}/pg_ctl", "-D", _folder.At("data"), "-m", mode, "stop"]);
        await _process!.WaitForExitAsync();
        _process.Dispose();
    }

    private static string[] AsOwner => Environment.IsPrivilegedProcess ? ["runuser", "-u", "postgres", "--"] : [];

    private string ConnectionOf(string database) =>
        $"Host=127.0.0.1;Port={Port};Username=postgres;Database={database};Maximum Pool Size=20";

    /// <summary>An empty database of its own, by connection string.</summary>
    public async Task<string> NewDatabaseAsync()
    {
        var name = "t" + Guid.NewGuid().ToString("N")[..12];
        await using var connection = new NpgsqlConnection(ConnectionOf("postgres"));
        await connection.OpenAsync();
        await using var command = new NpgsqlCommand($"CREATE DATABASE {name}", connection);
        await command.ExecuteNonQueryAsync();
        return ConnectionOf(name);
    }

    public async ValueTask DisposeAsync()
    {
        NpgsqlConnection.ClearAllPools();
        if (_process is not null)
            await EndAsync("immediate");
        _folder.Dispose();
    }
}
