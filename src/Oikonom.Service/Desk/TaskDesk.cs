using System.Security.Claims;
using System.Security.Cryptography;
using System.Text.Json;
using System.Text.RegularExpressions;
using Oikonom.Contracts;
using Oikonom.Core.Expressions;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Intake;
using Oikonom.Core.Ledger;
using Oikonom.Core.People;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Desk;

/// <summary>Work by hand: taken, handed over, done with what it asks for, or found impossible.</summary>
public sealed class TaskDesk(Store.Store store, EditionBook editions, TimeProvider time)
{
    public const int MaxEvidence = 10 * 1024 * 1024;
    private const int MaxFiles = 20;

    public Task<IReadOnlyList<TaskView>> ListAsync(ClaimsPrincipal user, bool all, int limit, CancellationToken cancel) =>
        store.ReadAsync<IReadOnlyList<TaskView>>(
            async s =>
            {
                var now = time.GetUtcNow();
                var rows = await s.TasksPageAsync(user.RoleNames(), all, limit);
                return [.. rows.Where(r => Reaches(user, r)).Select(r => View(r, [], now))];
            },
            cancel
        );

    public Task<TaskView> GetAsync(string id, ClaimsPrincipal user, CancellationToken cancel) =>
        store.ReadAsync(
            async s =>
            {
                var row = await RequireAsync(s, id, user, forUpdate: false);
                return View(row, await s.EvidenceOfAsync(id), time.GetUtcNow());
            },
            cancel
        );

    /// <summary>Takes a task, or gives it to somebody else who may do it.</summary>
    public Task TakeAsync(string id, ClaimsPrincipal user, string? to, CancellationToken cancel) =>
        ChangeAsync(
            id,
            user,
            "task.taken",
            async (s, row) =>
            {
                var name = to ?? user.UserName();
                if (row.ReportedBy == name)
                    throw Problem.Conflict("own-work", $"{name} did it; somebody else looks whether it is done.");
                if (to is not null && (await s.UserAsync(to) is not { Active: 1 } other || !other.Roles.Split(' ').Contains(row.Role)))
                    throw Problem.Invalid($"'{to}' cannot do it: they do not sign in with the role {row.Role}.", "to");
                // What somebody took is theirs: they hand it over, or the owner of the desk or an engineer does.
                if (to is not null && row.TakenBy.Length > 0 && row.TakenBy != user.UserName() && !await LeadsAsync(s, row, user))
                    throw new Problem(
                        403,
                        "not-yours",
                        "Not allowed",
                        $"{row.TakenBy} works on it. They hand it over, or the owner of the desk or an engineer does."
                    );
                if (to is null && row.TakenBy.Length > 0 && row.TakenBy != name)
                    throw Problem.Conflict("taken", $"{row.TakenBy} works on it. Let them hand it over.");
                row.TakenBy = name;
                return [("to", name)];
            },
            cancel
        );

    private async Task<bool> LeadsAsync(Session s, TaskRow row, ClaimsPrincipal user) =>
        user.RoleNames().Contains(Roles.Engineer)
        || (
            user.Number() is { Length: > 0 } number
            && (await editions.CurrentAsync(CancellationToken.None)).Rulebook.Targets.GetValueOrDefault(row.Target)?.Owner == number
        );

    public Task DoneAsync(string id, ClaimsPrincipal user, TaskDoneBody body, CancellationToken cancel) =>
        ChangeAsync(
            id,
            user,
            "task.done",
            async (s, row) =>
            {
                var fields = Fields(row);
                var attributes = (await editions.CurrentAsync(cancel)).Rulebook.Attributes;
                var answers = new SortedDictionary<string, string>(StringComparer.Ordinal);
                foreach (var name in body.Fields?.Keys.Where(k => !fields.Any(f => f.Name == k)) ?? [])
                    throw Problem.Invalid($"The task has no field '{name}'.", name);
                foreach (var field in fields)
                {
                    var value = body.Fields?.GetValueOrDefault(field.Name)?.Trim() ?? "";
                    if (value.Length == 0 && field.IsMandatory)
                        throw Problem.Invalid($"Fill in '{field.Title}'.", field.Name);
                    if (value.Length > 1000)
                        throw Problem.Invalid($"'{field.Title}' has 1000 characters at most.", field.Name);
                    if (
                        value.Length > 0
                        && field.Pattern.Length > 0
                        && !Regex.IsMatch(value, $"^(?:{field.Pattern})$", RegexOptions.NonBacktracking)
                    )
                        throw Problem.Invalid($"'{field.Title}' must have the form {field.Pattern}.", field.Name);
                    if (field.Feeds.Length > 0 && Refuse(field, value, attributes) is { } wrong)
                        throw Problem.Invalid($"'{field.Title}': {wrong}", field.Name);
                    if (value.Length > 0)
                        answers[field.Name] = value;
                }
                if (Checks(row).FirstOrDefault(c => body.Checked?.Contains(c) != true) is { } open)
                    throw Problem.Invalid($"Check it off first: {open}", "checked");
                var evidence = await s.EvidenceOfAsync(id);
                if (row.NeedsEvidence == 1 && evidence.Count == 0 && string.IsNullOrWhiteSpace(body.Remark))
                    throw Problem.Invalid("Add evidence: a file, or what you did in the remark.", "evidence");
                RequireNotReported(row);
                (row.Answers, row.Remark) = (JsonSerializer.Serialize(answers), body.Remark?.Trim() ?? "");
                if (row.NeedsSecond == 1)
                    (row.ReportedBy, row.ReportedAt, row.TakenBy) = (user.UserName(), time.Milliseconds(), "");
                else
                    await FinishAsync(s, row, user.UserName());
                return
                [
                    ("fields", answers),
                    ("remark", row.Remark.Length > 0 ? row.Remark : null),
                    ("evidence", evidence.Count > 0 ? evidence.Select(e => new { e.Name, e.Hash }).ToList() : null),
                ];
            },
            cancel
        );

    /// <summary>Why the attribute that a field feeds cannot be this; null when it can.</summary>
    private static string? Refuse(TaskField field, string value, NameSchema attributes)
    {
        if (RecordReader.Refuse(value) is { } refused)
            return refused;
        return attributes.TryGet(field.Feeds, out _) && new Facts([]).WithText(field.Feeds, value, attributes, out var problem) is null
            ? problem
            : null;
    }

    private async Task FinishAsync(Session s, TaskRow row, string by)
    {
        row.Move(TaskEvent.Finish);
        (row.DoneAt, row.DoneBy) = (time.Milliseconds(), by);
        await s.WakeStepAsync(row.StepId, time.Milliseconds());
    }

    private static void RequireNotReported(TaskRow row)
    {
        if (row.ReportedBy.Length > 0)
            throw Problem.Conflict("reported", $"{row.ReportedBy} says that it is done; somebody else confirms it, or gives it back.");
    }

    /// <summary>Somebody else than who did it has looked, and it is done.</summary>
    public Task ConfirmAsync(string id, ClaimsPrincipal user, CancellationToken cancel) =>
        ChangeAsync(
            id,
            user,
            "task.confirmed",
            async (s, row) =>
            {
                RequireSecond(row, user);
                row.ConfirmedBy = user.UserName();
                await FinishAsync(s, row, row.ReportedBy);
                return [("by", row.ReportedBy)];
            },
            cancel
        );

    /// <summary>Somebody else has looked, and it is not done: it goes back to who said that it is.</summary>
    public Task GiveBackAsync(string id, ClaimsPrincipal user, string? reason, CancellationToken cancel)
    {
        if (string.IsNullOrWhiteSpace(reason))
            throw Problem.Invalid("Say what is not done.", "reason");
        return ChangeAsync(
            id,
            user,
            "task.given-back",
            (_, row) =>
            {
                RequireSecond(row, user);
                (row.TakenBy, row.ReportedBy, row.ReportedAt, row.Remark) = (row.ReportedBy, "", null, reason.Trim());
                return Task.FromResult<IReadOnlyList<(string, object?)>>([("to", row.TakenBy), ("reason", row.Remark)]);
            },
            cancel
        );
    }

    private static void RequireSecond(TaskRow row, ClaimsPrincipal user)
    {
        if (row.ReportedBy.Length == 0)
            throw Problem.Conflict("not-reported", "Nobody has said yet that it is done.");
        if (row.ReportedBy == user.UserName())
            throw new Problem(403, "own-work", "Not allowed", "You did it yourself; somebody else looks whether it is done.");
    }

    public Task ImpossibleAsync(string id, ClaimsPrincipal user, string? reason, CancellationToken cancel)
    {
        if (string.IsNullOrWhiteSpace(reason))
            throw Problem.Invalid("Say why it cannot be done.", "reason");
        return ChangeAsync(
            id,
            user,
            "task.impossible",
            async (s, row) =>
            {
                RequireNotReported(row);
                row.Move(TaskEvent.GiveUp);
                (row.DoneAt, row.DoneBy, row.Remark) = (time.Milliseconds(), user.UserName(), reason.Trim());
                await s.WakeStepAsync(row.StepId, time.Milliseconds());
                return [("reason", row.Remark)];
            },
            cancel
        );
    }

    /// <summary>Opens a task again that was found impossible.</summary>
    public Task ReopenAsync(string id, ClaimsPrincipal user, CancellationToken cancel) =>
        store.WriteAsync(
            async s =>
            {
                var row = await RequireAsync(s, id, user, forUpdate: true);
                var before = row.State;
                row.Move(TaskEvent.Reopen);
                (row.DoneAt, row.DoneBy, row.Remark) = (null, "", "");
                await SaveAsync(s, row);
                await EndedAsync(s, row, before);
                await s.WakeStepAsync(row.StepId, time.Milliseconds());
                s.Record(LedgerEntry.Of(time.GetUtcNow(), user.UserName(), "task.reopened", row.PersonId, row.RequestId, ("task", id)));
            },
            cancel
        );

    public Task<EvidenceView> AttachAsync(
        string id,
        string name,
        string mediaType,
        byte[] content,
        ClaimsPrincipal user,
        CancellationToken cancel
    )
    {
        if (name.Length is 0 or > 120 || name.Any(c => char.IsControl(c) || c is '/' or '\\'))
            throw Problem.Invalid("A file has a name of 120 characters at most, without slashes.", "name");
        if (content.Length == 0)
            throw Problem.Invalid("The file is empty.", "content");
        return store.WriteAsync(
            async s =>
            {
                var row = await RequireAsync(s, id, user, forUpdate: true);
                if (row.State != TaskState.Open)
                    throw Problem.Conflict("wrong-state", "The work is over; nothing is added any more.");
                RequireNotReported(row);
                if ((await s.EvidenceOfAsync(id)).Count >= MaxFiles)
                    throw Problem.Invalid($"A task takes {MaxFiles} files.", "content");
                var now = time.GetUtcNow();
                var evidence = new EvidenceRow
                {
                    Id = Guid.CreateVersion7(now).ToString(),
                    TaskId = id,
                    Name = name,
                    MediaType = mediaType.Length is > 0 and < 100 ? mediaType : "application/octet-stream",
                    Size = content.Length,
                    Hash = Convert.ToHexStringLower(SHA256.HashData(content)),
                    Content = content,
                    Actor = user.UserName(),
                    At = now.ToUnixTimeMilliseconds(),
                };
                await s.AddEvidenceAsync(evidence);
                s.Record(
                    LedgerEntry.Of(
                        now,
                        user.UserName(),
                        "task.evidence",
                        row.PersonId,
                        row.RequestId,
                        ("task", id),
                        ("name", name),
                        ("sha256", evidence.Hash),
                        ("size", evidence.Size)
                    )
                );
                s.Tell("tasks", id);
                return View(evidence);
            },
            cancel
        );
    }

    public Task<EvidenceRow> EvidenceAsync(string task, string id, ClaimsPrincipal user, CancellationToken cancel) =>
        store.ReadAsync(
            async s =>
            {
                await RequireAsync(s, task, user, forUpdate: false);
                return await s.EvidenceAsync(id) is { } row && row.TaskId == task
                    ? row
                    : throw Problem.NotFound($"file '{id}'", "See the task.");
            },
            cancel
        );

    private Task ChangeAsync(
        string id,
        ClaimsPrincipal user,
        string what,
        Func<Session, TaskRow, Task<IReadOnlyList<(string, object?)>>> change,
        CancellationToken cancel
    ) =>
        store.WriteAsync(
            async s =>
            {
                var row = await RequireAsync(s, id, user, forUpdate: true);
                if (row.State != TaskState.Open)
                    throw Problem.Conflict("wrong-state", $"The work is {row.StateText}; nothing can be done on it any more.");
                if (
                    what is "task.done" or "task.confirmed"
                    && await s.UserAsync(user.UserName()) is { } self
                    && (
                        self.PersonId == row.PersonId
                        || (self.Number.Length > 0 && (await s.PersonAsync(row.PersonId))?.Number == self.Number)
                    )
                )
                    throw new Problem(403, "own-request", "Not allowed", "This is for yourself; somebody else does it.");
                if (what != "task.taken" && row.TakenBy.Length > 0 && row.TakenBy != user.UserName())
                    throw Problem.Conflict("taken", $"{row.TakenBy} works on it. Let them hand it over.");
                var members = await change(s, row);
                await SaveAsync(s, row);
                if (row.State != TaskState.Open)
                    await EndedAsync(s, row, TaskState.Open);
                s.Record(
                    LedgerEntry.Of(
                        time.GetUtcNow(),
                        user.UserName(),
                        what,
                        row.PersonId,
                        row.RequestId,
                        [("task", id), ("title", row.Title), .. members]
                    )
                );
                s.Tell("tasks", id);
                s.Tell("requests", row.RequestId);
            },
            cancel
        );

    /// <summary>What was done for one request was done for all that ask for the same.</summary>
    private async Task EndedAsync(Session s, TaskRow row, TaskState before)
    {
        await s.NoteDeskAsync(row.RequestId);
        foreach (var request in await s.FollowTaskAsync(row, before, time.Milliseconds()))
        {
            await s.NoteDeskAsync(request);
            s.Tell("requests", request);
        }
    }

    private static async Task SaveAsync(Session s, TaskRow row)
    {
        if (!await s.SaveTaskAsync(row))
            throw Problem.Conflict("changed-meanwhile", "The task changed at the same moment. Look at it again.");
    }

    private static async Task<TaskRow> RequireAsync(Session s, string id, ClaimsPrincipal user, bool forUpdate)
    {
        var row = await s.TaskAsync(id, forUpdate);
        if (row is not { SameAs: "" } || !Reaches(user, row))
            throw Problem.NotFound($"task '{id}'", "See 'oikonom tasks list'.");
        return row;
    }

    private static bool Reaches(ClaimsPrincipal user, TaskRow row)
    {
        if (!user.RoleNames().Contains(row.Role))
            return false;
        return !user.AsParty().Reach.TryGetValue(row.Role, out var reach)
            || (reach.Covers(row.Site, row.Department) && reach.CoversTarget(row.Target));
    }

    private static List<TaskField> Fields(TaskRow row) => JsonSerializer.Deserialize<List<TaskField>>(row.Fields) ?? [];

    private static List<string> Checks(TaskRow row) => JsonSerializer.Deserialize<List<string>>(row.Checks) ?? [];

    private static EvidenceView View(EvidenceRow row) =>
        new(row.Id, row.Name, row.MediaType, row.Size, row.Hash, row.Actor, row.At.ToInstant());

    public static TaskView View(TaskRow row, IReadOnlyList<EvidenceRow> evidence, DateTimeOffset now)
    {
        var answers = JsonSerializer.Deserialize<Dictionary<string, string>>(row.Answers) ?? [];
        return new()
        {
            Id = row.Id,
            Title = row.Title,
            Instructions = row.Instructions,
            Target = row.Target,
            Entitlement = row.Entitlement,
            Kind = row.Kind,
            Person = row.Display,
            PersonId = row.PersonId,
            Site = row.Site,
            RequestId = row.RequestId,
            RequestNumber = row.Number,
            State = row.StateText,
            Role = row.Role,
            TakenBy = row.TakenBy.Length > 0 ? row.TakenBy : null,
            Due = row.DueAt.ToInstant(),
            Late = row.State == TaskState.Open && row.DueAt < now.ToUnixTimeMilliseconds(),
            CreatedAt = row.CreatedAt.ToInstant(),
            DoneAt = row.DoneAt.ToInstant(),
            DoneBy = row.DoneBy.Length > 0 ? row.DoneBy : null,
            Fields =
            [
                .. Fields(row)
                    .Select(f => new TaskFieldView(f.Name, f.Title, f.IsMandatory, f.Pattern, answers.GetValueOrDefault(f.Name))
                    {
                        Feeds = f.Feeds.Length > 0 ? f.Feeds : null,
                    }),
            ],
            Checks = Checks(row),
            NeedsEvidence = row.NeedsEvidence == 1,
            NeedsSecond = row.NeedsSecond == 1,
            ReportedBy = row.ReportedBy.Length > 0 ? row.ReportedBy : null,
            ReportedAt = row.ReportedAt.ToInstant(),
            ConfirmedBy = row.ConfirmedBy.Length > 0 ? row.ConfirmedBy : null,
            Evidence = [.. evidence.Select(View)],
            Remark = row.Remark,
        };
    }
}

public static class TaskEndpoints
{
    public static void MapTasks(this RouteGroupBuilder api)
    {
        MapReading(api);
        MapDoing(api);
        MapEnding(api);
        MapEvidence(api);
    }

    private static void MapReading(RouteGroupBuilder api)
    {
        api.MapGet(
                "/tasks",
                async (bool? all, int? limit, TaskDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    new Page<TaskView>(await desk.ListAsync(user, all == true, Paging.Limit(limit), cancel), null)
            )
            .WithName("listTasks")
            .WithSummary("Work by hand for the roles of the caller, what is due first. 'all' shows what is over too.")
            .RequireAuthorization("work")
            .Reaching(Reached.Filtered);
        api.MapGet(
                "/tasks/{id}",
                (string id, TaskDesk desk, ClaimsPrincipal user, CancellationToken cancel) => desk.GetAsync(id, user, cancel)
            )
            .WithName("getTask")
            .WithSummary("One task with what it asks for and its evidence.")
            .RequireAuthorization("work")
            .Reaching(Reached.Filtered);
    }

    private static void MapDoing(RouteGroupBuilder api)
    {
        api.MapPost(
                "/tasks/{id}/take",
                async (string id, TaskDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await desk.TakeAsync(id, user, null, cancel);
                    return await desk.GetAsync(id, user, cancel);
                }
            )
            .WithName("takeTask")
            .WithSummary("Takes the task.")
            .RequireAuthorization("work")
            .Reaching(Reached.Filtered);
        api.MapPost(
                "/tasks/{id}/hand-over",
                async (string id, HandOverBody body, TaskDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await desk.TakeAsync(id, user, body.To ?? "", cancel);
                    return await desk.GetAsync(id, user, cancel);
                }
            )
            .WithName("handOverTask")
            .WithSummary("Gives the task to somebody else who may do it.")
            .RequireAuthorization("work")
            .Reaching(Reached.Filtered);
    }

    private static void MapEnding(RouteGroupBuilder api)
    {
        api.MapPost(
                "/tasks/{id}/done",
                async (string id, TaskDoneBody body, TaskDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await desk.DoneAsync(id, user, body, cancel);
                    return await desk.GetAsync(id, user, cancel);
                }
            )
            .WithName("finishTask")
            .WithSummary("Says that the work is done, with its fields, checks and remark.")
            .RequireAuthorization("work")
            .Reaching(Reached.Filtered);
        api.MapPost(
                "/tasks/{id}/confirm",
                async (string id, TaskDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await desk.ConfirmAsync(id, user, cancel);
                    return await desk.GetAsync(id, user, cancel);
                }
            )
            .WithName("confirmTask")
            .WithSummary("Confirms that work is done which somebody else did, where the rulebook wants a second person.")
            .RequireAuthorization("work")
            .Reaching(Reached.Filtered);
        api.MapPost(
                "/tasks/{id}/give-back",
                async (string id, ReasonBody body, TaskDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await desk.GiveBackAsync(id, user, body.Reason, cancel);
                    return await desk.GetAsync(id, user, cancel);
                }
            )
            .WithName("giveBackTask")
            .WithSummary("Says what is not done of work that somebody else did; it is theirs again.")
            .RequireAuthorization("work")
            .Reaching(Reached.Filtered);
        api.MapPost(
                "/tasks/{id}/impossible",
                async (string id, ReasonBody body, TaskDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await desk.ImpossibleAsync(id, user, body.Reason, cancel);
                    return await desk.GetAsync(id, user, cancel);
                }
            )
            .WithName("refuseTask")
            .WithSummary("Says that the work cannot be done, and why; its request stops and tells it.")
            .RequireAuthorization("work")
            .Reaching(Reached.Filtered);
        api.MapPost(
                "/tasks/{id}/reopen",
                async (string id, TaskDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await desk.ReopenAsync(id, user, cancel);
                    return await desk.GetAsync(id, user, cancel);
                }
            )
            .WithName("reopenTask")
            .WithSummary("Opens work again that was found impossible.")
            .RequireAuthorization("work")
            .Reaching(Reached.Filtered);
    }

    private static void MapEvidence(RouteGroupBuilder api)
    {
        api.MapPost(
                "/tasks/{id}/evidence",
                async (string id, string name, HttpContext context, TaskDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    if (context.Request.ContentLength > TaskDesk.MaxEvidence)
                        throw new Problem(413, "too-large", "Too large", "A file has 10 MB at most.");
                    using var content = new MemoryStream();
                    var buffer = new byte[81920];
                    for (int read; (read = await context.Request.Body.ReadAsync(buffer, cancel)) > 0; )
                    {
                        if (content.Length + read > TaskDesk.MaxEvidence)
                            throw new Problem(413, "too-large", "Too large", "A file has 10 MB at most.");
                        content.Write(buffer, 0, read);
                    }
                    return await desk.AttachAsync(id, name, context.Request.ContentType ?? "", content.ToArray(), user, cancel);
                }
            )
            .WithName("attachEvidence")
            .WithSummary("Adds a file of 10 MB at most, sent as the body.")
            .RequireAuthorization("work")
            .Reaching(Reached.Filtered);
        api.MapGet(
                "/tasks/{id}/evidence/{file}",
                async (string id, string file, TaskDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    var row = await desk.EvidenceAsync(id, file, user, cancel);
                    // Whatever it is, a browser saves it and never runs it.
                    return Results.File(row.Content, "application/octet-stream", row.Name);
                }
            )
            .WithName("getEvidence")
            .WithSummary("The content of a file.")
            .RequireAuthorization("work")
            .Reaching(Reached.Filtered);
    }
}
