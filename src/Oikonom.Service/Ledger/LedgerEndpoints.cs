using System.Globalization;
using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Core.Ledger;
using Oikonom.Proofs;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Ledger;

public static class LedgerEndpoints
{
    public static void MapLedger(this RouteGroupBuilder api)
    {
        MapReading(api);
        MapProof(api);
        MapExport(api);
    }

    private static void MapReading(RouteGroupBuilder api)
    {
        api.MapGet(
                "/ledger",
                (
                    LedgerDesk desk,
                    ClaimsPrincipal user,
                    CancellationToken cancel,
                    string? person,
                    string? request,
                    string? kind,
                    string? actor,
                    string? after,
                    int? limit
                ) => desk.PageAsync(user, person ?? "", request ?? "", Paging.Text(kind), actor ?? "", after, limit, cancel)
            )
            .WithName("listLedger")
            .WithSummary(
                "Ledger entries, newest first. Filters: person, request, kind (a prefix), actor. Whoever is limited to a part "
                    + "of the organisation sees entries about people there."
            )
            .RequireAuthorization("audit")
            .Reaching(Reached.Filtered);
        api.MapGet(
                "/ledger/entries/{entry}",
                (string entry, LedgerDesk desk, ClaimsPrincipal user, CancellationToken cancel) => desk.ProofAsync(entry, user, cancel)
            )
            .WithName("getLedgerEntry")
            .WithSummary("One entry with the proof that it is in the tree of the newest head (RFC 9162).")
            .RequireAuthorization("audit")
            .Reaching(Reached.Filtered);
    }

    private static void MapProof(RouteGroupBuilder api)
    {
        api.MapPost(
                "/ledger/verify",
                async (HttpRequest request, LedgerCheck check, CancellationToken cancel) =>
                {
                    var body = request.HasJsonContentType() ? await request.ReadFromJsonAsync<LedgerVerifyBody>(cancel) : null;
                    return await check.RunAsync([.. (body?.Heads ?? []).Select(LedgerViews.HeadOf)], cancel);
                }
            )
            .Accepts<LedgerVerifyBody>(isOptional: true, "application/json", "*/*")
            .WithName("verifyLedger")
            .WithSummary(
                "Recomputes every hash, root and signature of the ledger (RFC 9162) by the pinned keys, and holds it against "
                    + "heads that were kept elsewhere."
            )
            .RequireAuthorization("audit")
            .Reaching(Reached.Everywhere);
        api.MapGet(
                "/ledger/heads",
                async (Store.Store store, SigningKey key, CancellationToken cancel, int? limit) =>
                    new Page<LedgerHead>(
                        [
                            .. (await store.ReadAsync(s => s.LastHeadsAsync(Paging.Limit(limit)), cancel)).Select(h =>
                                LedgerViews.View(LedgerViews.HeadOf(h, key.Ring))
                            ),
                        ],
                        null
                    )
            )
            .WithName("listHeads")
            .WithSummary("Signed heads of the ledger, newest first. Keep them where the service cannot take them back.")
            .RequireAuthorization("audit")
            .Reaching(Reached.Everywhere);
        api.MapGet("/ledger/keys", (SigningKey key) => new Page<LedgerKeyView>([.. key.Ring.Select(LedgerViews.View)], null))
            .WithName("listLedgerKeys")
            .WithSummary("The pinned keys that heads are signed with, oldest first; each is named by the one before it.")
            .RequireAuthorization("audit")
            .Reaching(Reached.Everywhere);
        api.MapPost(
                "/ledger/keys",
                async (Sealer sealer, ClaimsPrincipal user, CancellationToken cancel) =>
                    LedgerViews.View(await sealer.RotateAsync(user.UserName(), cancel))
            )
            .WithName("rotateLedgerKey")
            .WithSummary("Makes a new signing key; the old one names it and is thrown away.")
            .RequireAuthorization("configure")
            .Reaching(Reached.Everywhere);
    }

    private static void MapExport(RouteGroupBuilder api)
    {
        api.MapGet(
                "/ledger/export",
                (
                    LedgerDesk desk,
                    HttpContext context,
                    ClaimsPrincipal user,
                    CancellationToken cancel,
                    string? person,
                    string? request,
                    long[]? from
                ) => desk.ExportAsync(context.Response, user, person ?? "", request ?? "", from ?? [], cancel)
            )
            .WithName("exportLedger")
            .WithSummary(
                "The ledger, or the entries about a person or request, as lines of JSON, each with its inclusion proof; "
                    + "verified offline by 'oikonom ledger verify --export'. 'from' adds proofs that it continues heads of these "
                    + "sizes."
            )
            .RequireAuthorization("audit")
            .Reaching(Reached.Everywhere);
    }
}

/// <summary>Ledger entries and heads as they are shown.</summary>
public static class LedgerViews
{
    public static SignedHead HeadOf(HeadRow row, IReadOnlyList<LedgerKey> ring) =>
        new(row.Size, Convert.ToHexStringLower(row.Root), row.SignedAt, Convert.ToBase64String(row.Signature), KeyOf(row.PublicKey));

    public static SignedHead HeadOf(LedgerHead head) => new(head.Size, head.Root ?? "", head.At, head.Signature ?? "", head.Key ?? "");

    public static LedgerHead View(SignedHead head) => new(head.Size, head.Root, head.At, head.Signature, head.Key);

    public static LedgerKeyView View(LedgerKey key) => new(key.Id, key.PublicKey, key.FromSize, key.At.ToInstant(), key.By);

    public static LedgerEntryView View(LedgerRow row, Veil veil, ForgottenRow? forgotten)
    {
        var body = LedgerText.Open(row.Body, row.Held);
        var gone = body.TryGetProperty("forgotten", out _) ? forgotten : null;
        return new(
            row.Id,
            row.At.ToInstant(),
            row.Actor,
            row.Kind,
            row.PersonId,
            row.RequestId,
            row.Position,
            veil.Over(body),
            gone?.At.ToInstant(),
            gone?.Rule
        );
    }

    private static string KeyOf(string publicKey)
    {
        try
        {
            return LedgerKey.IdOf(publicKey);
        }
        catch (FormatException)
        {
            return "unreadable";
        }
    }
}

/// <summary>Reading the ledger: pages, entries with their proofs, and exports that verify without the service.</summary>
public sealed class LedgerDesk(Store.Store store, Sight sight, SigningKey key)
{
    public Task<Page<LedgerEntryView>> PageAsync(
        ClaimsPrincipal user,
        string person,
        string request,
        string kind,
        string actor,
        string? after,
        int? limit,
        CancellationToken cancel
    )
    {
        var size = Paging.Limit(limit);
        var before =
            after is null ? long.MaxValue
            : long.TryParse(after, NumberStyles.None, CultureInfo.InvariantCulture, out var n) ? n
            : throw Problem.Invalid("The cursor 'after' is the 'next' of the page before.", "after");
        return store.ReadAsync(
            async s =>
            {
                var (real, asked) = await NamedAsync(s, person, request);
                var rows = await s.LedgerPageAsync(real, asked, kind, before, size + 1, actor, ReachOf(user));
                return new Page<LedgerEntryView>(
                    await ViewsAsync(s, user, [.. rows.Take(size)], cancel),
                    rows.Count > size ? rows[size - 1].Entry.ToString(CultureInfo.InvariantCulture) : null
                );
            },
            cancel
        );
    }

    /// <summary>The ids of whom and what is asked about; a name that is nobody's stays, and finds nothing.</summary>
    private static async Task<(string Person, string Request)> NamedAsync(Session s, string person, string request) =>
        ((await s.FindPersonAsync(person))?.Id ?? person, (await s.FindRequestAsync(request))?.Id ?? request);

    private static IReadOnlyList<(IReadOnlyList<string> Sites, IReadOnlyList<string> Departments)>? ReachOf(ClaimsPrincipal user) =>
        user.ReachOf(Roles.Auditor, Roles.Engineer) is { } parts ? [.. parts.Select(p => (p.Sites, p.Departments))] : null;

    private async Task<IReadOnlyList<LedgerEntryView>> ViewsAsync(
        Session s,
        ClaimsPrincipal user,
        IReadOnlyList<LedgerRow> rows,
        CancellationToken cancel
    )
    {
        var ids = rows.Select(r => r.PersonId).OfType<string>().Distinct().ToList();
        var people = (await s.PeopleByIdAsync(ids)).ToDictionary(p => p.Id);
        var forgotten = (await s.ForgottenAsync(ids)).ToDictionary(f => f.PersonId);
        var veils = new Dictionary<string, Veil>(StringComparer.Ordinal);
        var views = new List<LedgerEntryView>(rows.Count);
        foreach (var row in rows)
        {
            var id = row.PersonId ?? "";
            if (!veils.TryGetValue(id, out var veil))
                veils[id] = veil = await sight.OverAsync(s, user, people.GetValueOrDefault(id), false, cancel);
            views.Add(LedgerViews.View(row, veil, forgotten.GetValueOrDefault(id)));
        }
        return views;
    }

    public Task<LedgerProof> ProofAsync(string id, ClaimsPrincipal user, CancellationToken cancel) =>
        store.ReadAsync(
            async s =>
            {
                var row = await s.LedgerEntryAsync(id) ?? throw NoEntry(id);
                if (
                    ReachOf(user) is not null
                    && (row.PersonId is null || await s.PersonAsync(row.PersonId) is not { } person || !ReachRule.Sees(user, person))
                )
                    throw NoEntry(id);
                if (row.Position is not { } position)
                    throw Problem.Conflict("not-sealed", "The entry is not sealed yet; it is within a moment.");
                var (tree, head) = await TreeAsync(s, cancel);
                var proof = tree.InclusionProof((int)position, (int)head.Size);
                var holds =
                    Merkle.VerifyInclusion(Merkle.Leaf(row.Body), position, head.Size, proof, Convert.FromHexString(head.Root))
                    && LedgerKey.Fault(key.Ring, head) is null;
                return new LedgerProof(
                    (await ViewsAsync(s, user, [row], cancel))[0],
                    row.Body,
                    [.. proof.Select(Convert.ToHexStringLower)],
                    LedgerViews.View(head),
                    holds
                );
            },
            cancel
        );

    private static Problem NoEntry(string id) => Problem.NotFound($"ledger entry '{id}'", "See 'oikonom ledger list'.");

    private async Task<(MerkleTree Tree, SignedHead Head)> TreeAsync(Session s, CancellationToken cancel)
    {
        var head = await s.LastHeadAsync() ?? throw Problem.Conflict("not-sealed", "Nothing is sealed yet.");
        var leaves = new List<byte[]>();
        await s.EachLeafAsync((_, hash) => leaves.Add(hash), cancel);
        if (leaves.Count < head.Size)
            throw Problem.Conflict(
                "not-sound",
                $"The newest head speaks of {head.Size} entries, and {leaves.Count} are there. Verify the ledger."
            );
        return (new(leaves), LedgerViews.HeadOf(head, key.Ring));
    }

    /// <summary>The heads that were published before, and those asked for, with the proof that the log only grew since.</summary>
    private async Task<IReadOnlyList<EarlierHead>> EarlierAsync(Session s, MerkleTree tree, long size, IReadOnlyList<long> from)
    {
        var heads = (await s.HeadsAsync()).ToDictionary(h => h.Size);
        var published = (await s.LedgerPageAsync("", "", HeadLoop.Kind, long.MaxValue, 5000)).Select(r =>
            LedgerText.Open(r.Body, r.Held).GetProperty("size").GetInt64()
        );
        return
        [
            .. published
                .Concat(from)
                .Where(n => n < size && heads.ContainsKey(n))
                .Distinct()
                .Order()
                .Select(n => new EarlierHead(
                    LedgerViews.HeadOf(heads[n], key.Ring),
                    [.. tree.ConsistencyProof((int)n, (int)size).Select(Convert.ToHexStringLower)]
                )),
        ];
    }

    /// <summary>Writes lines of JSON while it reads: the header, then each entry with its proof and what is held of its values.</summary>
    public async Task ExportAsync(
        HttpResponse response,
        ClaimsPrincipal user,
        string person,
        string request,
        IReadOnlyList<long> from,
        CancellationToken cancel
    )
    {
        await store.ReadAsync(
            async s =>
            {
                var (tree, head) = await TreeAsync(s, cancel);
                var (id, asked) = await NamedAsync(s, person, request);
                var whole = id.Length == 0 && asked.Length == 0;
                var earlier = await EarlierAsync(s, tree, head.Size, from);
                response.ContentType = "application/x-ndjson";
                response.Headers.ContentDisposition = "attachment; filename=\"ledger.ndjson\"";
                await WriteAsync(response, new ExportHeader(ExportHeader.Version, head, key.Ring, earlier, whole), cancel);
                var veils = new Dictionary<string, Veil>(StringComparer.Ordinal);
                for (var position = 0L; position < head.Size; )
                {
                    var rows = await s.SealedFromAsync(position, 1000);
                    if (rows.Count == 0)
                        break;
                    foreach (
                        var row in rows.Where(r =>
                            r.Position < head.Size
                            && (whole || (id.Length > 0 && r.PersonId == id) || (asked.Length > 0 && r.RequestId == asked))
                        )
                    )
                    {
                        var about = row.PersonId ?? "";
                        if (!veils.TryGetValue(about, out var veil))
                            veils[about] = veil = await sight.OverAsync(
                                s,
                                user,
                                about.Length > 0 ? await s.PersonAsync(about) : null,
                                false,
                                cancel
                            );
                        await WriteAsync(
                            response,
                            new ExportEntry(
                                row.Position!.Value,
                                row.Body,
                                Shown(row, veil),
                                [.. tree.InclusionProof((int)row.Position.Value, (int)head.Size).Select(Convert.ToHexStringLower)]
                            ),
                            cancel
                        );
                    }
                    position = rows[^1].Position!.Value + 1;
                }
                return true;
            },
            cancel
        );
    }

    /// <summary>The values of an entry that the caller may see whole: one that is covered in part is left out, as if it were
    /// forgotten.</summary>
    private static Dictionary<string, SaltedValue>? Shown(LedgerRow row, Veil veil)
    {
        var values = LedgerText.ValuesOf(row.Held);
        if (values.Count == 0)
            return null;
        var open = LedgerText.Open(row.Body, row.Held);
        var over = veil.Over(open);
        return values
            .Where(v =>
                veil.IsClear
                || over.GetProperty(v.Key).GetRawText() == open.GetProperty(v.Key).GetRawText()
                || !v.Value.Value.Contains('{', StringComparison.Ordinal)
            )
            .ToDictionary(v => v.Key, v => v.Value);
    }

    private static async Task WriteAsync<T>(HttpResponse response, T line, CancellationToken cancel)
    {
        await response.WriteAsync(JsonSerializer.Serialize(line, JsonSerializerOptions.Web), cancel);
        await response.WriteAsync("\n", cancel);
    }
}
