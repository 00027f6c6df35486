using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Approval;
using Oikonom.Core.Ledger;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>Raising requests by hand: one, many, drafts, and what can be asked for.</summary>
public static class HandEndpoints
{
    public static void MapHandRequests(this RouteGroupBuilder api)
    {
        MapRaising(api);
        MapBulkAndEnds(api);
        MapWords(api);
        MapDrafts(api);
        MapViews(api);
    }

    private static void MapRaising(RouteGroupBuilder api)
    {
        api.MapPost(
                "/requests",
                async (
                    NewRequest body,
                    HttpContext context,
                    HandRequests hand,
                    Idempotency once,
                    Store.Store store,
                    EditionBook editions,
                    Sight sight,
                    TimeProvider time,
                    ClaimsPrincipal user,
                    CancellationToken cancel
                ) =>
                {
                    var raised = await once.OnceAsync(
                        context,
                        user.UserName(),
                        JsonSerializer.Serialize(body),
                        async () => new Raised(await hand.RaiseAsync(body, user, cancel)),
                        cancel
                    );
                    context.Response.StatusCode = 201;
                    context.Response.Headers.Location = $"/api/v1/requests/{raised.Id}";
                    return await RequestEndpoints.DetailAsync(raised.Id, store, editions, sight, time, user, cancel);
                }
            )
            .WithName("raiseRequest")
            .WithSummary("Raises a request by hand. Takes an Idempotency-Key.")
            .RequireAuthorization("request")
            .Reaching(Reached.Filtered);

        api.MapPost(
                "/requests/preview",
                (NewRequest body, HandRequests hand, ClaimsPrincipal user, CancellationToken cancel) =>
                    hand.PreviewAsync(body, user, cancel)
            )
            .WithName("previewRequest")
            .WithSummary("What a request would bring, and who would decide; nothing is raised or reserved.")
            .RequireAuthorization("request")
            .Reaching(Reached.Filtered);
    }

    private static void MapBulkAndEnds(RouteGroupBuilder api)
    {
        api.MapPost("/people/{id}/access/end", EndAccessAsync)
            .WithName("endAccess")
            .WithSummary("Gives access back, or takes it away, before its end: by who holds it, their manager, its owner, or a requester.")
            .RequireAuthorization("work")
            .Reaching(Reached.Filtered);

        api.MapPost(
                "/requests/bulk",
                async (
                    BulkBody body,
                    HttpContext context,
                    HandRequests hand,
                    Idempotency once,
                    ClaimsPrincipal user,
                    CancellationToken cancel
                ) =>
                    await once.OnceAsync(
                        context,
                        user.UserName(),
                        JsonSerializer.Serialize(body),
                        () => hand.BulkAsync(body, user, cancel),
                        cancel
                    )
            )
            .WithName("raiseMany")
            .WithSummary(
                "Raises one request for each row of a delimited file, or with dryRun only looks at them. Takes an Idempotency-Key."
            )
            .RequireAuthorization("request")
            .Reaching(Reached.Filtered);
    }

    private static async Task<RequestDetail> EndAccessAsync(
        string id,
        EndAccessBody body,
        HandRequests hand,
        Store.Store store,
        EditionBook editions,
        Sight sight,
        TimeProvider time,
        ClaimsPrincipal user,
        CancellationToken cancel
    ) => await RequestEndpoints.DetailAsync(await hand.EndAsync(id, body, user, cancel), store, editions, sight, time, user, cancel);

    private static void MapWords(RouteGroupBuilder api)
    {
        api.MapGet("/catalogue", CatalogueAsync)
            .WithName("catalogue")
            .WithSummary(
                "What can be asked for: entitlements with owner and holders, templates on request, attributes, sites, departments."
            )
            .RequireAuthorization("read")
            .Reaching(Reached.Shared);

        api.MapGet(
                "/requests/schemas/{kind}",
                async (string kind, EditionBook editions, CancellationToken cancel) =>
                    HandRequests.Kinds.Contains(kind)
                        ? TypedResults.Json(
                            RequestSchemas.Of(kind, await editions.CurrentAsync(cancel)),
                            contentType: "application/schema+json"
                        )
                        : throw Problem.NotFound($"kind of request '{kind}'", $"There are: {string.Join(", ", HandRequests.Kinds)}.")
            )
            .WithName("requestSchema")
            .WithSummary(
                "The JSON Schema (draft 2020-12) of the body that raises a request of this kind, with the attributes, "
                    + "entitlements and templates of the published rulebook."
            )
            .RequireAuthorization("request")
            .Reaching(Reached.Shared);

        api.MapGet(
                "/workflows",
                async (EditionBook editions, CancellationToken cancel) =>
                    new Page<WorkflowView>(
                        [.. (await editions.CurrentAsync(cancel)).Rulebook.Workflows.OrderByDescending(w => w.Priority).Select(View)],
                        null
                    )
            )
            .WithName("listWorkflows")
            .WithSummary("The approval paths of the published rulebook.")
            .RequireAuthorization("read")
            .Reaching(Reached.Shared);
    }

    private static void MapDrafts(RouteGroupBuilder api)
    {
        api.MapGet(
                "/drafts",
                async (Store.Store store, ClaimsPrincipal user, CancellationToken cancel) =>
                    new Page<Draft>([.. (await store.ReadAsync(s => s.DraftsAsync(user.UserName()), cancel)).Select(View)], null)
            )
            .WithName("listDrafts")
            .WithSummary("The caller's drafts of requests.")
            .RequireAuthorization("request")
            .Reaching(Reached.Own);
        api.MapPut(
                "/drafts/{id}",
                async (string id, DraftBody body, Store.Store store, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    if (!Guid.TryParse(id, out var guid))
                        throw Problem.Invalid("The id of a draft is a UUID.", "id");
                    if (body.Body is null || body.Title is not { Length: > 0 and <= 200 })
                        throw Problem.Invalid("A draft has a title of 200 characters at most, and a body.", "title");
                    var row = new DraftRow
                    {
                        Id = guid.ToString(),
                        UserName = user.UserName(),
                        Title = body.Title,
                        Body = JsonSerializer.Serialize(body.Body, JsonSerializerOptions.Web),
                        At = time.Milliseconds(),
                    };
                    if (row.Body.Length > 100_000)
                        throw Problem.Invalid("The draft is too large.", "body");
                    if (!await store.WriteAsync(s => s.SaveDraftAsync(row), cancel))
                        throw Problem.NotFound($"draft '{id}'", "It is somebody else's.");
                    return View(row);
                }
            )
            .WithName("saveDraft")
            .WithSummary("Keeps a draft under an id of the caller's choice (UUID).")
            .RequireAuthorization("request")
            .Reaching(Reached.Own);
        api.MapDelete(
                "/drafts/{id}",
                async (string id, Store.Store store, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await store.WriteAsync(s => s.DropDraftAsync(id, user.UserName()), cancel);
                    return TypedResults.NoContent();
                }
            )
            .WithName("dropDraft")
            .WithSummary("Throws a draft away.")
            .RequireAuthorization("request")
            .Reaching(Reached.Own);
    }

    private static void MapViews(RouteGroupBuilder api)
    {
        api.MapGet(
                "/views",
                async (Store.Store store, ClaimsPrincipal user, CancellationToken cancel) =>
                    new Page<SavedView>(
                        [
                            .. (await store.ReadAsync(s => s.ViewsAsync(user.UserName()), cancel)).Select(v => new SavedView(
                                v.Name,
                                v.Query,
                                v.At.ToInstant()
                            )),
                        ],
                        null
                    )
            )
            .WithName("listViews")
            .WithSummary("The caller's saved views of the list of requests.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);
        api.MapPut(
                "/views/{name}",
                async (
                    string name,
                    SavedViewBody body,
                    Store.Store store,
                    TimeProvider time,
                    ClaimsPrincipal user,
                    CancellationToken cancel
                ) =>
                {
                    if (name.Length > 80 || body.Query is null || body.Query.Length > 1000)
                        throw Problem.Invalid("A view has a name of 80 and a query of 1000 characters at most.", "name");
                    await store.WriteAsync(s => s.SaveViewAsync(user.UserName(), name, body.Query, time.Milliseconds()), cancel);
                    return new SavedView(name, body.Query, time.GetUtcNow());
                }
            )
            .WithName("saveView")
            .WithSummary("Keeps a view of the list of requests under a name.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);
        api.MapDelete(
                "/views/{name}",
                async (string name, Store.Store store, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await store.WriteAsync(s => s.DropViewAsync(user.UserName(), name), cancel);
                    return TypedResults.NoContent();
                }
            )
            .WithName("dropView")
            .WithSummary("Forgets a view.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);
    }

    private sealed record Raised(string Id);

    private static Draft View(DraftRow row) =>
        new(row.Id, row.Title, JsonSerializer.Deserialize<NewRequest>(row.Body, JsonSerializerOptions.Web)!, row.At.ToInstant());

    private static async Task<Catalogue> CatalogueAsync(
        Store.Store store,
        PeopleIndex people,
        EditionBook editions,
        CancellationToken cancel
    )
    {
        var edition = await editions.CurrentAsync(cancel);
        var (departments, titles, kinds) = await people.PlacesAsync(cancel);
        var rulebook = edition.Rulebook;
        return await store.ReadAsync(
            async s =>
            {
                var holders = (await s.HoldersAsync()).ToDictionary(h => $"{h.Target}/{h.Entitlement}", h => h.Count);
                var owners = new Dictionary<string, string>();
                foreach (
                    var owner in rulebook
                        .Targets.Values.SelectMany(t => t.Entitlements.Values)
                        .Select(e => e.Owner)
                        .OfType<string>()
                        .Distinct()
                )
                    if (await s.PersonByNumberAsync(owner) is { } person)
                        owners[owner] = person.Display;
                var entries = rulebook
                    .Targets.Values.SelectMany(t =>
                        t.Entitlements.Values.Where(e => e.IsRequestable)
                            .Select(e => new CatalogueEntry(
                                $"{t.Name}/{e.Name}",
                                e.Title,
                                e.Description,
                                e.Kind.ToString().ToLowerInvariant(),
                                t.Title,
                                e.Owner,
                                e.Owner is { } o ? owners.GetValueOrDefault(o) : null,
                                e.IsPrivileged,
                                e.MostHolders,
                                holders.GetValueOrDefault($"{t.Name}/{e.Name}")
                            ))
                    )
                    .ToList();
                return new Catalogue(
                    entries,
                    [
                        .. rulebook
                            .Templates.Where(t => t.IsOnRequest)
                            .Select(t => new OnRequestTemplate(t.Name, t.Title, [.. t.Accounts.Select(a => a.Target)])),
                    ],
                    [.. rulebook.Attributes.Slots.Select(a => HandRequests.FieldOf(a.Name, rulebook.Mandatory.Contains(a.Name), edition))],
                    [.. rulebook.Sites.Values.Select(x => new SiteWords(x.Name, x.Title, x.Zone.Id))],
                    departments,
                    titles,
                    kinds,
                    [.. rulebook.Targets.Values.Select(t => WordsOf(t, rulebook))],
                    HandRequests.Words
                );
            },
            cancel
        );
    }

    private static TargetWords WordsOf(TargetRule target, Core.Rulebook.Rulebook rulebook)
    {
        var attributes = rulebook
            .Templates.SelectMany(t => t.Accounts)
            .Where(a => a.Target == target.Name)
            .SelectMany(a => a.Attributes)
            .Select(a => a.Name);
        var named = target.HasAccounts
            ? attributes.Append(target.Settings.NameAttribute).Concat(target.Titles.Keys).Distinct(StringComparer.OrdinalIgnoreCase)
            : [];
        return new(
            target.Name,
            target.Title,
            target.HasAccounts,
            [.. named.Order(StringComparer.OrdinalIgnoreCase).Select(a => new AttributeValue(a, target.TitleOf(a)))]
        );
    }

    private static WorkflowView View(Workflow workflow) =>
        new(
            workflow.Name,
            workflow.Title,
            workflow.For,
            workflow.Sources,
            workflow.When?.Text,
            workflow.Priority,
            [
                .. workflow.Stages.Select(s => new WorkflowStageView
                {
                    Name = s.Name,
                    Title = s.Title,
                    When = s.When?.Text,
                    Decides = [.. s.Decides.Select(Approvers.Title)],
                    Otherwise = [.. s.Otherwise.Select(Approvers.Title)],
                    Quorum = s.Quorum == Stage.All ? "all" : s.Quorum.ToString(System.Globalization.CultureInfo.InvariantCulture),
                    PerItem = s.PerItem,
                    InPart = s.InPart,
                    Skips = [.. s.Skips.Select(SkipText)],
                    Deadline = s.Deadline is { } d ? System.Xml.XmlConvert.ToString(d) : null,
                    Remind = s.Remind is { } r ? System.Xml.XmlConvert.ToString(r) : null,
                    Escalates = [.. s.Escalates.Select(Approvers.Title)],
                    OnSilence = s.OnSilence.ToString().ToLowerInvariant(),
                    MayChange = s.MayChange,
                    Place = s.Place.ToString(),
                }),
            ],
            workflow.ReleasedByOperator ? Approvers.Title(workflow.ReleasedBy) : "automatic",
            workflow.FourEyes,
            workflow.Place.ToString()
        );

    private static string SkipText(SkipRule rule) =>
        rule switch
        {
            SkipRule.RequesterIsManager => "the line manager raised it",
            SkipRule.RequesterIsAboveApprover => "the line manager's manager raised it",
            SkipRule.RequesterIsOwner => "the owner raised it",
            _ => "nothing in it is privileged",
        };
}

/// <summary>Rights to decide that are handed over for a time.</summary>
public static class DelegationEndpoints
{
    private static readonly TimeSpan Longest = TimeSpan.FromDays(366);

    public static void MapDelegations(this RouteGroupBuilder api)
    {
        MapLists(api);
        MapMaking(api);
    }

    private static void MapLists(RouteGroupBuilder api)
    {
        api.MapGet(
                "/delegations",
                async (bool? all, Store.Store store, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    var everybodys = all == true && (user.RoleNames().Contains(Roles.Engineer) || user.RoleNames().Contains(Roles.Auditor));
                    return new Page<DelegationView>(
                        [
                            .. (
                                await store.ReadAsync(
                                    s => s.DelegationsAsync(everybodys ? "" : user.UserName(), time.Milliseconds()),
                                    cancel
                                )
                            ).Select(d => View(d, user)),
                        ],
                        null
                    );
                }
            )
            .WithName("listDelegations")
            .WithSummary("Delegations from and to the caller that are not over; for engineers and auditors with 'all' those of everybody.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);

        api.MapGet(
                "/delegations/candidates",
                async (Store.Store store, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    var users = await store.ReadAsync(s => s.UsersAsync(), cancel);
                    var others = users
                        .Where(u => u.Active == 1 && u.Name != user.UserName())
                        .OrderBy(u => u.Display, StringComparer.CurrentCulture);
                    return new Page<DelegateView>([.. others.Select(u => new DelegateView(u.Name, u.Display))], null);
                }
            )
            .WithName("listDelegates")
            .WithSummary("Who could decide in the caller's place: users who may sign in, by name.")
            .RequireAuthorization("read")
            .Reaching(Reached.Shared);
    }

    private static void MapMaking(RouteGroupBuilder api)
    {
        api.MapPost("/delegations", AddAsync)
            .WithName("delegate")
            .WithSummary("Hands the caller's right to decide to somebody for a time; an engineer may do it for others.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);

        api.MapDelete(
                "/delegations/{id}",
                async (string id, Store.Store store, TimeProvider time, ClaimsPrincipal user, CancellationToken cancel) =>
                {
                    await store.WriteAsync(
                        async s =>
                        {
                            var row =
                                await s.DelegationAsync(id)
                                ?? throw Problem.NotFound($"delegation '{id}'", "See 'oikonom delegations list'.");
                            if (
                                row.FromUser != user.UserName()
                                && row.ToUser != user.UserName()
                                && !user.RoleNames().Contains(Roles.Engineer)
                            )
                                throw new RefusedMove("not-yours", "Only those it is between, or an engineer, end a delegation.");
                            await s.EndDelegationAsync(id, time.Milliseconds());
                            s.Record(
                                LedgerEntry.Of(
                                    time.GetUtcNow(),
                                    user.UserName(),
                                    "delegation.ended",
                                    null,
                                    null,
                                    ("delegation", id),
                                    ("from", row.FromUser),
                                    ("to", row.ToUser)
                                )
                            );
                            s.Tell("delegations", id);
                        },
                        cancel
                    );
                    return TypedResults.NoContent();
                }
            )
            .WithName("endDelegation")
            .WithSummary("Ends a delegation now.")
            .RequireAuthorization("read")
            .Reaching(Reached.Own);
    }

    private static async Task<DelegationView> AddAsync(
        DelegationBody body,
        Store.Store store,
        EditionBook editions,
        TimeProvider time,
        ClaimsPrincipal user,
        CancellationToken cancel
    )
    {
        var now = time.GetUtcNow();
        var kinds = (await editions.CurrentAsync(cancel)).Rulebook.Workflows.SelectMany(w => w.For).Distinct().ToList();
        var (from, begins, ends) = Checked(body, user, kinds, now);
        return await store.WriteAsync(
            async s =>
            {
                foreach (var (name, field) in new[] { (from, "from"), (body.To ?? "", "to") })
                    if (await s.UserAsync(name) is not { Active: 1 })
                        throw Problem.Invalid($"'{name}' cannot sign in.", field);
                var row = new DelegationRow
                {
                    Id = Guid.CreateVersion7(now).ToString(),
                    FromUser = from,
                    ToUser = body.To!,
                    BeginsAt = begins.ToUnixTimeMilliseconds(),
                    EndsAt = ends.ToUnixTimeMilliseconds(),
                    Kinds = string.Join(' ', body.Kinds ?? []),
                    Remark = body.Remark ?? "",
                    Actor = user.UserName(),
                    CreatedAt = now.ToUnixTimeMilliseconds(),
                };
                await s.AddDelegationAsync(row);
                s.Record(
                    LedgerEntry.Of(
                        now,
                        user.UserName(),
                        "delegation.made",
                        null,
                        null,
                        ("delegation", row.Id),
                        ("from", from),
                        ("to", row.ToUser),
                        ("begins", LedgerEntry.Stamp(begins)),
                        ("ends", LedgerEntry.Stamp(ends)),
                        ("kinds", row.Kinds.Length > 0 ? row.Kinds : null)
                    )
                );
                s.Tell("delegations", row.Id);
                return View(row, user);
            },
            cancel
        );
    }

    /// <summary>Whose right is handed over, from when and until when.</summary>
    /// <exception cref="RefusedMove">It is not theirs to hand over.</exception>
    /// <exception cref="Problem">400: the days, the kinds or the remark will not do.</exception>
    private static (string From, DateTimeOffset Begins, DateTimeOffset Ends) Checked(
        DelegationBody body,
        ClaimsPrincipal user,
        IReadOnlyCollection<string> kinds,
        DateTimeOffset now
    )
    {
        var from = string.IsNullOrWhiteSpace(body.From) ? user.UserName() : body.From;
        if (from != user.UserName() && !user.RoleNames().Contains(Roles.Engineer))
            throw new RefusedMove("not-yours", "Only an engineer hands over the right of somebody else.");
        if (from == body.To)
            throw Problem.Invalid("Name somebody else.", "to");
        if (from != user.UserName() && body.To == user.UserName())
            throw new RefusedMove("not-yours", "Nobody hands the right of somebody else to themselves; another engineer does.");
        var (begins, ends) = (Day(body.Begins, "begins", false), Day(body.Ends, "ends", true));
        if (ends <= begins || ends <= now)
            throw Problem.Invalid("The end lies before the begin, or in the past.", "ends");
        if (ends - begins > Longest)
            throw Problem.Invalid("A delegation lasts a year at most.", "ends");
        if (body.Kinds?.FirstOrDefault(k => !kinds.Contains(k)) is { } unknown)
            throw Problem.Invalid($"'{unknown}' is no kind of request; known are {string.Join(", ", kinds)}.", "kinds");
        if (body.Remark?.Length > 500)
            throw Problem.Invalid("A remark has 500 characters at most.", "remark");
        return (from, begins, ends);

        static DateTimeOffset Day(string? text, string field, bool last)
        {
            if (DateOnly.TryParseExact(text, "yyyy-MM-dd", out var day))
                return new(day.AddDays(last ? 1 : 0).ToDateTime(TimeOnly.MinValue), TimeSpan.Zero);
            if (
                text?.Contains('T', StringComparison.Ordinal) == true
                && DateTimeOffset.TryParse(
                    text,
                    System.Globalization.CultureInfo.InvariantCulture,
                    System.Globalization.DateTimeStyles.AssumeUniversal,
                    out var at
                )
            )
                return at.ToUniversalTime();
            throw Problem.Invalid($"'{text}' is no day such as 2026-12-01.", field);
        }
    }

    private static DelegationView View(DelegationRow row, ClaimsPrincipal user) =>
        new(
            row.Id,
            row.FromUser,
            row.ToUser,
            row.BeginsAt.ToInstant(),
            row.EndsAt.ToInstant(),
            row.Kinds.Split(' ', StringSplitOptions.RemoveEmptyEntries),
            row.Remark,
            row.Actor,
            row.FromUser == user.UserName()
        );
}
