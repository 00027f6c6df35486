using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Oikonom.Contracts;
using static Oikonom.Cli.IntakeCommands;

namespace Oikonom.Cli;

/// <summary>Sources that send by themselves: a batch by hand, their tokens, and what is written back to them.</summary>
internal static class IntakePushCommands
{
    public static IEnumerable<Command> All() => [Post(), WriteBacks(), Token(), Tokens(), EndToken()];

    private static Command Post()
    {
        var source = Name();
        var file = new Argument<string>("file") { Description = "a JSON file with one record or a list of records; - for standard input" };
        return Commands.Make(
            "post",
            "Posts records to a source of the kind post, and says what became of each.",
            "oikonom intake post volunteers records.json",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var path = parsed.GetValue(file)!;
                if (path != "-" && !File.Exists(path))
                    throw new CliFault(Exit.Usage, $"'{path}' is no file.");
                JsonElement json;
                try
                {
                    json = JsonSerializer.Deserialize<JsonElement>(
                        path == "-" ? await Console.In.ReadToEndAsync(cancel) : await File.ReadAllTextAsync(path, cancel)
                    );
                }
                catch (JsonException error)
                {
                    throw new CliFault(Exit.Usage, $"'{path}' is no sound JSON: {error.Message}");
                }
                var records = json.ValueKind == JsonValueKind.Array ? json.EnumerateArray().ToList() : [json];
                var (answer, raw) = await service.PostAsync<RecordsAnswer>(
                    At(parsed.GetValue(source)!, "/records"),
                    new RecordsBody(records),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Record", "Key", "Became", "Request", "Problem"],
                    answer.Records.Select(r =>
                        (IReadOnlyList<string>)[Text(r.Index + 1), r.Key, r.Kind ?? r.Status, r.Request ?? "", r.Problem?.Reason ?? ""]
                    ),
                    ""
                );
                return answer.Records.Any(r => r.Status is "set-aside" or "held") ? Exit.Refused : Exit.Good;
            },
            source,
            file
        );
    }

    private static Command WriteBacks()
    {
        var source = Name();
        return Commands.Make(
            "write-backs",
            "Lists what was written back to a source, and what waits.",
            "oikonom intake write-backs hr-service",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<WriteBackView>>(At(parsed.GetValue(source)!, "/write-backs"), cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Record", "Fields", "State", "Attempts", "Problem"],
                    page.Items.Select(w =>
                        (IReadOnlyList<string>)
                            [
                                w.Key,
                                string.Join(", ", w.Fields.Select(f => $"{f.Name}={f.Value}")),
                                w.State,
                                Text(w.Attempts),
                                w.Problem ?? "",
                            ]
                    ),
                    "Nothing was written back."
                );
                return Exit.Good;
            },
            source
        );
    }

    private static Command Token()
    {
        var source = Name();
        var label = new Option<string?>("--label") { Description = "what it is for" };
        var days = new Option<int>("--days") { Description = "how long it is valid", DefaultValueFactory = _ => 180 };
        return Commands.Make(
            "token",
            "Makes a token for a source that pushes by SCIM; it is shown once. Two may be valid at once.",
            "oikonom intake token partners --label push --days 90",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (token, raw) = await service.PostAsync<IssuedToken>(
                    At(parsed.GetValue(source)!, "/tokens"),
                    new SourceTokenBody(parsed.GetValue(label), parsed.GetValue(days)),
                    cancel
                );
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Line(token.Token);
                Show.Line($"It is valid until {Show.At(token.ExpiresAt)} and is not shown again.");
                return Exit.Good;
            },
            source,
            label,
            days
        );
    }

    private static Command Tokens()
    {
        var source = Name();
        return Commands.Make(
            "tokens",
            "Lists the tokens of a source.",
            "oikonom intake tokens partners",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                var (page, raw) = await service.GetAsync<Page<SourceToken>>(At(parsed.GetValue(source)!, "/tokens"), cancel);
                if (Commands.IsJson(parsed))
                    return Show.Json(raw);
                Show.Table(
                    ["Id", "Label", "Made by", "Made", "Valid until", "Ended"],
                    page.Items.Select(t =>
                        (IReadOnlyList<string>)
                            [t.Id, t.Label, t.Actor, Show.At(t.CreatedAt), Show.At(t.ExpiresAt), t.EndedAt is { } end ? Show.At(end) : ""]
                    ),
                    "It has no token."
                );
                return Exit.Good;
            },
            source
        );
    }

    private static Command EndToken()
    {
        var source = Name();
        var id = new Argument<string>("token") { Description = "id of the token" };
        return Commands.Make(
            "end-token",
            "Ends a token of a source at once.",
            "oikonom intake end-token partners 01a2…",
            async (parsed, cancel) =>
            {
                using var service = new Service();
                await service.DeleteAsync(At(parsed.GetValue(source)!, $"/tokens/{Uri.EscapeDataString(parsed.GetValue(id)!)}"), cancel);
                Show.Line("The token is ended.");
                return Exit.Good;
            },
            source,
            id
        );
    }
}
