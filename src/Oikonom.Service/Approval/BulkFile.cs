using Oikonom.Contracts;
using Oikonom.Core.Expressions;
using Oikonom.Service.Common;
using Oikonom.Sources;
using Oikonom.Sources.Files;

namespace Oikonom.Service.Approval;

/// <summary>A delimited file (RFC 4180) of requests: the header names the fields, each row is one request.</summary>
public static class BulkFile
{
    private const int MaxRows = 5000;
    private static readonly string[] Fields =
    [
        "kind",
        "person",
        "reason",
        "entitlement",
        "from",
        "until",
        "target",
        "template",
        "lastDay",
        "urgent",
    ];

    public static IReadOnlyList<(int Line, NewRequest? Request, string? Fault)> Read(string text, Core.Rulebook.Rulebook rulebook)
    {
        var rows = Rows(text);
        if (rows.Count < 2)
            throw Problem.Invalid("The file has a header and at least one row.", "csv");
        if (rows.Count > MaxRows + 1)
            throw Problem.Invalid($"The file has {rows.Count - 1} rows; {MaxRows} are the most.", "csv");
        var header = rows[0].Cells.Select(c => c.Trim()).ToList();
        if (header.Find(h => !Fields.Contains(h) && !rulebook.Attributes.TryGet(h, out _)) is { } unknown)
            throw Problem.Invalid(
                $"The column '{unknown}' has no meaning; use {string.Join(", ", Fields)} and "
                    + $"attributes.{Nearest.Hint(unknown, Fields.Concat(rulebook.Attributes.Names))}",
                "csv"
            );
        if (!header.Contains("kind"))
            throw Problem.Invalid("The column 'kind' is missing.", "csv");
        return [.. rows.Skip(1).Select(row => row.Fault is { } fault ? (row.Line, null, fault) : One(row.Line, row.Cells, header))];
    }

    /// <summary>Rows that ask for what an earlier row of the file asks for already are at fault, and name that row.</summary>
    public static IReadOnlyList<(int Line, NewRequest? Request, string? Fault)> WithoutDoubles(
        IReadOnlyList<(int Line, NewRequest? Request, string? Fault)> rows
    )
    {
        var seen = new Dictionary<string, int>(StringComparer.OrdinalIgnoreCase);
        return
        [
            .. rows.Select(row =>
            {
                if (row.Request is not { } request || row.Fault is not null)
                    return row;
                var asks = Asks(request).ToList();
                if (asks.Find(a => seen.ContainsKey(a.Key)) is { Key: { } key, What: var what })
                    return (row.Line, request, $"Row {seen[key]} of this file asks for {what} already.");
                foreach (var ask in asks)
                    seen.TryAdd(ask.Key, row.Line);
                return row;
            }),
        ];
    }

    /// <summary>What a row asks for: two rows with the same key do not run beside each other.</summary>
    private static IEnumerable<(string Key, string What)> Asks(NewRequest request)
    {
        var person =
            request.Person
            ?? string.Join('|', (request.Record ?? new Dictionary<string, string>()).OrderBy(r => r.Key).Select(r => r.Value));
        if (request.Kind is "joiner" or "mover" or "leaver" or "change")
            yield return ($"{person}|whole", "a change of the same person");
        foreach (var grant in request.Grants ?? [])
            yield return ($"{person}|{grant.Entitlement}", grant.Entitlement);
        if (request.Template is { } template)
            yield return ($"{person}|{template}", template);
    }

    private static List<TextRow> Rows(string text)
    {
        try
        {
            return [.. DelimitedText.Rows(text)];
        }
        catch (SourceFault fault)
        {
            throw Problem.Invalid(fault.Message, "csv");
        }
    }

    private static (int, NewRequest?, string?) One(int line, IReadOnlyList<string> cells, List<string> header)
    {
        if (cells.Count != header.Count)
            return (line, null, $"The row has {cells.Count} columns, the header {header.Count}.");
        string? Of(string name) => header.IndexOf(name) is var i and >= 0 && cells[i].Trim() is { Length: > 0 } value ? value : null;
        DateOnly? last = null;
        if (Of("lastDay") is { } day)
        {
            if (!DateOnly.TryParseExact(day, "yyyy-MM-dd", out var read))
                return (line, null, $"'{day}' is no date such as 2026-12-01.");
            last = read;
        }
        var record = header
            .Where(h => !Fields.Contains(h) || h == "person")
            .Where(h => h != "person")
            .Select(h => (h, Value: Of(h)))
            .Where(p => p.Value is not null)
            .ToDictionary(p => p.h, p => p.Value!);
        var grants = Of("entitlement") is { } entitlements
            ? entitlements
                .Split(';', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
                .Select(e => new GrantWish(e, Of("from"), Of("until")))
                .ToList()
            : null;
        return (
            line,
            new(
                Of("kind") ?? "",
                Of("person"),
                Of("reason"),
                record.Count > 0 ? record : null,
                grants,
                Of("target"),
                Of("template"),
                Of("from"),
                Of("until"),
                last,
                Of("urgent") is "yes" or "true"
            ),
            null
        );
    }
}
