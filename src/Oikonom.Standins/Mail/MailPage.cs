using System.Net;
using System.Text;

namespace Oikonom.Standins.Mail;

/// <summary>Shows what the mail stand-in received, as a page and over HTTP.</summary>
public static class MailPage
{
    public static void MapMail(this WebApplication app, MailSink sink)
    {
        app.MapGet(
            "/messages",
            (string? to) => sink.Mails.Where(m => to is null || m.To.Contains(to, StringComparison.OrdinalIgnoreCase)).Reverse()
        );
        app.MapDelete(
            "/messages",
            () =>
            {
                sink.Clear();
                return Results.NoContent();
            }
        );
        app.MapGet("/", () => Results.Content(Page(sink), "text/html; charset=utf-8"));
    }

    private static string Page(MailSink sink)
    {
        var html = new StringBuilder(
            """
            <!doctype html><html lang="en"><head><meta charset="utf-8"><title>Mail of Northmere</title>
            <meta http-equiv="refresh" content="5">
            <style>
            body{font:16px/1.5 system-ui,sans-serif;max-width:52rem;margin:2rem auto;padding:0 1rem;background:#f6f3ec;color:#22302f}
            article{background:#fffdf8;border:1px solid #ddd5c4;border-radius:6px;padding:1rem;margin:1rem 0}
            h1{font-family:Georgia,serif}h2{font-size:1rem;margin:0}
            pre{white-space:pre-wrap;font:inherit}p{color:#5d6a66;margin:.2rem 0}
            </style></head><body><h1>Mail of Northmere</h1>
            <p>Nothing here leaves this machine.</p>
            """
        );
        foreach (var mail in sink.Mails.Reverse().Take(200))
            html.Append(
                $"<article><h2>{WebUtility.HtmlEncode(mail.Subject)}</h2><p>To {WebUtility.HtmlEncode(mail.To)}, "
                    + $"{mail.At:yyyy-MM-dd HH:mm:ss}</p><pre>{WebUtility.HtmlEncode(mail.Body)}</pre></article>"
            );
        if (sink.Mails.Count == 0)
            html.Append("<p>No mail yet.</p>");
        return html.Append("</body></html>").ToString();
    }
}
