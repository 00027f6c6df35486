using MailKit.Net.Smtp;
using MailKit.Security;
using Microsoft.AspNetCore.DataProtection;
using MimeKit;
using Oikonom.Core.Time;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Notices;

/// <summary>Sends the mails that wait. A mail server that is away loses nothing; each mail has an id of its own.</summary>
public sealed partial class MailLoop(
    Store.Store store,
    IDataProtectionProvider protection,
    ServiceOptions options,
    TimeProvider time,
    Pulse pulse,
    ILogger<MailLoop> log
) : Loop(TimeSpan.FromSeconds(2), pulse, log)
{
    /// <summary>What the key ring seals links in mails for.</summary>
    private readonly IDataProtector _protector = protection.CreateProtector(Purposes.Mails);
    private const int Batch = 50;
    protected override TimeSpan Patience => TimeSpan.FromMinutes(10);
    private static readonly TimeSpan Lease = TimeSpan.FromMinutes(2);

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        if (options.Mail.Length == 0)
            return false;
        var now = time.Milliseconds();
        if (!await store.ReadAsync(s => s.AnyNoticeAsync(now), cancel))
            return false;
        var mails = await store.WriteAsync(s => s.ClaimNoticesAsync(now, now + (long)Lease.TotalMilliseconds, Batch), cancel);
        if (mails.Count == 0)
            return false;
        using var client = new SmtpClient();
        try
        {
            var (host, port) = (
                options.Mail[..options.Mail.LastIndexOf(':')],
                int.Parse(options.Mail[(options.Mail.LastIndexOf(':') + 1)..], System.Globalization.CultureInfo.InvariantCulture)
            );
            await client.ConnectAsync(host, port, options.MailClear ? SecureSocketOptions.None : SecureSocketOptions.StartTls, cancel);
        }
        catch (Exception error) when (error is not OperationCanceledException)
        {
            foreach (var mail in mails)
                await FailAsync(mail, error.Message, cancel);
            LogFailure(log, options.Mail, mails.Count, error.Message);
            return false;
        }
        var digests = await DigestsAsync(mails, cancel);
        foreach (
            var group in mails
                .GroupBy(m => digests.Contains(m.UserName) ? m.Mail : m.Id.ToString(System.Globalization.CultureInfo.InvariantCulture))
                .Select(g => g.ToList())
        )
        {
            try
            {
                await client.SendAsync(Compose(group), cancel);
                await store.WriteAsync(
                    async s =>
                    {
                        foreach (var mail in group)
                            await s.NoticeSentAsync(mail.Id, time.Milliseconds());
                    },
                    cancel
                );
            }
            catch (Exception error) when (error is not OperationCanceledException)
            {
                foreach (var mail in group)
                    await FailAsync(mail, error.Message, cancel);
                LogFailure(log, options.Mail, group.Count, error.Message);
                if (!client.IsConnected)
                    return false;
            }
        }
        await client.DisconnectAsync(quit: true, cancel);
        return mails.Count == Batch;
    }

    /// <summary>Users who want several notices in one mail.</summary>
    private async Task<HashSet<string>> DigestsAsync(IReadOnlyList<NoticeRow> mails, CancellationToken cancel)
    {
        if (mails.Count < 2)
            return [];
        return await store.ReadAsync(
            async s => (await s.UsersAsync()).Where(u => Hearing.FromJson(u.Hearing).Digest != "none").Select(u => u.Name).ToHashSet(),
            cancel
        );
    }

    private MimeMessage Compose(IReadOnlyList<NoticeRow> group)
    {
        var mail = group[0];
        var (subject, text) =
            group.Count == 1
                ? (mail.Subject, Whole(mail))
                : (
                    $"{group.Count} notices: {string.Join("; ", group.Take(3).Select(m => m.Subject))}{(group.Count > 3 ? " …" : "")}",
                    string.Join("\n\n---\n\n", group.Select(m => $"{m.Subject}\n\n{Whole(m)}"))
                );
        var message = new MimeMessage
        {
            Subject = subject,
            Date = mail.CreatedAt.ToInstant(),
            MessageId = $"notice-{mail.Id}-{mail.CreatedAt}@oikonom",
        };
        message.From.Add(new MailboxAddress("Oikonom", options.MailFrom));
        message.To.Add(MailboxAddress.Parse(mail.Mail));
        message.Headers.Add("Auto-Submitted", "auto-generated");
        message.Body = new Multipart("alternative")
        {
            new TextPart("plain") { Text = text },
            new TextPart("html") { Text = NoticeEndpoints.Html(text) },
        };
        return message;
    }

    /// <summary>The text with what was sealed in it, such as a one-time link; it stands in clear nowhere but in the mail.</summary>
    private string Whole(NoticeRow mail) =>
        mail.Sealed.Length == 0 ? mail.Body : mail.Body.Replace("{{sealed}}", _protector.Unprotect(mail.Sealed), StringComparison.Ordinal);

    private Task FailAsync(NoticeRow mail, string problem, CancellationToken cancel) =>
        store.WriteAsync(
            s => s.NoticeFailedAsync(mail.Id, time.Milliseconds() + BackOff.ForWork.Milliseconds(mail.Attempts + 2), problem),
            cancel
        );

    [LoggerMessage(Level = LogLevel.Warning, Message = "Mail server {Server}: {Count} mail(s) wait: {Problem}")]
    private static partial void LogFailure(ILogger log, string server, int count, string problem);
}
