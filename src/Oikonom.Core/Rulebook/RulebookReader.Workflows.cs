using Oikonom.Core.Expressions;
using Oikonom.Core.Time;

namespace Oikonom.Core.Rulebook;

/// <content>Workflows and who decides.</content>
public static partial class RulebookReader
{
    private sealed partial class Documents
    {
        private static readonly string[] Kinds =
        [
            "joiner",
            "mover",
            "leaver",
            "correction",
            "access",
            "extension",
            "change",
            "password",
            "unlock",
            "account",
            "closing",
            "end",
        ];
        private static readonly string[] Feeds = ["joiner", "mover", "leaver"];
        private static readonly string[] Roles = ["requester", "approver", "operator", "engineer", "auditor"];
        private static readonly string[] Relations =
        [
            "manager",
            "manager-of-manager",
            "department-head",
            "owner",
            "target-owner",
            "site-lead",
        ];
        private static readonly string[] Skips =
        [
            "requester-is-manager",
            "requester-is-above-approver",
            "requester-is-owner",
            "nothing-privileged",
        ];

        private Workflow? ReadWorkflow(YamlMap map, IReadOnlyDictionary<string, SourceRule> sources)
        {
            var name = Name(map);
            var title = map.TextOr("title", name ?? "");
            var kinds = map.Texts("for");
            foreach (var kind in kinds.Where(k => !Kinds.Contains(k.Text)))
                map.Report(
                    kind.Place,
                    $"'{kind.Text}' is no kind of request; known are {string.Join(", ", Kinds)}.{Nearest.Hint(kind.Text, Kinds)}"
                );
            var from = map.Texts("from", required: false);
            // A desk whose tasks give values says things of people, as a source does.
            var known = sources.Keys.Concat(_targets.Values.Where(t => t.FeedsPeople).Select(t => t.Name)).Append(Workflow.ByHand).ToList();
            foreach (var source in from.Where(f => !known.Contains(f.Text)))
                map.Report(
                    source.Place,
                    $"'{source.Text}' is no source; use '{Workflow.ByHand}' for what people raise "
                        + $"themselves.{Nearest.Hint(source.Text, known)}"
                );
            var when = Condition(map);
            var priority = map.Number("priority", 0, -1000, 1000);
            var stages = new List<Stage>();
            foreach (var entry in map.Maps("stages", required: false))
                if (ReadStage(entry) is { } stage)
                {
                    if (stages.Exists(s => s.Name == stage.Name))
                        entry.Report(entry.Place, $"The stage '{stage.Name}' stands here twice.");
                    stages.Add(stage);
                }
            var release = map.Text("release", required: false);
            Approver? releaser = null;
            if (release is { } r && r.Text is not ("operator" or "automatic"))
            {
                if (Parse(map, r) is { Relation: "group" or "role" } by)
                    releaser = by;
                else
                    map.Report(r.Place, $"'{r.Text}' is no way to release; use operator, automatic, role:NAME or group:NAME.");
            }
            var fourEyes = map.YesNo("four-eyes", false);
            map.Done();
            return name is null
                ? null
                : new(name, title, [.. kinds.Select(k => k.Text)], stages, release?.Text != "automatic", map.Place)
                {
                    Sources = [.. from.Select(f => f.Text)],
                    When = when,
                    Priority = priority,
                    ReleasedBy = releaser ?? new("role", "operator", null),
                    FourEyes = fourEyes,
                };
        }

        private Stage? ReadStage(YamlMap entry)
        {
            var stageName = entry.Text("name");
            var stageTitle = entry.TextOr("title", stageName?.Text ?? "");
            var when = Condition(entry);
            var decides = Approvers(entry, "decides", required: true);
            var otherwise = Approvers(entry, "otherwise", required: false);
            if (decides.Count > 0 && otherwise.Count == 0 && !decides.Any(d => d.Relation == "role"))
                entry.Report(entry.Place, "This can find nobody; add 'otherwise: role:NAME' so that the stage is never a dead end.");
            var quorum = 1;
            if (entry.Text("quorum", required: false) is { } count && count.Text != "one")
            {
                if (count.Text == "all")
                    quorum = Stage.All;
                else if (!int.TryParse(count.Text, out quorum) || quorum is < 1 or > 20)
                    entry.Report(count.Place, $"'{count.Text}' is no quorum; use one, all, or a number from 1 to 20.");
            }
            var perItem = entry.Choice("per", "request", "request", "item") == "item";
            var inPart = entry.YesNo("in-part", perItem);
            var skips = new List<SkipRule>();
            foreach (var skip in entry.Texts("skip-when", required: false))
            {
                var index = Array.IndexOf(Skips, skip.Text);
                if (index < 0)
                    entry.Report(
                        skip.Place,
                        $"'{skip.Text}' is no reason to skip; known are {string.Join(", ", Skips)}.{Nearest.Hint(skip.Text, Skips)}"
                    );
                else
                    skips.Add((SkipRule)index);
            }
            var deadline = Duration(entry, "deadline");
            var remind = Duration(entry, "remind");
            var escalates = Approvers(entry, "escalate", required: false);
            if (escalates.Count > 0 && deadline is null)
                entry.Report(entry.Place, "Escalation needs a 'deadline'.");
            var silence = entry.Choice("on-silence", "wait", "wait", "decline", "approve");
            if (silence != "wait" && deadline is null)
                entry.Report(entry.Place, "'on-silence' needs a 'deadline'.");
            var mayChange = entry.Texts("may-change", required: false);
            foreach (var field in mayChange.Where(f => f.Text is not ("until" or "templates")))
                Declared(field);
            entry.Done();
            return stageName is null || decides.Count == 0
                ? null
                : new(stageName.Value.Text, stageTitle, decides, otherwise.Count > 0 ? otherwise : decides, entry.Place)
                {
                    When = when,
                    Quorum = quorum,
                    PerItem = perItem,
                    InPart = inPart,
                    Skips = skips,
                    Deadline = deadline,
                    Remind = remind,
                    Escalates = escalates,
                    OnSilence = silence switch
                    {
                        "decline" => SilenceRule.Decline,
                        "approve" => SilenceRule.Approve,
                        _ => SilenceRule.Wait,
                    },
                    MayChange = [.. mayChange.Select(f => f.Text)],
                };
        }

        private Expression? Condition(YamlMap map) =>
            map.Text("when", required: false) is { } condition
                ? map.Expression(condition, _requestNames, ExpressionType.Bool, "'when'")
                : null;

        private static TimeSpan? Duration(YamlMap map, string key)
        {
            if (map.Text(key, required: false) is not { } text)
                return null;
            if (Iso8601.TryParseDuration(text.Text, out var duration) && duration > TimeSpan.Zero)
                return duration;
            map.Report(text.Place, $"'{text.Text}' is no ISO 8601 duration such as PT8H.");
            return null;
        }

        /// <summary>One approver, or several of whom any may decide.</summary>
        private List<Approver> Approvers(YamlMap map, string key, bool required)
        {
            var found = new List<Approver>();
            if (!map.Has(key))
            {
                if (required)
                    map.Report(map.Place, $"'{key}' is missing.");
                return found;
            }
            foreach (var (text, entry) in map.TextsOrMaps(key))
            {
                if (text is { } plain && Parse(map, plain) is { } approver)
                    found.Add(approver);
                else if (entry is not null)
                {
                    var expression = entry.Text("expression") is { } source
                        ? entry.Expression(source, _requestNames, ExpressionType.String, "The expression")
                        : null;
                    entry.Done();
                    if (expression is not null)
                        found.Add(new("expression", "", expression));
                }
            }
            return found;
        }

        private Approver? Parse(YamlMap map, Located text)
        {
            if (Relations.Contains(text.Text))
                return new(text.Text, "", null);
            var colon = text.Text.IndexOf(':', StringComparison.Ordinal);
            var (relation, argument) = colon > 0 ? (text.Text[..colon], text.Text[(colon + 1)..].Trim()) : ("", "");
            switch (relation)
            {
                case "person" when argument.Length > 0:
                    return new(relation, argument, null);
                case "role":
                    if (Roles.Contains(argument))
                        return new(relation, argument, null);
                    map.Report(
                        text.Place,
                        $"'{argument}' is no role; known are {string.Join(", ", Roles)}.{Nearest.Hint(argument, Roles)}"
                    );
                    return null;
                case "group":
                    if (_groups.ContainsKey(argument))
                        return new(relation, argument, null);
                    map.Report(text.Place, $"There is no group '{argument}' in rulebook.yaml.{Nearest.Hint(argument, _groups.Keys)}");
                    return null;
                default:
                    map.Report(
                        text.Place,
                        $"'{text.Text}' names no approver; use {string.Join(", ", Relations)}, group:NAME, role:NAME, "
                            + $"person:NUMBER or an expression.{Nearest.Hint(text.Text, Relations)}"
                    );
                    return null;
            }
        }

        private void CheckWorkflows(IReadOnlyCollection<Workflow> workflows)
        {
            foreach (var kind in Feeds)
            {
                var serving = workflows.Where(w => w.For.Contains(kind)).ToList();
                if (serving.Count == 0 && findings.Count == 0)
                    findings.Add(new(root.Place, $"No workflow is for {kind} requests."));
                else if (serving.Count > 0 && !serving.Any(w => w.When is null && w.Sources.Count == 0) && findings.Count == 0)
                    findings.Add(
                        new(serving[0].Place, $"Every workflow for {kind} requests has a condition; one must take what the others leave.")
                    );
            }
            foreach (var kind in Kinds)
            {
                var always = workflows
                    .Where(w => w.For.Contains(kind) && w.When is null && w.Sources.Count == 0)
                    .GroupBy(w => w.Priority)
                    .FirstOrDefault(g => g.Count() > 1)
                    ?.ToList();
                if (always is not null)
                    findings.Add(
                        new(
                            always[1].Place,
                            $"Two workflows are for {kind} requests: '{always[0].Name}' and '{always[1].Name}'. Give one a "
                                + "condition or a higher priority."
                        )
                    );
            }
        }
    }
}
