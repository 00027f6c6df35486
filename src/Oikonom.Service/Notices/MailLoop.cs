using MailKit.Net.Smtp;
using MailKit.Security;
using MimeKit;
using Oikonom.Core.Fulfilment;
using Oikonom.Service.Hosting;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Notices;

/// <summary>Sends the mails that wait. A mail server that is away loses nothing; each mail has an id of its own.</summary>
public sealed partial class MailLoop(Store.Store store, ServiceOptions options, TimeProvider time, ILogger<MailLoop> log) : Loop(TimeSpan.FromSeconds(2), log)
{
    private const int Batch = 50;
    private static readonly TimeSpan Lease = TimeSpan.FromMinutes(2);

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        if (options.Mail.Length == 0) return false;
        var now = time.Milliseconds();
        if (!await store.ReadAsync(s => s.AnyNoticeAsync(now), cancel)) return false;
        var mails = await store.WriteAsync(s => s.ClaimNoticesAsync(now, now + (long)Lease.TotalMilliseconds, Batch), cancel);
        if (mails.Count == 0) return false;
        using var client = new SmtpClient();
        try
        {
            var (host, port) = (options.Mail[..options.Mail.LastIndexOf(':')], int.Parse(options.Mail[(options.Mail.LastIndexOf(':') + 1)..], System.Globalization.CultureInfo.InvariantCulture));
            await client.ConnectAsync(host, port, options.MailClear ? SecureSocketOptions.None : SecureSocketOptions.StartTls, cancel);
        }
        catch (Exception error) when (error is not OperationCanceledException)
        {
            foreach (var mail in mails) await FailAsync(mail, error.Message, cancel);
            LogFailure(log, options.Mail, mails.Count, error.Message);
            return false;
        }
        foreach (var mail in mails)
        {
            try
            {
                await client.SendAsync(Compose(mail), cancel);
                await store.WriteAsync(s => s.NoticeSentAsync(mail.Id, time.Milliseconds()), cancel);
            }
            catch (Exception error) when (error is not OperationCanceledException)
            {
                await FailAsync(mail, error.Message, cancel);
                LogFailure(log, options.Mail, 1, error.Message);
                if (!client.IsConnected) return false;
            }
        }
        await client.DisconnectAsync(quit: true, cancel);
        return mails.Count == Batch;
    }

    private MimeMessage Compose(NoticeRow mail)
    {
        var message = new MimeMessage { Subject = mail.Subject, Date = mail.CreatedAt.ToInstant(), MessageId = $"notice-{mail.Id}-{mail.CreatedAt}@oikonom" };
        message.From.Add(new MailboxAddress("Oikonom", options.MailFrom));
        message.To.Add(MailboxAddress.Parse(mail.Mail));
        message.Headers.Add("Auto-Submitted", "auto-generated");
        message.Body = new TextPart("plain") { Text = mail.Body };
        return message;
    }

    private Task FailAsync(NoticeRow mail, string problem, CancellationToken cancel) =>
        store.WriteAsync(s => s.NoticeFailedAsync(mail.Id, time.Milliseconds() + (long)StepMachine.BackOff((int)mail.Attempts + 2).TotalMilliseconds, problem), cancel);

    [LoggerMessage(Level = LogLevel.Warning, Message = "Mail server {Server}: {Count} mail(s) wait: {Problem}")]
    private static partial void LogFailure(ILogger log, string server, int count, string problem);
}
