using System.Net;
using System.Security.Claims;
using System.Text;
using Oikonom.Contracts;
using Oikonom.Core.Ledger;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Notices;

/// <summary>The inbox of notices, how somebody wants to hear, and a look at the texts.</summary>
public static class NoticeEndpoints
{
    public static void MapNotices(this RouteGroupBuilder api)
    {
        MapOwn(api);
        MapHearing(api);
        MapTexts(api);
    }

    private static void MapOwn(RouteGroupBuilder api)
    {
        api.MapGet(
                "/notices",
                async (long? after, int? limit, Store.Store store, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    var size = Paging.Limit(limit);
                    var rows = await store.ReadAsync(s => s.NoticesOfAsync(user.UserName(), after ?? long.MaxValue, size + 1), cancel);
                    return new Page<NoticeView>(
                        [
                            .. rows.Take(size)
                                .Select(n => new NoticeView(
                                    n.Id,
                                    n.Event,
                                    n.Subject,
                                    n.Body,
                                    n.RequestId,
                                    n.CreatedAt.ToInstant(),
                                    n.ReadAt is not null,
                                    n.SentAt is not null ? "sent"
                                        : n.Mail.Length == 0 ? "none"
                                        : "waits"
                                )),
                        ],
                        rows.Count > size ? rows[size - 1].Id.ToString(System.Globalization.CultureInfo.InvariantCulture) : null
                    );
                }
            )
            .WithName("listNotices")
            .WithSummary("The caller's notices, newest first.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);
        api.MapPost(
                "/notices/read",
                async (Store.Store store, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await store.WriteAsync(s => s.ReadNoticesAsync(user.UserName(), time.Milliseconds()), cancel);
                    return TypedResults.NoContent();
                }
            )
            .WithName("readNotices")
            .WithSummary("Marks the caller's notices as read.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);
    }

    private static void MapHearing(RouteGroupBuilder api)
    {
        api.MapGet(
                "/me/hearing",
                async (Store.Store store, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    var hearing = Hearing.FromJson((await store.ReadAsync(s => s.UserAsync(user.UserName()), cancel))?.Hearing ?? "{}");
                    return new HearingBody(hearing.Mail, hearing.Digest, hearing.QuietFrom, hearing.QuietUntil, hearing.Zone);
                }
            )
            .WithName("hearing")
            .WithSummary("How the caller wants to hear: by mail or not, digest, quiet hours in the zone they name.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);
        api.MapPut(
                "/me/hearing",
                async (HearingBody body, Store.Store store, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    if (body.Digest is not ("none" or "hour" or "day"))
                        throw Problem.Invalid("A digest is none, hour or day.", "digest");
                    if (
                        body.QuietFrom is < 0 or > 23
                        || body.QuietUntil is < 0 or > 23
                        || body.QuietFrom is null != body.QuietUntil is null
                    )
                        throw Problem.Invalid("Quiet hours are two hours from 0 to 23, or none.", "quietFrom");
                    var zone = body.Zone ?? "UTC";
                    if (zone.Length > 64 || !TimeZoneInfo.TryFindSystemTimeZoneById(zone, out _))
                        throw Problem.Invalid("The zone is the IANA name of a time zone, such as Atlantic/Azores.", "zone");
                    await store.WriteAsync(
                        async s =>
                        {
                            await s.SetHearingAsync(
                                user.UserName(),
                                new Hearing(body.Mail, body.Digest, body.QuietFrom, body.QuietUntil, zone).ToJson()
                            );
                            s.Record(
                                LedgerEntry.Of(
                                    time.GetUtcNow(),
                                    user.UserName(),
                                    "user.hearing",
                                    null,
                                    null,
                                    ("mail", body.Mail),
                                    ("digest", body.Digest)
                                )
                            );
                        },
                        cancel
                    );
                    return body with { Zone = zone };
                }
            )
            .WithName("setHearing")
            .WithSummary("Says how the caller wants to hear.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);
    }

    private static void MapTexts(RouteGroupBuilder api)
    {
        api.MapGet(
                "/notices/templates",
                async (EditionBook editions, CancellationToken cancel) =>
                {
                    var own = (await editions.CurrentAsync(cancel)).Rulebook.Notices;
                    return new Page<NoticeTemplate>(
                        [
                            .. NoticeEvents.All.Select(e =>
                                own.TryGetValue(e.Key, out var text)
                                    ? new NoticeTemplate(e.Key, text.Subject, text.Body, false)
                                    : new(e.Key, e.Value.Subject, e.Value.Body, true)
                            ),
                        ],
                        null
                    );
                }
            )
            .WithName("listNoticeTemplates")
            .WithSummary("The texts of notices, by event: built in, or of the rulebook.")
            .RequireAuthorization("rulebook-read")
            .Reaching(Reached.Shared);
        api.MapPost("/notices/preview", PreviewAsync)
            .WithName("previewNotice")
            .WithSummary("A notice as it would go out, with example values; with 'sendToMe' it is sent to the caller.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
    }

    private static readonly Dictionary<string, string> Example = new()
    {
        ["to"] = "Mara Quayle",
        ["person"] = "Tor Quill",
        ["title"] = "Diver",
        ["department"] = "Dive Team",
        ["site"] = "Harbour House",
        ["start"] = "2026-12-01",
        ["end"] = "2027-05-31",
        ["kind"] = "joiner",
        ["number"] = "42",
        ["stage"] = "Line manager",
        ["as"] = "the line manager",
        ["by"] = "mara",
        ["text"] = "an example of what is said here",
        ["effect"] = "- Create the account tor.quill in Northmere directory\n- Add tor.quill to Dive team in Northmere directory",
        ["manager"] = "Mara Quayle",
        ["due"] = "by 2026-11-30 17:00 at Harbour House",
    };

    private static async Task<NoticePreview> PreviewAsync(
        NoticePreviewBody body,
        EditionBook editions,
        Store.Store store,
        ServiceOptions options,
        ClaimsPrincipal user,
        CancellationToken cancel
    )
    {
        if (!NoticeEvents.All.ContainsKey(body.Event ?? ""))
            throw Problem.Invalid($"'{body.Event}' is no event; known are {string.Join(", ", NoticeEvents.All.Keys)}.", "event");
        foreach (var name in NoticeEvents.NamesIn((body.Subject ?? "") + (body.Text ?? "")).Where(n => !NoticeEvents.Names.Contains(n)))
            throw Problem.Invalid(
                $"'{{{{{name}}}}}' has no meaning in a notice; known are {string.Join(", ", NoticeEvents.Names)}.",
                "text"
            );
        var values = new Dictionary<string, string>(Example)
        {
            ["link"] = $"{options.PublicAddress}/requests/00000000-0000-0000-0000-000000000000",
        };
        var (subject, text) = Notifier.Text(await editions.CurrentAsync(cancel), body.Event!, values);
        if (body.Subject is not null)
            subject = NoticeEvents.Fill(body.Subject, values).ReplaceLineEndings(" ");
        if (body.Text is not null)
            text = NoticeEvents.Fill(body.Text, values);
        var send = body.SendToMe == true;
        if (send)
        {
            var me = await store.ReadAsync(s => s.UserAsync(user.UserName()), cancel);
            if (me is not { Mail.Length: > 0 })
                throw Problem.Conflict("no-mail", "You have no mail address to send it to.");
            await store.WriteAsync(
                s =>
                {
                    s.Send(new(me.Mail, "[test] " + subject, text, null) { UserName = me.Name, Event = "test" });
                    return Task.CompletedTask;
                },
                cancel
            );
        }
        return new(subject, text, Html(text), send);
    }

    /// <summary>The same notice as HTML: paragraphs, lists and links, everything else escaped.</summary>
    public static string Html(string text)
    {
        var html = new StringBuilder(
            "<!doctype html><html><body style=\"font-family:Georgia,serif;color:#26221c;background:#faf7f0;padding:24px\"><div "
                + "style=\"max-width:560px\">"
        );
        foreach (
            var paragraph in text.ReplaceLineEndings("\n")
                .Split("\n\n", StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
        )
        {
            var lines = paragraph.Split('\n');
            if (lines.All(l => l.StartsWith("- ", StringComparison.Ordinal)))
                html.Append("<ul>").AppendJoin("", lines.Select(l => $"<li>{WebUtility.HtmlEncode(l[2..])}</li>")).Append("</ul>");
            else
                html.Append("<p>").AppendJoin("<br>", lines.Select(Line)).Append("</p>");
        }
        return html.Append("</div></body></html>").ToString();

        static string Line(string line) =>
            line.StartsWith("http", StringComparison.Ordinal) && Uri.TryCreate(line, UriKind.Absolute, out var address)
                ? $"<a href=\"{WebUtility.HtmlEncode(address.ToString())}\" style=\"color:#8a3b12\">{WebUtility.HtmlEncode(line)}</a>"
                : WebUtility.HtmlEncode(line);
    }
}
