using System.CommandLine;
using Oikonom.Contracts;

namespace Oikonom.Cli;

/// <summary>Accounts that were changed outside: looking now, and letting one stay as it is.</summary>
internal static class LookCommands
{
    public static IEnumerable<Command> All() => [Look(), Leave()];

    private static Argument<string> Person() => new("person") { Description = "employee number or id" };

    private static Command Look()
    {
        var id = Person();
        return Commands.Make(
            "look",
            "Reads a person's accounts in their targets now, and tells which are not as they were left.",
            "oikonom people look E1002",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (findings, raw) = await service.PostAsync<IReadOnlyList<FindingView>>(
                    $"/api/v1/people/{Uri.EscapeDataString(parsed.GetValue(id)!)}/look",
                    null,
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Tell(findings);
                if (findings.Count == 0)
                    Show.Line("All accounts are as they were left.");
                return Exit.Good;
            },
            id
        );
    }

    private static Command Leave()
    {
        var id = Person();
        var account = new Argument<string>("account") { Description = "the target, or target:slot" };
        var reason = new Option<string>("--reason") { Description = "why it may stay so", Required = true };
        return Commands.Make(
            "leave",
            "Lets an account that was changed outside stay as it is; what would set it right is taken back.",
            "oikonom people leave E1002 directory --reason \"agreed with the owner\"",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (findings, raw) = await service.PostAsync<IReadOnlyList<FindingView>>(
                    $"/api/v1/people/{Uri.EscapeDataString(parsed.GetValue(id)!)}/findings/leave",
                    new LeaveBody(parsed.GetValue(account)!, parsed.GetValue(reason)!),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Tell(findings);
                return Exit.Good;
            },
            id,
            account,
            reason
        );
    }

    /// <summary>What is not as it was left, since when, and what becomes of it.</summary>
    public static void Tell(IReadOnlyList<FindingView> findings)
    {
        foreach (var finding in findings)
        {
            Show.Line($"{finding.Account} in {Of(finding)} was changed outside, seen since {Show.At(finding.Since)}:");
            foreach (var difference in finding.Differences)
            {
                var values = difference.Name.Length == 0 ? "" : $": {Values(difference.Left)} → {Values(difference.Found)}";
                Show.Line($"    {difference.Text}{values}");
            }
            Show.Line(
                finding switch
                {
                    { LeftBy: { } by } => $"    It stays so: {by}, {finding.Remark}",
                    { RequestId: not null } => "    A request sets it right; see below, or 'oikonom inbox'.",
                    _ => "    No request sets it right.",
                }
            );
        }
    }

    private static string Values(IReadOnlyList<string> values) => values.Count == 0 ? "nothing" : string.Join(", ", values);

    private static string Of(FindingView finding) => finding.Slot.Length > 0 ? $"{finding.Target}:{finding.Slot}" : finding.Target;
}
