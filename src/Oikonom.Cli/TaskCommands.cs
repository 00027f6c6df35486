using System.CommandLine;
using System.Globalization;
using Oikonom.Contracts;

namespace Oikonom.Cli;

/// <summary>Work by hand.</summary>
internal static class TaskCommands
{
    public static Command All() =>
        Commands.Group("tasks", "Work by hand.", Tasks(), Task(), Take(), HandOver(), Done(), Confirm(), GiveBack(), Impossible());

    private static string StateOf(TaskView task) =>
        task is { State: "open", ReportedBy: { } by } ? $"to confirm, done by {by}"
        : task.Late ? "late"
        : task.State;

    private static Argument<string> TaskId() => new("task") { Description = "id of the task" };

    private static Command Tasks()
    {
        var all = new Option<bool>("--all") { Description = "what is over too" };
        return Commands.Make(
            "list",
            "Lists work by hand, what is due first.",
            "oikonom tasks list",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<TaskView>>(
                    $"/api/v1/tasks?limit=200&all={(parsed.GetValue(all) ? "true" : "false")}",
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Due", "Task", "Target", "State", "With", "Id"],
                    page.Items.Select(t =>
                        (IReadOnlyList<string>)[Show.At(t.Due), t.Title, t.Target, StateOf(t), t.TakenBy ?? "nobody", t.Id]
                    ),
                    "Nothing is to be done by hand."
                );
                return Exit.Good;
            },
            all
        );
    }

    private static Command Task()
    {
        var id = TaskId();
        return Commands.Make(
            "show",
            "Shows a task with what it asks for.",
            "oikonom tasks show 01a2…",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (task, raw) = await service.GetAsync<TaskView>($"/api/v1/tasks/{Uri.EscapeDataString(parsed.GetValue(id)!)}", cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Title($"{task.Title} ({StateOf(task)}), due {Show.At(task.Due)}");
                Show.Line(task.Instructions);
                foreach (var field in task.Fields)
                    Show.Line(
                        $"  {field.Name}: {field.Title}{(field.Mandatory ? "" : " (may stay empty)")}"
                            + $"{(field.Pattern.Length > 0 ? $" of the form {field.Pattern}" : "")}"
                            + $"{(field.Value is { } value ? $" = {value}" : "")}"
                    );
                foreach (var check in task.Checks)
                    Show.Line($"  [ ] {check}");
                foreach (var file in task.Evidence)
                    Show.Line($"  {file.Name}, {file.Size} bytes, {file.Actor} {Show.At(file.At)}");
                return Exit.Good;
            },
            id
        );
    }

    private static Command Take() => OnTask("take", "Takes a task.", "oikonom tasks take 01a2…", []);

    private static Command HandOver()
    {
        var id = TaskId();
        var to = new Argument<string>("to") { Description = "user name" };
        return Commands.Make(
            "hand-over",
            "Gives a task to somebody else who may do it.",
            "oikonom tasks hand-over 01a2… otto",
            (parsed, cancel) =>
                SendAsync(parsed, $"/api/v1/tasks/{parsed.GetValue(id)}/hand-over", new HandOverBody(parsed.GetValue(to)!), cancel),
            id,
            to
        );
    }

    private static Command OnTask(string verb, string description, string example, IReadOnlyList<Symbol> more)
    {
        var id = TaskId();
        return Commands.Make(
            verb,
            description,
            example,
            (parsed, cancel) => SendAsync(parsed, $"/api/v1/tasks/{parsed.GetValue(id)}/{verb}", null, cancel),
            [id, .. more]
        );
    }

    private static Command Done()
    {
        var id = TaskId();
        var set = new Option<string[]>("--set") { Description = "a field, such as key-number=RP-0412" };
        var check = new Option<bool>("--all-checked") { Description = "all checks of the task are done" };
        var remark = new Option<string?>("--remark") { Description = "what was done, in words" };
        var file = new Option<FileInfo?>("--file") { Description = "a file that proves it, 10 MB at most" };
        return Commands.Make(
            "done",
            "Says that the work is done.",
            "oikonom tasks done 01a2… --set size=M --remark \"handed out\"",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var path = $"/api/v1/tasks/{parsed.GetValue(id)}";
                var (task, _) = await service.GetAsync<TaskView>(path, cancel);
                if (parsed.GetValue(file) is { } proof)
                    await service.UploadAsync(
                        $"{path}/evidence?name={Uri.EscapeDataString(proof.Name)}",
                        await File.ReadAllBytesAsync(proof.FullName, cancel),
                        cancel
                    );
                var fields = (parsed.GetValue(set) ?? [])
                    .Select(p => p.Split('=', 2))
                    .ToDictionary(p => p[0], p => p.Length > 1 ? p[1] : "");
                var (after, raw) = await service.PostAsync<TaskView>(
                    path + "/done",
                    new TaskDoneBody(fields, parsed.GetValue(check) ? task.Checks : null, parsed.GetValue(remark)),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line(
                    $"{after.Title}: {(after.ReportedBy is not null && after.State == "open" ? "somebody else confirms it" : after.State)}."
                );
                return Exit.Good;
            },
            id,
            set,
            check,
            remark,
            file
        );
    }

    private static Command Confirm() =>
        OnTask("confirm", "Confirms that work is done which somebody else did.", "oikonom tasks confirm 01a2…", []);

    private static Command GiveBack()
    {
        var id = TaskId();
        var reason = new Argument<string>("reason") { Description = "what is not done" };
        return Commands.Make(
            "give-back",
            "Says what is not done of work that somebody else did; it is theirs again.",
            "oikonom tasks give-back 01a2… \"the locker does not open\"",
            (parsed, cancel) =>
                SendAsync(parsed, $"/api/v1/tasks/{parsed.GetValue(id)}/give-back", new ReasonBody(parsed.GetValue(reason)), cancel),
            id,
            reason
        );
    }

    private static Command Impossible()
    {
        var id = TaskId();
        var reason = new Argument<string>("reason") { Description = "why" };
        return Commands.Make(
            "impossible",
            "Says that the work cannot be done, and why.",
            "oikonom tasks impossible 01a2… \"no suit of that size\"",
            (parsed, cancel) =>
                SendAsync(parsed, $"/api/v1/tasks/{parsed.GetValue(id)}/impossible", new ReasonBody(parsed.GetValue(reason)), cancel),
            id,
            reason
        );
    }

    private static async Task<int> SendAsync(ParseResult parsed, string path, object? body, CancellationToken cancel)
    {
        using var service = new Service();
        var (task, raw) = await service.PostAsync<TaskView>(path, body, cancel);
        if (Commands.IsJson(parsed))
            return Show.Json(raw);
        Show.Line($"{task.Title}: {StateOf(task)}, with {task.TakenBy ?? "nobody"}.");
        return Exit.Good;
    }
}
