using System.Buffers;
using System.Collections.Concurrent;
using System.Net;
using MimeKit;
using SmtpServer;
using SmtpServer.Protocol;
using SmtpServer.Storage;

namespace Oikonom.Standins.Mail;

/// <summary>A mail as it arrived.</summary>
public sealed record ReceivedMail(string Id, string To, string From, string Subject, string Body, DateTimeOffset At);

/// <summary>A mail server that keeps what it gets and delivers nothing.</summary>
public sealed class MailSink : IAsyncDisposable
{
    private readonly ConcurrentQueue<ReceivedMail> _mails = new();
    private readonly CancellationTokenSource _stop = new();
    private readonly Task _running;

    public MailSink(int port)
    {
        Port = port;
        var services = new SmtpServer.ComponentModel.ServiceProvider();
        services.Add(new Keep(_mails));
        var options = new SmtpServerOptionsBuilder()
            .ServerName("northmere.example")
            .Endpoint(e => e.Endpoint(new IPEndPoint(IPAddress.Loopback, port)))
            .Build();
        _running = new SmtpServer.SmtpServer(options, services).StartAsync(_stop.Token);
    }

    public int Port { get; }
    public IReadOnlyList<ReceivedMail> Mails => [.. _mails];

    public void Clear() => _mails.Clear();

    public async ValueTask DisposeAsync()
    {
        await _stop.CancelAsync();
        try
        {
            await _running.WaitAsync(TimeSpan.FromSeconds(5));
        }
        catch (Exception error) when (error is OperationCanceledException or TimeoutException)
        {
            // Stopped.
        }
        _stop.Dispose();
    }

    private sealed class Keep(ConcurrentQueue<ReceivedMail> mails) : MessageStore
    {
        public override async Task<SmtpResponse> SaveAsync(
            ISessionContext context,
            IMessageTransaction transaction,
            ReadOnlySequence<byte> buffer,
            CancellationToken cancellationToken
        )
        {
            await using var stream = new MemoryStream(buffer.ToArray());
            var message = await MimeMessage.LoadAsync(stream, cancellationToken);
            mails.Enqueue(
                new(
                    message.MessageId ?? "",
                    message.To.ToString(),
                    message.From.ToString(),
                    message.Subject ?? "",
                    message.TextBody ?? "",
                    message.Date
                )
            );
            while (mails.Count > 2000)
                mails.TryDequeue(out _);
            return SmtpResponse.Ok;
        }
    }
}
