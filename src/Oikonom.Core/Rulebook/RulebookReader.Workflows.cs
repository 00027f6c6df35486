using Oikonom.Core.Expressions;

namespace Oikonom.Core.Rulebook;

public static partial class RulebookReader
{
    private sealed partial class Documents
    {
        private static readonly string[] Kinds = ["joiner", "mover", "leaver", "correction"];
        private static readonly string[] Roles = ["requester", "approver", "operator", "engineer", "auditor"];

        private Workflow? ReadWorkflow(YamlMap map)
        {
            var name = Name(map);
            var title = map.TextOr("title", name ?? "");
            var kinds = map.Texts("for");
            foreach (var kind in kinds.Where(k => !Kinds.Contains(k.Text))) map.Report(kind.Place, $"'{kind.Text}' is no kind of request; known are {string.Join(", ", Kinds)}.{Nearest.Hint(kind.Text, Kinds)}");
            var stages = new List<Stage>();
            foreach (var entry in map.Maps("stages"))
            {
                var stageName = entry.Text("name");
                var decides = entry.Text("decides");
                var otherwise = entry.Text("otherwise", required: false);
                var stageTitle = entry.TextOr("title", stageName?.Text ?? "");
                entry.Done();
                if (stageName is null || decides is null) continue;
                CheckApprover(entry, decides.Value, allowManager: true);
                if (otherwise is { } fallback) CheckApprover(entry, fallback, allowManager: false);
                else if (!decides.Value.Text.StartsWith("role:", StringComparison.Ordinal)) entry.Report(decides.Value.Place, "This can find nobody; add 'otherwise: role:NAME' so that the stage is never a dead end.");
                stages.Add(new(stageName.Value.Text, stageTitle, decides.Value.Text, otherwise?.Text ?? decides.Value.Text, entry.Place));
            }
            var release = map.Text("release", required: false);
            if (release is { } r && r.Text is not ("operator" or "automatic")) map.Report(r.Place, $"'{r.Text}' is no way to release; use operator or automatic.");
            map.Done();
            return name is null ? null : new(name, title, [.. kinds.Select(k => k.Text)], stages, release?.Text != "automatic", map.Place);
        }

        private static void CheckApprover(YamlMap map, Located text, bool allowManager)
        {
            if (allowManager && text.Text == "manager") return;
            if (text.Text.StartsWith("person:", StringComparison.Ordinal) && text.Text.Length > 7) return;
            if (text.Text.StartsWith("role:", StringComparison.Ordinal))
            {
                if (!Roles.Contains(text.Text[5..])) map.Report(text.Place, $"'{text.Text[5..]}' is no role; known are {string.Join(", ", Roles)}.{Nearest.Hint(text.Text[5..], Roles)}");
                return;
            }
            map.Report(text.Place, $"'{text.Text}' names no approver; use {(allowManager ? "manager, " : "")}role:NAME or person:NUMBER.");
        }

        private void CheckWorkflows(IReadOnlyCollection<Workflow> workflows)
        {
            foreach (var kind in Kinds)
            {
                var serving = workflows.Where(w => w.For.Contains(kind)).ToList();
                if (serving.Count == 0 && kind != "correction" && findings.Count == 0) findings.Add(new(root.Place, $"No workflow is for {kind} requests."));
                if (serving.Count > 1) findings.Add(new(serving[1].Place, $"Two workflows are for {kind} requests: '{serving[0].Name}' and '{serving[1].Name}'."));
            }
        }
    }
}
