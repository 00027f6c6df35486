using Oikonom.Core.Intake;

namespace Oikonom.Store.Rooms;

public sealed record SourceStateRow
{
    public string Source { get; init; } = "";
    public long Active { get; init; }
    public string Actor { get; init; } = "";
    public long ChangedAt { get; init; }
    public long? TestedAt { get; init; }
    public string TestOutcome { get; init; } = "";

    /// <summary>What the test was made of: a changed rule needs a new test.</summary>
    public string TestedRule { get; init; } = "";
    public long? NextAt { get; init; }

    /// <summary>How far changes were read: a time, or the name of the last file.</summary>
    public string Since { get; init; } = "";
    public string Problem { get; init; } = "";
}

public sealed class HeldRunRow
{
    public string RunId { get; init; } = "";
    public string Source { get; init; } = "";
    public string Digest { get; init; } = "";
    public string Why { get; init; } = "";
    public string Raises { get; init; } = "[]";
    public HeldState State { get; init; }
    public string Actor { get; init; } = "";
    public long At { get; init; }
    public long? DecidedAt { get; init; }
}

public sealed class SourceTokenRow
{
    public string Id { get; init; } = "";
    public string Source { get; init; } = "";
    public string Hash { get; init; } = "";
    public string Label { get; init; } = "";
    public string Actor { get; init; } = "";
    public long CreatedAt { get; init; }
    public long ExpiresAt { get; init; }
    public long? EndedAt { get; init; }

    /// <summary>1 when the source of the token is switched on.</summary>
    public long Active { get; init; }
}

public sealed class WriteBackRow
{
    public long Id { get; init; }
    public string Source { get; init; } = "";
    public string RecordKey { get; init; } = "";
    public string PersonId { get; init; } = "";
    public string Fields { get; init; } = "{}";
    public long? DueAt { get; init; }
    public long Attempts { get; init; }
    public string Problem { get; init; } = "";
    public long CreatedAt { get; init; }
    public long? DoneAt { get; init; }
}

/// <summary>What sources are doing: switched on or not, held runs, their tokens, and what is written back to them.</summary>
public static class SourceTables
{
    private const string StateColumns = "source, active, actor, changed_at, tested_at, test_outcome, tested_rule, next_at, since, problem";

    public static Task<SourceStateRow?> SourceStateAsync(this Session session, string source) =>
        session.FirstAsync<SourceStateRow>($"SELECT {StateColumns} FROM source_states WHERE source=@source", new { source });

    public static Task SaveSourceStateAsync(this Session session, SourceStateRow row) =>
        session.ExecuteAsync(
            $"INSERT INTO source_states ({StateColumns}) VALUES (@Source, @Active, @Actor, @ChangedAt, @TestedAt, @TestOutcome, "
                + "@TestedRule, @NextAt, @Since, @Problem) "
                + "ON CONFLICT (source) DO UPDATE SET active=excluded.active, actor=excluded.actor, "
                + "changed_at=excluded.changed_at, tested_at=excluded.tested_at, test_outcome=excluded.test_outcome, "
                + "tested_rule=excluded.tested_rule, next_at=excluded.next_at, since=excluded.since, problem=excluded.problem",
            row
        );

    public static Task<IReadOnlyList<SourceStateRow>> DueSourcesAsync(this Session session, long now) =>
        session.QueryAsync<SourceStateRow>($"SELECT {StateColumns} FROM source_states WHERE active=1 AND next_at<=@now", new { now });

    /// <summary>Claims a scheduled run by moving its time on. False when another node was first.</summary>
    public static async Task<bool> ClaimSourceAsync(this Session session, string source, long due, long? next) =>
        await session
            .ExecuteAsync(
                "UPDATE source_states SET next_at=@next WHERE source=@source AND active=1 AND next_at=@due",
                new
                {
                    source,
                    due,
                    next,
                }
            )
            .ConfigureAwait(false) == 1;

    public static Task SetSinceAsync(this Session session, string source, string since) =>
        session.ExecuteAsync(
            "INSERT INTO source_states (source, active, actor, changed_at, test_outcome, tested_rule, since, problem) VALUES "
                + "(@source, 0, '', 0, '', '', @since, '') ON CONFLICT (source) DO UPDATE SET since=excluded.since",
            new { source, since }
        );

    public static Task<IReadOnlyList<string>> HeldRunIdsAsync(this Session session) =>
        session.QueryAsync<string>("SELECT run_id FROM held_runs WHERE state='held' ORDER BY at DESC LIMIT 20");

    public static Task AddHeldAsync(this Session session, HeldRunRow row) =>
        session.ExecuteAsync(
            "INSERT INTO held_runs (run_id, source, digest, why, raises, state, actor, at) VALUES (@RunId, @Source, @Digest, "
                + "@Why, @Raises, 'held', @Actor, @At)",
            row
        );

    /// <summary>Writes anew what a held run would raise, while it waits.</summary>
    public static Task GrowHeldAsync(this Session session, string run, string raises) =>
        session.ExecuteAsync("UPDATE held_runs SET raises=@raises WHERE run_id=@run AND state='held'", new { run, raises });

    /// <summary>How many requests of each kind a source raised since an instant.</summary>
    public static async Task<IReadOnlyDictionary<string, long>> RaisedSinceAsync(this Session session, string source, long since) =>
        (
            await session
                .QueryAsync<(string Kind, long Count)>(
                    "SELECT kind, COUNT(*) AS count FROM requests WHERE source=@source AND created_at>=@since GROUP BY kind",
                    new { source, since }
                )
                .ConfigureAwait(false)
        ).ToDictionary(pair => pair.Kind, pair => pair.Count);

    public static Task<HeldRunRow?> HeldAsync(this Session session, string run) =>
        session.FirstAsync<HeldRunRow>(
            "SELECT run_id, source, digest, why, raises, state, actor, at, decided_at FROM held_runs WHERE run_id=@run",
            new { run }
        );

    public static Task<IReadOnlyList<HeldRunRow>> HeldOfAsync(this Session session, string source) =>
        session.QueryAsync<HeldRunRow>(
            "SELECT run_id, source, digest, why, raises, state, actor, at, decided_at FROM held_runs WHERE (@source='' OR "
                + "source=@source) AND state='held' ORDER BY at DESC",
            new { source }
        );

    public static async Task<bool> DecideHeldAsync(this Session session, string run, HeldEvent what, string actor, long at) =>
        await session
            .ExecuteAsync(
                "UPDATE held_runs SET state=@state, actor=@actor, decided_at=@at WHERE run_id=@run AND state='held'",
                new
                {
                    run,
                    state = EnumText.Of(HeldMachine.Next(HeldState.Held, what)),
                    actor,
                    at,
                }
            )
            .ConfigureAwait(false) == 1;

    /// <summary>A later run of the source makes an earlier held one pointless.</summary>
    public static Task SupersedeHeldAsync(this Session session, string source, string run, long at) =>
        session.ExecuteAsync(
            "UPDATE held_runs SET state=@state, decided_at=@at WHERE source=@source AND state='held' AND run_id<>@run",
            new
            {
                state = EnumText.Of(HeldMachine.Next(HeldState.Held, HeldEvent.Supersede)),
                source,
                run,
                at,
            }
        );

    public static Task AddSourceTokenAsync(this Session session, SourceTokenRow row) =>
        session.ExecuteAsync(
            "INSERT INTO source_tokens (id, source, hash, label, actor, created_at, expires_at) VALUES (@Id, @Source, @Hash, "
                + "@Label, @Actor, @CreatedAt, @ExpiresAt)",
            row
        );

    public static Task<SourceTokenRow?> SourceTokenAsync(this Session session, string hash) =>
        session.FirstAsync<SourceTokenRow>(
            "SELECT t.id, t.source, t.hash, t.label, t.actor, t.created_at, t.expires_at, t.ended_at, COALESCE(s.active, 0) AS "
                + "active FROM source_tokens t LEFT JOIN source_states s ON s.source=t.source WHERE t.hash=@hash",
            new { hash }
        );

    public static Task<IReadOnlyList<SourceTokenRow>> SourceTokensAsync(this Session session, string source) =>
        session.QueryAsync<SourceTokenRow>(
            "SELECT id, source, '' AS hash, label, actor, created_at, expires_at, ended_at FROM source_tokens WHERE "
                + "source=@source ORDER BY created_at",
            new { source }
        );

    public static async Task<bool> EndSourceTokenAsync(this Session session, string source, string id, long at) =>
        await session
            .ExecuteAsync(
                "UPDATE source_tokens SET ended_at=@at WHERE id=@id AND source=@source AND ended_at IS NULL",
                new
                {
                    source,
                    id,
                    at,
                }
            )
            .ConfigureAwait(false) == 1;

    /// <summary>Claims a call that is to be done once. False when it was done, is under way, or the key is another call's.</summary>
    public static async Task<bool> ClaimAnswerAsync(this Session session, string actor, string key, string hash, long now, long until) =>
        await session
            .ExecuteAsync(
                "INSERT INTO answers (actor, idempotency_key, request_hash, answer, at, claimed_until) VALUES (@actor, @key, "
                    + "@hash, '', @now, @until) "
                    + "ON CONFLICT (actor, idempotency_key) DO UPDATE SET claimed_until=excluded.claimed_until, at=excluded.at "
                    + "WHERE answers.answer='' AND answers.request_hash=@hash AND answers.claimed_until<=@now",
                new
                {
                    actor,
                    key,
                    hash,
                    now,
                    until,
                }
            )
            .ConfigureAwait(false) == 1;

    /// <summary>The call under a key, with its answer; "" while it is under way.</summary>
    public static Task<(string Hash, string Answer)?> AnswerAsync(this Session session, string actor, string key) =>
        session.FirstAsync<(string, string)?>(
            "SELECT request_hash, answer FROM answers WHERE actor=@actor AND idempotency_key=@key",
            new { actor, key }
        );

    public static Task KeepAnswerAsync(this Session session, string actor, string key, string answer, long at) =>
        session.ExecuteAsync(
            "UPDATE answers SET answer=@answer, at=@at, claimed_until=0 WHERE actor=@actor AND idempotency_key=@key",
            new
            {
                actor,
                key,
                answer,
                at,
            }
        );

    public static Task DropAnswerAsync(this Session session, string actor, string key) =>
        session.ExecuteAsync("DELETE FROM answers WHERE actor=@actor AND idempotency_key=@key AND answer=''", new { actor, key });

    public static Task PruneAnswersAsync(this Session session, long before) =>
        session.ExecuteAsync("DELETE FROM answers WHERE at<@before", new { before });

    public static Task AddWriteBacksAsync(this Session session, IReadOnlyCollection<WriteBackRow> rows) =>
        session.BulkAsync(
            "INSERT INTO write_backs (source, record_key, person_id, fields, due_at, lease_until, attempts, problem, "
                + "created_at) SELECT source, record_key, person_id, fields, created_at, 0, 0, '', created_at FROM {rows} AS x",
            rows,
            ("source", "text"),
            ("record_key", "text"),
            ("person_id", "text"),
            ("fields", "text"),
            ("created_at", "bigint")
        );

    public static Task<bool> AnyWriteBackAsync(this Session session, long now) =>
        session.ScalarAsync<bool>("SELECT EXISTS (SELECT 1 FROM write_backs WHERE due_at<=@now AND lease_until<=@now)", new { now });

    public static Task<IReadOnlyList<WriteBackRow>> ClaimWriteBacksAsync(this Session session, long now, long until, int limit) =>
        session.QueryAsync<WriteBackRow>(
            "UPDATE write_backs SET lease_until=@until WHERE id IN (SELECT id FROM write_backs WHERE due_at<=@now AND "
                + "lease_until<=@now ORDER BY id LIMIT @limit"
                + session.Engine.SkipLocked
                + ") RETURNING id, source, record_key, person_id, fields, attempts, created_at",
            new
            {
                now,
                until,
                limit,
            }
        );

    public static Task WroteBackAsync(this Session session, long id, long now) =>
        session.ExecuteAsync("UPDATE write_backs SET done_at=@now, due_at=NULL, problem='' WHERE id=@id", new { id, now });

    public static Task WriteBackFailedAsync(this Session session, long id, long? dueAt, string problem) =>
        session.ExecuteAsync(
            "UPDATE write_backs SET attempts=attempts+1, lease_until=0, due_at=@dueAt, problem=@problem WHERE id=@id",
            new
            {
                id,
                dueAt,
                problem,
            }
        );

    public static Task<IReadOnlyList<WriteBackRow>> WriteBacksOfAsync(this Session session, string source, int limit) =>
        session.QueryAsync<WriteBackRow>(
            "SELECT id, source, record_key, person_id, fields, due_at, attempts, problem, created_at, done_at FROM write_backs "
                + "WHERE source=@source ORDER BY id DESC LIMIT @limit",
            new { source, limit }
        );
}

public sealed record PoolNumberRow(string Pool, long Number, string PersonId, long At);

/// <summary>Numbers given out, each to one person.</summary>
public static class PoolTables
{
    public static Task<IReadOnlyList<PoolNumberRow>> NumbersOfAsync(this Session session, IReadOnlyCollection<string> people) =>
        session.BulkQueryAsync<PoolNumberRow, object>(
            "SELECT n.pool, n.number, n.person_id, n.at FROM {rows} AS x {join} pool_numbers n ON x.id=n.person_id",
            [.. people.Select(id => new { Id = id })],
            ("id", "text")
        );

    /// <summary>The numbers that anybody has.</summary>
    public static Task<IReadOnlyList<PoolNumberRow>> AllNumbersAsync(this Session session) =>
        session.QueryAsync<PoolNumberRow>("SELECT pool, number, person_id, at FROM pool_numbers WHERE person_id<>''");

    /// <summary>The lowest free number of a range, or null when all are given out.</summary>
    public static async Task<long?> FreeNumberAsync(this Session session, string pool, long first, long last)
    {
        if (
            !await session
                .ScalarAsync<bool>("SELECT EXISTS (SELECT 1 FROM pool_numbers WHERE pool=@pool AND number=@first)", new { pool, first })
                .ConfigureAwait(false)
        )
            return first;
        return await session
            .ScalarAsync<long?>(
                "SELECT MIN(n.number)+1 FROM pool_numbers n WHERE n.pool=@pool AND n.number>=@first AND n.number<@last AND NOT "
                    + "EXISTS (SELECT 1 FROM pool_numbers m WHERE m.pool=n.pool AND m.number=n.number+1)",
                new
                {
                    pool,
                    first,
                    last,
                }
            )
            .ConfigureAwait(false);
    }

    /// <summary>Takes a number for a person. False when somebody else was first.</summary>
    public static async Task<bool> TakeNumberAsync(this Session session, string pool, long number, string person, long at) =>
        await session
            .ExecuteAsync(
                "INSERT INTO pool_numbers (pool, number, person_id, at) VALUES (@pool, @number, @person, @at) ON CONFLICT DO NOTHING",
                new
                {
                    pool,
                    number,
                    person,
                    at,
                }
            )
            .ConfigureAwait(false) == 1;

    /// <summary>Gives numbers back that never reached an account.</summary>
    public static Task ReleaseNumbersAsync(this Session session, string person) =>
        session.ExecuteAsync(
            "DELETE FROM pool_numbers WHERE person_id=@person AND NOT EXISTS (SELECT 1 FROM accounts a WHERE "
                + "a.person_id=pool_numbers.person_id)",
            new { person }
        );
}
