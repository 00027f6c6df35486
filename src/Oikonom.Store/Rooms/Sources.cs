using Oikonom.Core.Intake;

namespace Oikonom.Store.Rooms;

/// <summary>Where a source stands.</summary>
public sealed record SourceStateRow
{
    /// <summary>The name of the source in the rulebook.</summary>
    public string Source { get; init; } = "";

    /// <summary>1 while it counts, else 0.</summary>
    public long Active { get; init; }

    /// <summary>The user who did it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>When it changed last, in milliseconds since 1970 (UTC).</summary>
    public long ChangedAt { get; init; }

    /// <summary>When it was tested, in milliseconds since 1970 (UTC); null when it never was.</summary>
    public long? TestedAt { get; init; }

    /// <summary>What the test came to, in words.</summary>
    public string TestOutcome { get; init; } = "";

    /// <summary>What the test was made of: a changed rule needs a new test.</summary>
    public string TestedRule { get; init; } = "";

    /// <summary>When it is looked at next, in milliseconds since 1970 (UTC); null when never.</summary>
    public long? NextAt { get; init; }

    /// <summary>How far changes were read: a time, or the name of the last file.</summary>
    public string Since { get; init; } = "";

    /// <summary>What is wrong with it, in words; "" when nothing is.</summary>
    public string Problem { get; init; } = "";
}

/// <summary>A run that the brake holds.</summary>
public sealed class HeldRunRow
{
    /// <summary>The run of the intake it came with.</summary>
    public string RunId { get; init; } = "";

    /// <summary>The name of the source in the rulebook.</summary>
    public string Source { get; init; } = "";

    /// <summary>SHA-256 of what it covers, in lower-case hexadecimal.</summary>
    public string Digest { get; init; } = "";

    /// <summary>Why, in words.</summary>
    public string Why { get; init; } = "";

    /// <summary>The requests it would raise, as JSON.</summary>
    public string Raises { get; init; } = "[]";

    /// <summary>Where it stands.</summary>
    public HeldState State { get; init; }

    /// <summary>The user who did it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>When, in milliseconds since 1970 (UTC).</summary>
    public long At { get; init; }

    /// <summary>When it was decided, in milliseconds since 1970 (UTC); null while it is open.</summary>
    public long? DecidedAt { get; init; }
}

/// <summary>A token by which a source pushes.</summary>
public sealed class SourceTokenRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The name of the source in the rulebook.</summary>
    public string Source { get; init; } = "";

    /// <summary>SHA-256 of the value, in lower-case hexadecimal; the value itself is not kept.</summary>
    public string Hash { get; init; } = "";

    /// <summary>What its owner calls it.</summary>
    public string Label { get; init; } = "";

    /// <summary>The user who did it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>When it was made, in milliseconds since 1970 (UTC).</summary>
    public long CreatedAt { get; init; }

    /// <summary>When it is over, in milliseconds since 1970 (UTC).</summary>
    public long ExpiresAt { get; init; }

    /// <summary>When it ended, in milliseconds since 1970 (UTC); null while it holds.</summary>
    public long? EndedAt { get; init; }

    /// <summary>1 when the source of the token is switched on.</summary>
    public long Active { get; init; }
}

/// <summary>What a source is told of what was decided here.</summary>
public sealed class WriteBackRow
{
    /// <summary>Its id, in the order of time.</summary>
    public long Id { get; init; }

    /// <summary>The name of the source in the rulebook.</summary>
    public string Source { get; init; } = "";

    /// <summary>The key of the record in its source.</summary>
    public string RecordKey { get; init; } = "";

    /// <summary>The id of the person it is about.</summary>
    public string PersonId { get; init; } = "";

    /// <summary>The fields with their values, as JSON.</summary>
    public string Fields { get; init; } = "{}";

    /// <summary>When it is due, in milliseconds since 1970 (UTC).</summary>
    public long? DueAt { get; init; }

    /// <summary>How often it was tried without success.</summary>
    public long Attempts { get; init; }

    /// <summary>What is wrong with it, in words; "" when nothing is.</summary>
    public string Problem { get; init; } = "";

    /// <summary>When it was made, in milliseconds since 1970 (UTC).</summary>
    public long CreatedAt { get; init; }

    /// <summary>When it was done, in milliseconds since 1970 (UTC); null while it is not.</summary>
    public long? DoneAt { get; init; }
}

/// <summary>What sources are doing: switched on or not, held runs, their tokens, and what is written back to them.</summary>
public static class SourceTables
{
    private const string StateColumns = "source, active, actor, changed_at, tested_at, test_outcome, tested_rule, next_at, since, problem";

    /// <summary>Where a source stands; null when it never ran.</summary>
    public static Task<SourceStateRow?> SourceStateAsync(this Session session, string source) =>
        session.FirstAsync<SourceStateRow>($"SELECT {StateColumns} FROM source_states WHERE source=@source", new { source });

    /// <summary>Notes where a source stands.</summary>
    public static Task SaveSourceStateAsync(this Session session, SourceStateRow row) =>
        session.ExecuteAsync(
            $"INSERT INTO source_states ({StateColumns}) VALUES (@Source, @Active, @Actor, @ChangedAt, @TestedAt, @TestOutcome, "
                + "@TestedRule, @NextAt, @Since, @Problem) "
                + "ON CONFLICT (source) DO UPDATE SET active=excluded.active, actor=excluded.actor, "
                + "changed_at=excluded.changed_at, tested_at=excluded.tested_at, test_outcome=excluded.test_outcome, "
                + "tested_rule=excluded.tested_rule, next_at=excluded.next_at, since=excluded.since, problem=excluded.problem",
            row
        );

    /// <summary>Sources whose schedule is due.</summary>
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

    /// <summary>Notes up to where a source was read.</summary>
    public static Task SetSinceAsync(this Session session, string source, string since) =>
        session.ExecuteAsync(
            "INSERT INTO source_states (source, active, actor, changed_at, test_outcome, tested_rule, since, problem) VALUES "
                + "(@source, 0, '', 0, '', '', @since, '') ON CONFLICT (source) DO UPDATE SET since=excluded.since",
            new { source, since }
        );

    /// <summary>The runs that are held.</summary>
    public static Task<IReadOnlyList<string>> HeldRunIdsAsync(this Session session) =>
        session.QueryAsync<string>("SELECT run_id FROM held_runs WHERE state='held' ORDER BY at DESC LIMIT 20");

    /// <summary>Holds a run.</summary>
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

    /// <summary>A held run; null when there is none.</summary>
    public static Task<HeldRunRow?> HeldAsync(this Session session, string run) =>
        session.FirstAsync<HeldRunRow>(
            "SELECT run_id, source, digest, why, raises, state, actor, at, decided_at FROM held_runs WHERE run_id=@run",
            new { run }
        );

    /// <summary>The held runs of a source.</summary>
    public static Task<IReadOnlyList<HeldRunRow>> HeldOfAsync(this Session session, string source) =>
        session.QueryAsync<HeldRunRow>(
            "SELECT run_id, source, digest, why, raises, state, actor, at, decided_at FROM held_runs WHERE (@source='' OR "
                + "source=@source) AND state='held' ORDER BY at DESC",
            new { source }
        );

    /// <summary>Lets a held run pass, or drops it. False when somebody did in between.</summary>
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

    /// <summary>Adds a token of a source.</summary>
    public static Task AddSourceTokenAsync(this Session session, SourceTokenRow row) =>
        session.ExecuteAsync(
            "INSERT INTO source_tokens (id, source, hash, label, actor, created_at, expires_at) VALUES (@Id, @Source, @Hash, "
                + "@Label, @Actor, @CreatedAt, @ExpiresAt)",
            row
        );

    /// <summary>A token by the hash of its value; null when there is none.</summary>
    public static Task<SourceTokenRow?> SourceTokenAsync(this Session session, string hash) =>
        session.FirstAsync<SourceTokenRow>(
            "SELECT t.id, t.source, t.hash, t.label, t.actor, t.created_at, t.expires_at, t.ended_at, COALESCE(s.active, 0) AS "
                + "active FROM source_tokens t LEFT JOIN source_states s ON s.source=t.source WHERE t.hash=@hash",
            new { hash }
        );

    /// <summary>The tokens of a source.</summary>
    public static Task<IReadOnlyList<SourceTokenRow>> SourceTokensAsync(this Session session, string source) =>
        session.QueryAsync<SourceTokenRow>(
            "SELECT id, source, '' AS hash, label, actor, created_at, expires_at, ended_at FROM source_tokens WHERE "
                + "source=@source ORDER BY created_at",
            new { source }
        );

    /// <summary>Ends a token. False when there is none.</summary>
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

    /// <summary>Keeps what a call was answered, under its key.</summary>
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

    /// <summary>Drops an answer that was to come.</summary>
    public static Task DropAnswerAsync(this Session session, string actor, string key) =>
        session.ExecuteAsync("DELETE FROM answers WHERE actor=@actor AND idempotency_key=@key AND answer=''", new { actor, key });

    /// <summary>Drops answers from before an instant.</summary>
    public static Task PruneAnswersAsync(this Session session, long before) =>
        session.ExecuteAsync("DELETE FROM answers WHERE at<@before", new { before });

    /// <summary>Adds what a source is to be told; of a record that waits the newer counts.</summary>
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

    /// <summary>True when a source is to be told something: asked before claiming.</summary>
    public static Task<bool> AnyWriteBackAsync(this Session session, long now) =>
        session.ScalarAsync<bool>("SELECT EXISTS (SELECT 1 FROM write_backs WHERE due_at<=@now AND lease_until<=@now)", new { now });

    /// <summary>Claims what is due, for a lease.</summary>
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

    /// <summary>Notes that a source was told.</summary>
    public static Task WroteBackAsync(this Session session, long id, long now) =>
        session.ExecuteAsync("UPDATE write_backs SET done_at=@now, due_at=NULL, problem='' WHERE id=@id", new { id, now });

    /// <summary>Notes that a source was not told, and when it is tried again.</summary>
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

    /// <summary>What a source is told or was, the newest first.</summary>
    public static Task<IReadOnlyList<WriteBackRow>> WriteBacksOfAsync(this Session session, string source, int limit) =>
        session.QueryAsync<WriteBackRow>(
            "SELECT id, source, record_key, person_id, fields, due_at, attempts, problem, created_at, done_at FROM write_backs "
                + "WHERE source=@source ORDER BY id DESC LIMIT @limit",
            new { source, limit }
        );
}

/// <summary>A number of a pool that somebody has.</summary>
public sealed record PoolNumberRow(string Pool, long Number, string PersonId, long At);

/// <summary>Numbers given out, each to one person.</summary>
public static class PoolTables
{
    /// <summary>The numbers of pools that some people have.</summary>
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
