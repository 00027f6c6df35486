using System.Globalization;
using System.Security.Claims;
using System.Text.Json;
using Oikonom.Contracts;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Fulfilment;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.People;

/// <summary>
/// What happened to a person or in a request, in plain words: each line is one ledger entry, with who did it, for
/// whom, and each attribute before and after.
/// </summary>
public static class History
{
    private const int MaxExport = 50_000;

    private static readonly Dictionary<string, string> Words = new(StringComparer.Ordinal)
    {
        ["request.raised"] = "Request raised",
        ["request.planned"] = "Plan made",
        ["request.planned-anew"] = "Sent back to be planned",
        ["request.stage-skipped"] = "Stage skipped",
        ["request.cannot-plan"] = "No plan could be made",
        ["request.ambiguous"] = "Several existing entries match",
        ["request.chosen"] = "Existing entry chosen",
        ["request.retried"] = "Let try again",
        ["request.struck"] = "Items taken out",
        ["request.asked"] = "Asked back",
        ["person.changed"] = "Record changed",
        ["input.ended"] = "No longer set by hand",
        ["password.handed-over"] = "Password handed over",
        ["step.failed"] = "Failed, is tried again",
        ["step.stopped"] = "Stopped",
        ["step.dropped"] = "No longer wanted",
        ["step.late"] = "An outcome came too late and was not counted",
        ["account.gone"] = "Its entry is not in the target any more",
        ["account.differs"] = "Changed outside",
        ["account.as-left"] = "As it was left again",
        ["account.left"] = "May stay as it is",
        ["person.looked-at"] = "Accounts looked at",
        ["number.reserved"] = "Number reserved",
        ["task.made"] = "Work by hand is to be done",
        ["task.evidence"] = "Evidence added",
        ["source.written-back"] = "Written back to the source",
    };

    public static void MapHistory(this RouteGroupBuilder api)
    {
        api.MapGet(
                "/people/{id}/history",
                async (
                    string id,
                    Store.Store store,
                    Sight sight,
                    ClaimsPrincipal user,
                    CancellationToken cancel,
                    string? after,
                    int? limit
                ) => await PageAsync(store, sight, user, await PersonAsync(store, user, id, cancel), "", after, limit, cancel)
            )
            .WithName("personHistory")
            .WithSummary("What happened to a person, newest first: each ledger entry in words, with who, for whom, before and after.")
            .RequireAuthorization("read")
            .Reaching(Reached.Person);
        api.MapGet(
                "/people/{id}/history/export",
                async (string id, Store.Store store, Sight sight, ClaimsPrincipal user, CancellationToken cancel) =>
                    await ExportAsync(store, sight, user, await PersonAsync(store, user, id, cancel), "", cancel)
            )
            .WithName("exportPersonHistory")
            .WithSummary("The same as a CSV file, 50,000 lines at most.")
            .RequireAuthorization("read")
            .Reaching(Reached.Person);
        api.MapGet(
                "/requests/{id}/history",
                async (
                    string id,
                    Store.Store store,
                    Sight sight,
                    ClaimsPrincipal user,
                    CancellationToken cancel,
                    string? after,
                    int? limit
                ) => await PageAsync(store, sight, user, "", await RequestAsync(store, user, id, cancel), after, limit, cancel)
            )
            .WithName("requestHistory")
            .WithSummary("What happened in a request, newest first.")
            .RequireAuthorization("read")
            .Reaching(Reached.Request);
        api.MapGet(
                "/requests/{id}/history/export",
                async (string id, Store.Store store, Sight sight, ClaimsPrincipal user, CancellationToken cancel) =>
                    await ExportAsync(store, sight, user, "", await RequestAsync(store, user, id, cancel), cancel)
            )
            .WithName("exportRequestHistory")
            .WithSummary("The same as a CSV file.")
            .RequireAuthorization("read")
            .Reaching(Reached.Request);
    }

    private static Task<string> PersonAsync(Store.Store store, ClaimsPrincipal user, string id, CancellationToken cancel) =>
        store.ReadAsync(async s => (await s.RequirePersonAsync(id)).Id, cancel);

    private static async Task<string> RequestAsync(Store.Store store, ClaimsPrincipal user, string id, CancellationToken cancel)
    {
        var real = await store.RequireRequestIdAsync(id, cancel);
        var row = await store.ReadAsync(s => s.RequestAsync(real), cancel) ?? throw Named.NoRequest(id);
        await PersonAsync(store, user, row.PersonId, cancel);
        return row.Id;
    }

    private static async Task<Page<HistoryLine>> PageAsync(
        Store.Store store,
        Sight sight,
        ClaimsPrincipal user,
        string person,
        string request,
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
        var (rows, told) = await LinesAsync(store, sight, user, person, request, before, size + 1, cancel);
        return new(
            [.. rows.Take(size).Select(told)],
            rows.Count > size ? rows[size - 1].Entry.ToString(CultureInfo.InvariantCulture) : null
        );
    }

    private static async Task<IResult> ExportAsync(
        Store.Store store,
        Sight sight,
        ClaimsPrincipal user,
        string person,
        string request,
        CancellationToken cancel
    )
    {
        var (rows, told) = await LinesAsync(store, sight, user, person, request, long.MaxValue, MaxExport, cancel);
        return Csv.File(
            "history.csv",
            ["at", "actor", "for", "what", "text", "attribute", "before", "after", "request", "edition", "entry"],
            rows.Select(told)
                .SelectMany(l =>
                    (l.Changes.Count == 0 ? [new AttributeChangeView("", [], [])] : l.Changes).Select(c =>
                        (IReadOnlyList<string>)
                            [
                                Core.Ledger.LedgerEntry.Stamp(l.At),
                                l.Actor,
                                l.For ?? "",
                                l.What,
                                l.Text,
                                c.Name,
                                string.Join(" | ", c.Before),
                                string.Join(" | ", c.After),
                                l.RequestNumber?.ToString(CultureInfo.InvariantCulture) ?? "",
                                l.Edition?.ToString(CultureInfo.InvariantCulture) ?? "",
                                l.Entry,
                            ]
                    )
                )
        );
    }

    /// <summary>Entries, and how each is told to the caller.</summary>
    private static Task<(IReadOnlyList<LedgerRow> Rows, Func<LedgerRow, HistoryLine> Told)> LinesAsync(
        Store.Store store,
        Sight sight,
        ClaimsPrincipal user,
        string person,
        string request,
        long before,
        int limit,
        CancellationToken cancel
    ) =>
        store.ReadAsync(
            async s =>
            {
                var rows = await s.LedgerPageAsync(person, request, "", before, limit);
                var numbers = (await s.RequestsByIdAsync([.. rows.Select(r => r.RequestId).OfType<string>().Distinct()])).ToDictionary(
                    r => r.Id,
                    r => r.Number
                );
                var about = person.Length > 0 ? person : rows.Select(r => r.PersonId).OfType<string>().FirstOrDefault() ?? "";
                var veil = await sight.OverAsync(s, user, about.Length > 0 ? await s.PersonAsync(about) : null, request.Length > 0, cancel);
                var forgotten = about.Length > 0 ? await s.ForgottenAsync(about) : null;
                return (rows, (Func<LedgerRow, HistoryLine>)(row => Line(row, numbers, veil, forgotten)));
            },
            cancel
        );

    private static HistoryLine Line(LedgerRow row, IReadOnlyDictionary<string, long> numbers, Veil veil, ForgottenRow? forgotten)
    {
        var body = veil.Over(Core.Ledger.LedgerText.Open(row.Body, row.Held));
        var gone = body.TryGetProperty("forgotten", out _) ? forgotten : null;
        var what = Words.GetValueOrDefault(row.Kind) ?? Plain(row.Kind);
        if (row.Kind.StartsWith("step.", StringComparison.Ordinal) && StepOf(body) is { } step)
            return Told(row.Kind == "step.done" ? step : $"{what}: {char.ToLowerInvariant(step[0])}{step[1..]}{TroubleOf(body)}");
        // The most telling of what the entry says, in this order.
        var said = new[] { "entitlement", "account", "target", "text", "title", "stage", "requestKind", "why", "problem", "remark", "note" }
            .Select(name => Text(body, name))
            .Where(t => t.Length > 0)
            .Distinct(StringComparer.Ordinal)
            .Take(4)
            .ToList();
        return Told(said.Count == 0 ? what : $"{what}: {string.Join(", ", said)}");

        HistoryLine Told(string text) =>
            new(
                row.Id,
                row.At.ToInstant(),
                row.Actor,
                Text(body, "for") is { Length: > 0 } other ? other : null,
                row.Kind,
                text,
                Changes(body),
                row.RequestId,
                row.RequestId is not null && numbers.TryGetValue(row.RequestId, out var number) ? number : null,
                body.TryGetProperty("edition", out var edition) && edition.TryGetInt32(out var e) ? e : null,
                gone?.At.ToInstant(),
                gone?.Rule
            );
    }

    private static string TroubleOf(JsonElement body) => Text(body, "problem") is { Length: > 0 } problem ? $". {problem}" : "";

    /// <summary>What a step did, in a sentence; null when the entry says not what.</summary>
    private static string? StepOf(JsonElement body)
    {
        var (account, target, entitlement) = (Text(body, "account"), Text(body, "target"), Text(body, "entitlement"));
        if (target.Length == 0)
            return null;
        var who = account.Length > 0 ? account : "the person";
        return Text(body, "change") switch
        {
            "create-account" when Text(body, "note") == Outcome.BroughtBack => $"Brought the deleted account {who} back in {target}",
            "create-account" => $"Made the account {who} in {target}",
            "adopt-account" => $"Took over the account {who} in {target}",
            "change-account" => $"Changed the account {who} in {target}",
            "set-password" => $"Set a password nobody knows on {who} in {target}",
            "enable-account" => $"Woke the account {who} in {target}",
            "disable-account" => $"Disabled the account {who} in {target}",
            "grant" => $"Gave {entitlement} in {target} to {who}",
            "revoke" => $"Took {entitlement} in {target} back from {who}",
            "verify" => $"Read {who} back from {target} and compared",
            _ => null,
        };
    }

    /// <summary><c>request.waits-long</c> becomes "Request waits long".</summary>
    private static string Plain(string kind)
    {
        var text = kind.Replace('.', ' ').Replace('-', ' ');
        return char.ToUpperInvariant(text[0]) + text[1..];
    }

    private static string Text(JsonElement body, string name) =>
        body.TryGetProperty(name, out var value) && value.ValueKind == JsonValueKind.String ? value.GetString()! : "";

    /// <summary>What differs by attribute: of the record, or of the account.</summary>
    private static IReadOnlyList<AttributeChangeView> Changes(JsonElement body) =>
        (body.TryGetProperty("changes", out var changes) || body.TryGetProperty("attributes", out changes))
        && changes.ValueKind == JsonValueKind.Array
            ? [.. changes.EnumerateArray().Select(Change).OfType<AttributeChangeView>()]
            : [];

    private static AttributeChangeView? Change(JsonElement one) =>
        one.ValueKind == JsonValueKind.Object && Member(one, "name") is { ValueKind: JsonValueKind.String } name
            ? new(name.GetString()!, Values(one, "before"), Values(one, "after"))
            : null;

    private static IReadOnlyList<string> Values(JsonElement one, string name) =>
        Member(one, name) switch
        {
            { ValueKind: JsonValueKind.String } text => text.GetString() is { Length: > 0 } some ? [some] : [],
            { ValueKind: JsonValueKind.Array } list => [.. list.EnumerateArray().Select(v => v.ToString())],
            _ => [],
        };

    private static JsonElement? Member(JsonElement one, string name) =>
        one.TryGetProperty(name, out var value) || one.TryGetProperty(char.ToUpperInvariant(name[0]) + name[1..], out value) ? value : null;
}
