using System.Text.RegularExpressions;

namespace Oikonom.Core.Rulebook;

/// <summary>What notices are about, their built-in texts, and the names a text may use in double braces.</summary>
public static partial class NoticeEvents
{
    /// <summary>To an approver: a request waits for their decision.</summary>
    public const string Decide = "decide";

    /// <summary>To who releases: an approved request waits for them.</summary>
    public const string Release = "release";

    /// <summary>To an approver: the decision is due soon.</summary>
    public const string Reminder = "reminder";

    /// <summary>To the requester and who is asked next: nobody decided in time.</summary>
    public const string Late = "late";

    /// <summary>To the requester: an approver asks before deciding.</summary>
    public const string Asked = "asked";

    /// <summary>To the approver who asked: the answer.</summary>
    public const string Answered = "answered";

    /// <summary>To the requester: it was declined, with the reason.</summary>
    public const string Declined = "declined";

    /// <summary>To the requester: it is approved and waits for release.</summary>
    public const string Approved = "approved";

    /// <summary>To the requester: it is complete, or done in part.</summary>
    public const string Completed = "completed";

    /// <summary>To the requester: nothing of it was wanted any more.</summary>
    public const string Lapsed = "lapsed";

    /// <summary>To the requester: somebody else took it back.</summary>
    public const string Withdrawn = "withdrawn";

    /// <summary>To the person: who answers for it took access from them, and why.</summary>
    public const string Taken = "taken";

    /// <summary>To operators: it cannot go on by itself.</summary>
    public const string Stuck = "stuck";

    /// <summary>To who does the work by hand.</summary>
    public const string Task = "task";

    /// <summary>To the requester: other approvers were found.</summary>
    public const string Replaced = "replaced";

    /// <summary>To an approver: the plan they approved became another.</summary>
    public const string Changed = "changed";

    /// <summary>To the new person, or their manager: the account is prepared.</summary>
    public const string Welcome = "welcome";

    /// <summary>To the manager: a written end came and nobody had decided.</summary>
    public const string Ended = "ended";

    /// <summary>To the manager: the new person is ready.</summary>
    public const string FirstDay = "first-day";

    /// <summary>Names a text may use.</summary>
    public static readonly IReadOnlyList<string> Names =
    [
        "to",
        "person",
        "title",
        "department",
        "site",
        "start",
        "end",
        "kind",
        "number",
        "stage",
        "as",
        "by",
        "text",
        "link",
        "effect",
        "manager",
        "due",
    ];

    /// <summary>Event → subject and text.</summary>
    public static readonly IReadOnlyDictionary<string, (string Subject, string Body)> All = new Dictionary<string, (string, string)>(
        StringComparer.Ordinal
    )
    {
        [Decide] = (
            "Please decide: {{kind}} {{person}} (request {{number}})",
            "Dear {{to}},\n\nthe {{kind}} request {{number}} for {{person}} ({{title}}, {{department}}) waits for your "
                + "decision as {{as}}.\n\n{{effect}}\n\nSee the whole effect and decide:\n{{link}}\n\nThe link alone decides "
                + "nothing; you sign in first.\n"
        ),
        [Release] = (
            "Please release: {{kind}} {{person}} (request {{number}})",
            "Dear {{to}},\n\nthe {{kind}} request {{number}} for {{person}} ({{title}}, {{department}}) is approved and waits for "
                + "release.{{text}}\n\n{{effect}}\n\n{{link}}\n"
        ),
        [Reminder] = (
            "Reminder: {{kind}} {{person}} still waits for you (request {{number}})",
            "Dear {{to}},\n\nthe {{kind}} request {{number}} for {{person}} still waits for your decision as {{as}}. It is due "
                + "{{due}}.\n\n{{link}}\n"
        ),
        [Late] = (
            "Late: {{kind}} {{person}} (request {{number}})",
            "Dear {{to}},\n\nnobody decided on the {{kind}} request {{number}} for {{person}} in time. {{text}}\n\n{{link}}\n"
        ),
        [Asked] = (
            "A question on request {{number}}, {{kind}} {{person}}",
            "Dear {{to}},\n\n{{by}} asks before deciding on your {{kind}} request {{number}} for "
                + "{{person}}:\n\n{{text}}\n\nAnswer here; until then the request rests:\n{{link}}\n"
        ),
        [Answered] = (
            "An answer on request {{number}}, {{kind}} {{person}}",
            "Dear {{to}},\n\n{{by}} answered your question on the {{kind}} request {{number}} for {{person}}:\n\n{{text}}\n\n{{link}}\n"
        ),
        [Declined] = (
            "Request {{number}}, {{kind}} {{person}}: was declined",
            "Dear {{to}},\n\nyour {{kind}} request {{number}} for {{person}} was declined by {{by}}: {{text}}\n\n{{link}}\n"
        ),
        [Approved] = (
            "Request {{number}}, {{kind}} {{person}}: was approved",
            "Dear {{to}},\n\nyour {{kind}} request {{number}} for {{person}} was approved and waits for release.\n\n{{link}}\n"
        ),
        [Completed] = (
            "Request {{number}}, {{kind}} {{person}}: complete",
            "Dear {{to}},\n\nyour {{kind}} request {{number}} for {{person}} is complete: {{text}}.\n\n{{link}}\n"
        ),
        [Lapsed] = (
            "Request {{number}}, {{kind}} {{person}}: no longer wanted",
            "Dear {{to}},\n\nnothing of your {{kind}} request {{number}} for {{person}} was wanted any more when it was to be "
                + "carried out; nothing was done.\n\n{{link}}\n"
        ),
        [Withdrawn] = (
            "Request {{number}}, {{kind}} {{person}}: was taken back",
            "Dear {{to}},\n\nyour {{kind}} request {{number}} for {{person}} was taken back by {{by}}{{text}}.\n\n{{effect}}\n\n{{link}}\n"
        ),
        [Taken] = (
            "Access of yours was taken away (request {{number}})",
            "Dear {{to}},\n\n{{by}} took access from you: {{text}}\n\n{{effect}}\n\nIf you still need it, talk to {{by}}, or ask for "
                + "it anew.\n"
        ),
        [Stuck] = (
            "Stuck: request {{number}}, {{kind}} {{person}}",
            "Dear {{to}},\n\nthe {{kind}} request {{number}} for {{person}} cannot go on: {{text}}\n\n{{link}}\n"
        ),
        [Task] = (
            "Work to do: {{text}} (request {{number}})",
            "Dear {{to}},\n\nthe {{kind}} request {{number}} for {{person}} needs work by hand: {{text}}. It is due {{due}}.\n\n{{link}}\n"
        ),
        [Replaced] = (
            "Another approver decides on request {{number}}, {{kind}} {{person}}",
            "Dear {{to}},\n\nwho was to decide on the {{kind}} request {{number}} for {{person}} cannot do it any more. "
                + "{{text}}\n\n{{link}}\n"
        ),
        [Changed] = (
            "The plan changed: {{kind}} {{person}} (request {{number}})",
            "Dear {{to}},\n\nthe plan of the {{kind}} request {{number}} for {{person}} changed after you approved it: "
                + "{{text}}. Please look at what is new.\n\n{{link}}\n"
        ),
        [Ended] = (
            "Access of {{person}} has ended (request {{number}})",
            "Dear {{to}},\n\n{{text}}, and nobody had decided about it in time. What was written ran by "
                + "itself:\n\n{{effect}}\n\nIf the person stays, correct the record or ask for it anew:\n{{link}}\n"
        ),
        [Welcome] = (
            "Welcome, {{person}}",
            "Dear {{person}},\n\nyour first day is {{start}}, at {{site}}. Your account is ready and wakes on that day; "
                + "{{manager}} hands you its first password.\n\nWe look forward to working with you.\n"
        ),
        [FirstDay] = (
            "First day of {{person}}",
            "Dear {{to}},\n\n{{person}} ({{title}}, {{department}}) starts on {{start}} at {{site}}. {{text}}\n\n{{link}}\n"
        ),
    };

    /// <summary>The names between double braces.</summary>
    public static IEnumerable<string> NamesIn(string text) => Braces().Matches(text).Select(m => m.Groups[1].Value);

    /// <summary>Fills in the names; one that has no value becomes empty.</summary>
    public static string Fill(string text, IReadOnlyDictionary<string, string> values) =>
        Braces().Replace(text, m => values.GetValueOrDefault(m.Groups[1].Value, ""));

    [GeneratedRegex("\\{\\{\\s*([a-z-]+)\\s*\\}\\}")]
    private static partial Regex Braces();
}
