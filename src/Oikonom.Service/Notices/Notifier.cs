using System.Globalization;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;
using Oikonom.Service.Common;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Notices;

/// <summary>Writes notices into the decision they belong to: to the inbox of each, and by mail as each wants to hear.</summary>
public sealed class Notifier(ServiceOptions options, TimeProvider time)
{
    public void To(Session s, Case of, UserRow user, string about, Dictionary<string, string> values)
    {
        var (subject, body) = Text(of.Edition, about, ValuesOf(of, user.Display, values));
        Send(s, user, about, subject, body, of.Row.Id, of.Wish.Urgent);
    }

    /// <summary>To all who hold a role where the request is: by mail to each, or once to the mailbox the rulebook names for the
    /// role.</summary>
    public void ToRole(Session s, Case of, string role, string about, Dictionary<string, string> values, string? target = null)
    {
        var mailbox = of.Edition.Rulebook.Mailboxes.GetValueOrDefault(role);
        if (mailbox is not null)
            ToAddress(s, of, mailbox, $"{role}s", about, values);
        foreach (
            var user in of.Users.Where(u => u.Active == 1 && of.Parties.First(p => p.UserName == u.Name).Holds(role, of.About, target))
        )
        {
            var (subject, body) = Text(of.Edition, about, ValuesOf(of, user.Display, values));
            if (mailbox is null)
                Send(s, user, about, subject, body, of.Row.Id, of.Wish.Urgent);
            else
                s.Send(new("", subject, body, of.Row.Id) { UserName = user.Name, Event = about });
        }
    }

    public void ToRequester(Session s, Case of, string about, Dictionary<string, string> values)
    {
        if (of.User(of.Row.Requester) is { } user)
            To(s, of, user, about, values);
    }

    /// <summary>To somebody who does not sign in, such as a new person's private address.</summary>
    public void ToAddress(Session s, Case of, string address, string name, string about, Dictionary<string, string> values)
    {
        var (subject, body) = Text(of.Edition, about, ValuesOf(of, name, values));
        s.Send(new(address, subject, body, of.Row.Id) { Event = about });
    }

    /// <param name="urgent">True for what waits neither for quiet hours nor for gathered mails.</param>
    public void Send(Session s, UserRow user, string about, string subject, string body, string? request, bool urgent = false)
    {
        var hearing = Hearing.FromJson(user.Hearing);
        s.Send(
            new(hearing.Mail ? user.Mail : "", subject, body, request)
            {
                UserName = user.Name,
                Event = about,
                DueAt = (urgent ? time.GetUtcNow() : hearing.Due(time.GetUtcNow())).ToUnixTimeMilliseconds(),
            }
        );
    }

    /// <summary>The text of the rulebook for an event, else the built-in one, with the names filled in.</summary>
    public static (string Subject, string Body) Text(Edition? edition, string about, IReadOnlyDictionary<string, string> values)
    {
        var (subject, body) = edition?.Rulebook.Notices.GetValueOrDefault(about) is { } own
            ? (own.Subject, own.Body)
            : NoticeEvents.All[about];
        return (NoticeEvents.Fill(subject, values).ReplaceLineEndings(" "), NoticeEvents.Fill(body, values));
    }

    private Dictionary<string, string> ValuesOf(Case of, string to, Dictionary<string, string> values) =>
        new(values)
        {
            ["to"] = to,
            ["person"] = of.Person.Display,
            ["title"] = of.Person.Title,
            ["department"] = of.Person.Department,
            ["site"] = of.Edition.Rulebook.Sites.GetValueOrDefault(of.Person.Site)?.Title ?? of.Person.Site,
            ["start"] = of.Person.StartDay,
            ["end"] = of.Person.EndDay ?? "",
            ["kind"] = of.Row.Kind,
            ["number"] = of.Row.Number.ToString(CultureInfo.InvariantCulture),
            ["link"] = $"{options.PublicAddress}/requests/{of.Row.Id}",
        };
}
