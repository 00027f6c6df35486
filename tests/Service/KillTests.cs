using System.Net;
using System.Net.Sockets;
using Oikonom.Ldap;
using Oikonom.Standins.Directory;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>
/// The service is killed (SIGKILL) when the n-th message crosses the line to the directory: before an effect,
/// or after it with its answer lost. After a restart the request completes and nothing was done twice.
/// </summary>
public sealed class KillTests(Servers servers)
{
    private const int Points = 20;
    private static readonly string[] Between = ["raised", "approved", "released", "running"];

    [Fact]
    public async Task Killed_at_any_point_the_request_completes_and_nothing_is_done_twice()
    {
        await using var line = new Line(servers.Directory.LdapsPort);
        await using var world = await World.StartAsync(
            servers.Directory,
            new()
            {
                OwnProcess = true,
                DirectoryPort = line.Port,
                Mail = false,
            }
        );
        await using var ldap = await servers.Directory.ConnectAsync();
        var killed = 0;
        for (var point = 0; point < Points; point++)
        {
            // Four groups: ten messages each way carry out such a request.
            var row = HrRow.New() with
            {
                Department = "Animal Care",
                Kind = "volunteer",
            };
            var request = await world.BringAsync(row, "releasing");
            line.Arm(point / 2, afterEffect: point % 2 == 1, world.Kill);
            var answered = await AnsweredAsync(world.ReleaseAsync(request));
            await Task.WhenAny(world.WaitForEndAsync(), Task.Delay(TimeSpan.FromSeconds(4)));
            line.Disarm();
            if (!world.IsRunning)
            {
                killed++;
                await world.StartServiceAsync();
            }
            else
            {
                Assert.True(answered, "The release was not answered by a service that lives.");
            }
            // Whoever got no answer asks again: what was carried out already is not carried out twice.
            if (!answered && (await world.RequestAsync(request.Summary.Id)).Summary.State == "releasing")
                await world.ReleaseAsync(request);
            await RequireOnceAsync(world, ldap, row, request.Summary.Id, 4);
        }
        Assert.True(killed >= Points - 1, $"only {killed} of {Points} points were reached");
        foreach (var moment in Between)
        {
            var row = HrRow.New();
            world.WriteHr(row);
            var id = (await world.RunIntakeAsync()).Requests.Single().Id;
            if (moment == "raised")
                await KillAsync(world);
            var planned = await world.WaitForAsync(id, "deciding");
            await world.ApproveAsync(planned);
            if (moment == "approved")
                await KillAsync(world);
            await world.ReleaseAsync(planned);
            if (moment == "running")
                await Task.Delay(8);
            if (moment is "released" or "running")
                await KillAsync(world);
            await RequireOnceAsync(world, ldap, row, id, 3);
        }
        var verification = await world.EventuallyAsync(world.VerifyLedgerAsync, v => v.Unsealed == 0);
        Assert.True(verification.Sound, string.Join("; ", verification.Faults));
    }

    /// <summary>False when the service was killed before it answered: work may begin before the answer has crossed the line.</summary>
    private static async Task<bool> AnsweredAsync(Task call)
    {
        try
        {
            await call;
            return true;
        }
        catch (HttpRequestException)
        {
            return false;
        }
    }

    private static async Task KillAsync(World world)
    {
        world.Kill();
        await world.WaitForEndAsync();
        await world.StartServiceAsync();
    }

    private static async Task RequireOnceAsync(World world, LdapConnection ldap, HrRow row, string? id, int groups)
    {
        var done = await world.WaitForAsync(id, "completed");
        Assert.All(done.Steps, s => Assert.Equal("done", s.State));
        var entry = Assert.Single(
            await ldap.SearchAsync(
                new(DirectoryOptions.People, LdapScope.Subtree, LdapFilter.Equal("employeeNumber", row.Number), "memberOf")
            )
        );
        Assert.Equal(groups, entry.Texts("memberOf").Count);
    }

    /// <summary>A line to the directory that can be cut by counting what crosses it. It sees TLS and reads nothing.</summary>
    private sealed class Line : IAsyncDisposable
    {
        private readonly TcpListener _listener = new(IPAddress.Loopback, 0);
        private readonly CancellationTokenSource _stop = new();
        private readonly int _target;
        private int _left = int.MaxValue;
        private bool _afterEffect;
        private Action _kill = () => { };

        public Line(int target)
        {
            _target = target;
            _listener.Start();
            _ = Task.Run(AcceptAsync);
        }

        public int Port => ((IPEndPoint)_listener.LocalEndpoint).Port;

        /// <summary>Kills at the message with this number: its answer is held back when the effect is to stand.</summary>
        public void Arm(int messages, bool afterEffect, Action kill)
        {
            (_afterEffect, _kill) = (afterEffect, kill);
            Volatile.Write(ref _left, messages);
        }

        public void Disarm() => Volatile.Write(ref _left, int.MaxValue);

        private async Task AcceptAsync()
        {
            while (!_stop.IsCancellationRequested)
            {
                try
                {
                    var client = await _listener.AcceptTcpClientAsync(_stop.Token);
                    var server = new TcpClient { NoDelay = true };
                    await server.ConnectAsync(IPAddress.Loopback, _target, _stop.Token);
                    client.NoDelay = true;
                    _ = Task.Run(() => PumpAsync(client, server, fromServer: false));
                    _ = Task.Run(() => PumpAsync(server, client, fromServer: true));
                }
                catch (Exception error) when (error is OperationCanceledException or SocketException or ObjectDisposedException)
                {
                    // The line goes on until it is disposed.
                }
            }
        }

        private async Task PumpAsync(TcpClient from, TcpClient to, bool fromServer)
        {
            var buffer = new byte[65_536];
            try
            {
                while (true)
                {
                    var count = await from.GetStream().ReadAsync(buffer, _stop.Token);
                    if (count == 0)
                        break;
                    if (fromServer == _afterEffect && Volatile.Read(ref _left) != int.MaxValue && Interlocked.Decrement(ref _left) < 0)
                    {
                        _kill();
                        break;
                    }
                    await to.GetStream().WriteAsync(buffer.AsMemory(0, count), _stop.Token);
                }
            }
            catch (Exception error)
                when (error is IOException or OperationCanceledException or ObjectDisposedException or InvalidOperationException)
            {
                // Either side is gone.
            }
            from.Close();
            to.Close();
        }

        public async ValueTask DisposeAsync()
        {
            await _stop.CancelAsync();
            _listener.Dispose();
            _stop.Dispose();
        }
    }
}
