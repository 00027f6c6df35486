using System.Text.Json;
using Oikonom.Core.Expressions;
using Oikonom.Core.Ledger;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Core.Time;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Sources;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Intake;

/// <summary>Runs the sources that are switched on, each by its schedule; of several nodes one takes each run.</summary>
public sealed partial class SourceLoop(
    Store.Store store,
    EditionBook editions,
    IntakeRunner runner,
    TimeProvider time,
    Pulse pulse,
    ILogger<SourceLoop> log
) : Loop(TimeSpan.FromSeconds(5), pulse, log)
{
    public const string Actor = "schedule";

    /// <summary>A large first load takes its time.</summary>
    protected override TimeSpan Patience => TimeSpan.FromMinutes(30);

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        var due = await store.ReadAsync(s => s.DueSourcesAsync(time.Milliseconds()), cancel);
        if (due.Count == 0 || await editions.CurrentOrNullAsync(cancel) is not { } edition)
            return false;
        await EachAsync(
            due,
            async state =>
            {
                var source = edition.Rulebook.Sources.GetValueOrDefault(state.Source);
                var next = source?.Schedule?.Next(time.GetUtcNow())?.ToUnixTimeMilliseconds();
                if (!await store.WriteAsync(s => s.ClaimSourceAsync(state.Source, state.NextAt!.Value, next), cancel) || source is null)
                    return;
                var problem = "";
                try
                {
                    await runner.RunAsync(
                        new(source.Name, source.Http is { Since.Length: > 0 } && state.Since.Length > 0 ? "changes" : "full", false, Actor),
                        cancel
                    );
                }
                catch (Exception error) when (error is SourceFault or Problem)
                {
                    problem = error.Message;
                    LogFailed(log, source.Name, error.Message);
                }
                await store.WriteAsync(
                    async s =>
                    {
                        if (await s.SourceStateAsync(source.Name) is { } now)
                            await s.SaveSourceStateAsync(now with { Problem = problem });
                    },
                    cancel
                );
            },
            (state, error) =>
                store.WriteAsync(
                    async s =>
                    {
                        if (await s.SourceStateAsync(state.Source) is { } now)
                            await s.SaveSourceStateAsync(now with { Problem = error.Message });
                    },
                    cancel
                )
        );
        return false;
    }

    [LoggerMessage(Level = LogLevel.Warning, Message = "The scheduled run of {Source} failed: {Problem}")]
    private static partial void LogFailed(ILogger log, string source, string problem);
}

/// <summary>Writes to sources what was decided here, such as user name and mail address; tried again like any step.</summary>
public sealed partial class WriteBackLoop(
    Store.Store store,
    EditionBook editions,
    SourceOpener opener,
    TimeProvider time,
    Pulse pulse,
    ILogger<WriteBackLoop> log
) : Loop(TimeSpan.FromSeconds(3), pulse, log)
{
    private const int Batch = 50;
    private const int MaxAttempts = 20;
    private static readonly TimeSpan Lease = TimeSpan.FromMinutes(2);

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        var now = time.Milliseconds();
        if (!await store.ReadAsync(s => s.AnyWriteBackAsync(now), cancel))
            return false;
        var claimed = await store.WriteAsync(s => s.ClaimWriteBacksAsync(now, now + (long)Lease.TotalMilliseconds, Batch), cancel);
        var edition = await editions.CurrentAsync(cancel);
        await EachAsync(claimed.GroupBy(w => w.Source), group => WriteAsync(edition, group.Key, [.. group], cancel));
        return claimed.Count == Batch;
    }

    private async Task WriteAsync(Edition edition, string name, IReadOnlyList<WriteBackRow> rows, CancellationToken cancel)
    {
        try
        {
            if (edition.Rulebook.Sources.GetValueOrDefault(name) is not { Kind: SourceKind.Http } source)
                throw new SourceFault($"The rulebook has no source '{name}' that takes write-backs.");
            using var http = await opener.HttpAsync(source, cancel);
            foreach (var row in rows)
            {
                try
                {
                    await http.WriteBackAsync(row.RecordKey, row.Fields, cancel);
                    await store.WriteAsync(
                        async s =>
                        {
                            await s.WroteBackAsync(row.Id, time.Milliseconds());
                            s.Record(
                                LedgerEntry.Of(
                                    time.GetUtcNow(),
                                    "oikonom",
                                    "source.written-back",
                                    row.PersonId,
                                    null,
                                    ("source", name),
                                    ("record", row.RecordKey),
                                    ("fields", JsonSerializer.Deserialize<JsonElement>(row.Fields))
                                )
                            );
                            s.Tell("sources", name);
                        },
                        cancel
                    );
                }
                catch (SourceFault fault)
                {
                    await FailAsync(row, fault, cancel);
                }
            }
        }
        catch (SourceFault fault)
        {
            foreach (var row in rows)
                await FailAsync(row, fault, cancel);
        }
    }

    private async Task FailAsync(WriteBackRow row, SourceFault fault, CancellationToken cancel)
    {
        LogFailed(log, row.Source, row.RecordKey, fault.Message);
        var again = row.Attempts + 1 < MaxAttempts ? time.Milliseconds() + BackOff.ForWork.Milliseconds(row.Attempts + 2) : (long?)null;
        await store.WriteAsync(s => s.WriteBackFailedAsync(row.Id, again, fault.Message), cancel);
    }

    /// <summary>What is written back of a person: the fields of the source's rule, from the names and attributes of the accounts.</summary>
    public static IReadOnlyDictionary<string, string> FieldsOf(SourceRule source, Recorded recorded, string person, Edition edition)
    {
        var rulebook = edition.Rulebook;
        var subject = recorded.Subject(person, edition);
        var scope = new Scope(rulebook.AccountNames);
        recorded.Facts(person, edition).Fill(scope, rulebook.AccountNames);
        foreach (var (name, slot) in rulebook.AccountNames.Slots)
        {
            if (name.StartsWith("pool.", StringComparison.Ordinal))
                scope[slot.Index] = Value.Of(subject.Numbers.GetValueOrDefault(name[5..], ""));
            else if (name.StartsWith("names.", StringComparison.Ordinal))
                scope[slot.Index] = Value.Of(subject.AccountNames.GetValueOrDefault(name[6..], ""));
            else if (AccountIds.TargetOf(name) is { } of)
                scope[slot.Index] = Value.Of(subject.AccountIds.GetValueOrDefault(of, ""));
            else if (name == "account.name")
                scope[slot.Index] = Value.Of(subject.AccountNames.FirstOrDefault(n => n.Key.IsOrdinary).Value ?? "");
            else if (name == "account.former")
                scope[slot.Index] = Value.Of([
                    .. subject.FormerNames.Where(n => n.Key.IsOrdinary).SelectMany(n => n.Value).Distinct().Select(Value.Of),
                ]);
        }
        var fields = new Dictionary<string, string>();
        foreach (var field in source.WriteBack)
        {
            try
            {
                if (field.Expression.Evaluate(scope).ToString() is { Length: > 0 } text)
                    fields[field.Name] = text;
            }
            catch (ExpressionFault fault)
            {
                throw new PlanFault($"The write-back '{field.Name}' ({field.Place}) cannot be computed: {fault.Message}");
            }
        }
        return fields;
    }

    [LoggerMessage(Level = LogLevel.Warning, Message = "Writing back {Record} to {Source} failed: {Problem}")]
    private static partial void LogFailed(ILogger log, string source, string record, string problem);
}
