using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Ledger;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

public static class IntakeEndpoints
{
    private static readonly string[] Modes = ["full", "changes", "baseline"];

    public static void MapIntake(this RouteGroupBuilder api)
    {
        MapSources(api);
        MapSwitching(api);
        MapRuns(api);
        MapSetAside(api);
        MapRecords(api);
        MapPushed(api);
        MapTokens(api);
        MapTokenEnds(api);
    }

    private static void MapSources(RouteGroupBuilder api)
    {
        api.MapPost(
                "/sources/{name}/runs",
                async (string name, IntakeBody body, SourceDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    var mode = body.Mode ?? "full";
                    if (!Modes.Contains(mode))
                        throw Problem.Invalid($"'mode' is {string.Join(", ", Modes)}.", "mode");
                    if (mode == "baseline" && !user.RoleNames().Contains(Roles.Engineer))
                        throw new Problem(
                            403,
                            "not-allowed",
                            "Not allowed",
                            "A baseline takes people as known without a request; only an engineer runs it."
                        );
                    return await desk.RunAsync(new(name, mode, body.DryRun == true, user.UserName(), body.Person ?? ""), user, cancel);
                }
            )
            .WithName("runIntake")
            .WithSummary("Reads a source now. A dry run tells what would happen and changes nothing.")
            .RequireAuthorization("intake")
            .Reaching(Reached.Everywhere);

        api.MapGet("/sources", (SourceDesk desk, CancellationToken cancel) => desk.ListAsync(cancel))
            .WithName("listSources")
            .WithSummary("The sources of the rulebook: state, last run, what is set aside, held or vanished.")
            .RequireAuthorization("read")
            .Reaching(Reached.Shared);
        api.MapGet("/sources/{name}", (string name, SourceDesk desk, CancellationToken cancel) => desk.DetailAsync(name, cancel))
            .WithName("getSource")
            .WithSummary("One source: columns, mapping, scope, brake, and what is known of its records.")
            .RequireAuthorization("intake")
            .Reaching(Reached.Shared);
    }

    private static void MapSwitching(RouteGroupBuilder api)
    {
        api.MapPost(
                "/sources/{name}/test",
                (string name, SourceDesk desk, ClaimsPrincipal user, CancellationToken cancel) => desk.TestAsync(name, user, cancel)
            )
            .WithName("testSource")
            .WithSummary("Reads the first records and maps them. A good test lets the source be switched on.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
        api.MapPost(
                "/sources/{name}/preview",
                (string name, PreviewBody body, SourceDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    desk.PreviewAsync(name, body, user, cancel)
            )
            .WithName("previewSource")
            .WithSummary("Real records and what the mapping, or that of a draft, makes of them. Nothing is kept.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
        api.MapPost(
                "/sources/{name}/switch",
                (string name, SwitchBody body, SourceDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    desk.SwitchAsync(name, body.On, user, cancel)
            )
            .WithName("switchSource")
            .WithSummary("Switches a source on, so that it runs by its schedule or takes what is pushed, or off.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
    }

    private static void MapRuns(RouteGroupBuilder api)
    {
        api.MapGet(
                "/sources/{name}/runs",
                async (string name, Store.Store store, CancellationToken cancel) =>
                    new Page<IntakeRun>([.. (await store.ReadAsync(s => s.RunsAsync(name, 100), cancel)).Select(SourceDesk.RunView)], null)
            )
            .WithName("listRuns")
            .WithSummary("The last runs of a source.")
            .RequireAuthorization("intake")
            .Reaching(Reached.Shared);
        api.MapGet(
                "/held-runs/{run}",
                (string run, SourceDesk desk, ClaimsPrincipal user, CancellationToken cancel) => desk.HeldAsync(run, user, cancel)
            )
            .WithName("getHeldRun")
            .WithSummary("A run under the brake, with all it would raise.")
            .RequireAuthorization("intake")
            .Reaching(Reached.Everywhere);
        api.MapPost(
                "/held-runs/{run}/pass",
                (string run, SourceDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    desk.DecideHeldAsync(run, true, user, cancel)
            )
            .WithName("passHeldRun")
            .WithSummary("Lets a held run pass: it is made anew and raises exactly what was shown, or is held again.")
            .RequireAuthorization("intake")
            .Reaching(Reached.Everywhere);
        api.MapPost(
                "/held-runs/{run}/drop",
                (string run, SourceDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    desk.DecideHeldAsync(run, false, user, cancel)
            )
            .WithName("dropHeldRun")
            .WithSummary("Drops a held run; nothing is raised.")
            .RequireAuthorization("intake")
            .Reaching(Reached.Everywhere);
    }

    private static void MapSetAside(RouteGroupBuilder api)
    {
        api.MapGet(
                "/sources/{name}/set-aside",
                async (string name, SourceDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    new Page<SetAside>([.. (await desk.SetAsideAsync(name, 1000, user, cancel)).Select(IntakeRunner.View)], null)
            )
            .WithName("listSetAside")
            .WithSummary("The rows of a source that are set aside, each with line, column and reason.")
            .RequireAuthorization("intake")
            .Reaching(Reached.Everywhere);
        api.MapGet(
                "/sources/{name}/set-aside.csv",
                async (string name, SourceDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    var rows = await desk.SetAsideAsync(name, 100_000, user, cancel);
                    var fields = rows.Select(r => JsonSerializer.Deserialize<Dictionary<string, string>>(r.Fields) ?? []).ToList();
                    var columns = fields.SelectMany(f => f.Keys).Distinct().ToList();
                    return Csv.File(
                        $"{name}-set-aside.csv",
                        ["file", "line", "column", "value", "reason", .. columns],
                        rows.Select(
                            (r, i) =>
                                (IReadOnlyList<string>)
                                    [
                                        r.File,
                                        r.Line.ToString(System.Globalization.CultureInfo.InvariantCulture),
                                        r.ColumnName,
                                        r.Value,
                                        r.Reason,
                                        .. columns.Select(c => fields[i].GetValueOrDefault(c, "")),
                                    ]
                        )
                    );
                }
            )
            .Produces<string>(200, "text/csv")
            .WithName("exportSetAside")
            .WithSummary("The rows set aside as a file for HR, each with what is wrong and the row as it came.")
            .RequireAuthorization("intake")
            .Reaching(Reached.Everywhere);
    }

    private static void MapRecords(RouteGroupBuilder api)
    {
        api.MapGet(
                "/sources/{name}/records",
                (
                    string name,
                    SourceDesk desk,
                    ClaimsPrincipal user,
                    CancellationToken cancel,
                    string? status,
                    string? key,
                    string? after,
                    int? limit
                ) => desk.RecordsAsync(name, status ?? "", key ?? "", after ?? "", Paging.Limit(limit), user, cancel)
            )
            .WithName("listRecords")
            .WithSummary(
                "What became of each record received. Filters: status (received, request, outside, vanished, kept, gone, forgotten), key."
            )
            .RequireAuthorization("intake")
            .Reaching(Reached.Filtered);
        api.MapGet(
                "/sources/{name}/vanished",
                (string name, SourceDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    desk.RecordsAsync(name, "vanished", "", "", 1000, user, cancel)
            )
            .WithName("listVanished")
            .WithSummary("Known records that the last full delivery held no more, and nobody has decided about.")
            .RequireAuthorization("intake")
            .Reaching(Reached.Filtered);
        api.MapPost(
                "/sources/{name}/vanished/{key}",
                (string name, string key, VanishedBody body, SourceDesk desk, ClaimsPrincipal user, CancellationToken cancel) =>
                    desk.VanishedAsync(name, key, body, user, cancel)
            )
            .WithName("decideVanished")
            .WithSummary("Says whether a person whose record vanished leaves (raises a leaver request) or stays.")
            .RequireAuthorization("intake")
            .Reaching(Reached.Filtered);
    }

    private static void MapPushed(RouteGroupBuilder api)
    {
        api.MapPost(
                "/sources/{name}/records",
                async (
                    string name,
                    RecordsBody body,
                    SourceDesk desk,
                    Idempotency idempotency,
                    HttpContext context,
                    ClaimsPrincipal user,
                    CancellationToken cancel
                ) =>
                    await idempotency.OnceAsync(
                        context,
                        user.UserName(),
                        JsonSerializer.Serialize(body),
                        () => desk.PostAsync(name, body, user, cancel),
                        cancel
                    )
            )
            .WithName("postRecords")
            .WithSummary("Takes one or many records; the answer names the request each made. Takes an Idempotency-Key.")
            .RequireAuthorization("intake")
            .Reaching(Reached.Everywhere);
        api.MapGet(
                "/sources/{name}/write-backs",
                async (string name, Store.Store store, CancellationToken cancel) =>
                    new Page<WriteBackView>(
                        [
                            .. (await store.ReadAsync(s => s.WriteBacksOfAsync(name, 200), cancel)).Select(w => new WriteBackView(
                                w.Id,
                                w.RecordKey,
                                w.PersonId,
                                [
                                    .. (JsonSerializer.Deserialize<Dictionary<string, string>>(w.Fields) ?? []).Select(
                                        f => new AttributeValue(f.Key, f.Value)
                                    ),
                                ],
                                w.DoneAt is not null ? "done"
                                    : w.DueAt is null ? "stopped"
                                    : w.Attempts > 0 ? "retrying"
                                    : "waiting",
                                (int)w.Attempts,
                                w.Problem.Length > 0 ? w.Problem : null,
                                w.CreatedAt.ToInstant(),
                                w.DoneAt.ToInstant()
                            )),
                        ],
                        null
                    )
            )
            .WithName("listWriteBacks")
            .WithSummary("What was written back to the source, and what waits.")
            .RequireAuthorization("intake")
            .Reaching(Reached.Everywhere);
    }

    private static void MapTokens(RouteGroupBuilder api)
    {
        api.MapPost("/sources/{name}/tokens", MakeTokenAsync)
            .WithName("makeSourceToken")
            .WithSummary(
                "Makes a bearer token for a source that pushes by SCIM; it is shown once. Two may be valid at once, so that "
                    + "one can follow the other."
            )
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
        api.MapGet(
                "/sources/{name}/tokens",
                async (string name, Store.Store store, CancellationToken cancel) =>
                    new Page<SourceToken>(
                        [
                            .. (await store.ReadAsync(s => s.SourceTokensAsync(name), cancel)).Select(t => new SourceToken(
                                t.Id,
                                t.Label,
                                t.Actor,
                                t.CreatedAt.ToInstant(),
                                t.ExpiresAt.ToInstant(),
                                t.EndedAt.ToInstant()
                            )),
                        ],
                        null
                    )
            )
            .WithName("listSourceTokens")
            .WithSummary("The tokens of a source; the tokens themselves are kept nowhere.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
    }

    private static void MapTokenEnds(RouteGroupBuilder api)
    {
        api.MapDelete(
                "/sources/{name}/tokens/{id}",
                async (string name, string id, Store.Store store, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await store.WriteAsync(
                        async s =>
                        {
                            if (!await s.EndSourceTokenAsync(name, id, time.Milliseconds()))
                                throw Problem.NotFound($"valid token '{id}' of '{name}'", "See 'oikonom intake tokens'.");
                            s.Record(
                                LedgerEntry.Of(
                                    time.GetUtcNow(),
                                    user.UserName(),
                                    "source.token-ended",
                                    null,
                                    null,
                                    ("source", name),
                                    ("token", id)
                                )
                            );
                        },
                        cancel
                    );
                    return TypedResults.NoContent();
                }
            )
            .WithName("endSourceToken")
            .WithSummary("Ends a token of a source at once.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
    }

    private static async Task<IssuedToken> MakeTokenAsync(
        string name,
        SourceTokenBody body,
        Store.Store store,
        EditionBook editions,
        TimeProvider time,
        ClaimsPrincipal user,
        CancellationToken cancel
    )
    {
        var source = IntakeRunner.SourceOf(await editions.CurrentAsync(cancel), name);
        if (source.Kind != Core.Rulebook.SourceKind.Scim)
            throw Problem.Conflict("no-tokens", $"'{name}' does not push by SCIM; it takes no token.");
        var days = body.Days ?? 180;
        if (days is < 1 or > 730)
            throw Problem.Invalid("'days' is from 1 to 730.", "days");
        var now = time.GetUtcNow();
        var token = Accounts.NewToken("oiks_");
        var row = new SourceTokenRow
        {
            Id = Guid.CreateVersion7(now).ToString(),
            Source = name,
            Hash = Accounts.HashToken(token),
            Label = body.Label is { Length: > 0 and <= 100 } label ? label : "push",
            Actor = user.UserName(),
            CreatedAt = now.ToUnixTimeMilliseconds(),
            ExpiresAt = now.AddDays(days).ToUnixTimeMilliseconds(),
        };
        await store.WriteAsync(
            async s =>
            {
                var valid = (await s.SourceTokensAsync(name)).Count(t => t.EndedAt is null && t.ExpiresAt > row.CreatedAt);
                if (valid >= 2)
                    throw Problem.Conflict("two-tokens", $"'{name}' has two valid tokens already. End one first.");
                await s.AddSourceTokenAsync(row);
                s.Record(
                    LedgerEntry.Of(
                        now,
                        user.UserName(),
                        "source.token-made",
                        null,
                        null,
                        ("source", name),
                        ("token", row.Id),
                        ("expires", LedgerEntry.Stamp(row.ExpiresAt.ToInstant()))
                    )
                );
            },
            cancel
        );
        return new(row.Id, token, row.ExpiresAt.ToInstant());
    }
}
