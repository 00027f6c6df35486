using System.Net;
using System.Net.Sockets;
using System.Threading.Channels;

namespace Oikonom.Bench;

/// <summary>A line to a server of this machine on which everything takes its time, both ways, as if it were far away.</summary>
internal sealed class SlowLine : IAsyncDisposable
{
    private readonly TcpListener _listener = new(IPAddress.Loopback, 0);
    private readonly CancellationTokenSource _stop = new();
    private readonly Task _accepting;

    /// <param name="to">The port of the server.</param>
    /// <param name="oneWay">How long each part of what is said is under way.</param>
    public SlowLine(int to, TimeSpan oneWay)
    {
        _listener.Start();
        _accepting = AcceptAsync(to, oneWay);
    }

    /// <summary>Where the server is reached slowly.</summary>
    public int Port => ((IPEndPoint)_listener.LocalEndpoint).Port;

    private async Task AcceptAsync(int to, TimeSpan oneWay)
    {
        var lines = new List<Task>();
        try
        {
            while (true)
            {
                var near = await _listener.AcceptTcpClientAsync(_stop.Token);
                lines.Add(CarryAsync(near, to, oneWay));
            }
        }
        catch (OperationCanceledException)
        {
            await Task.WhenAll(lines);
        }
    }

    private async Task CarryAsync(TcpClient near, int to, TimeSpan oneWay)
    {
        using (near)
        using (var far = new TcpClient { NoDelay = true })
        {
            near.NoDelay = true;
            try
            {
                await far.ConnectAsync(IPAddress.Loopback, to, _stop.Token);
                await Task.WhenAny(
                    CarryAsync(near.GetStream(), far.GetStream(), oneWay),
                    CarryAsync(far.GetStream(), near.GetStream(), oneWay)
                );
            }
            catch (Exception error) when (error is OperationCanceledException or IOException or SocketException)
            {
                // The line is cut.
            }
        }
    }

    /// <summary>What comes in goes out so much later, however much is under way meanwhile.</summary>
    private async Task CarryAsync(NetworkStream from, NetworkStream to, TimeSpan oneWay)
    {
        var under = Channel.CreateUnbounded<(byte[] Part, long Due)>();
        var sending = Task.Run(async () =>
        {
            await foreach (var (part, due) in under.Reader.ReadAllAsync(_stop.Token))
            {
                if (due - Environment.TickCount64 is > 0 and var left)
                    await Task.Delay(TimeSpan.FromMilliseconds(left), _stop.Token);
                await to.WriteAsync(part, _stop.Token);
            }
        });
        var buffer = new byte[64 * 1024];
        for (int read; (read = await from.ReadAsync(buffer, _stop.Token)) > 0; )
            under.Writer.TryWrite((buffer[..read], Environment.TickCount64 + (long)oneWay.TotalMilliseconds));
        under.Writer.Complete();
        await sending;
    }

    public async ValueTask DisposeAsync()
    {
        await _stop.CancelAsync();
        _listener.Stop();
        await _accepting;
        _stop.Dispose();
    }
}
