using Oikonom.Core.Approval;

namespace Oikonom.Store.Rooms;

/// <summary>Puts people on an edition: one case, carried out in waves.</summary>
public sealed class RolloutRow
{
    /// <summary>Its id, in the order of time.</summary>
    public string Id { get; init; } = "";

    /// <summary>The number people call it by.</summary>
    public long Number { get; init; }

    /// <summary>The number of the edition of the rulebook.</summary>
    public long Edition { get; init; }

    /// <summary>Where it stands.</summary>
    public string State { get; set; } = "";

    /// <summary>Who published the edition, and the second person who agreed or "".</summary>
    public string Author { get; init; } = "";

    /// <summary>Who agreed, or "".</summary>
    public string Agreed { get; init; } = "";

    /// <summary>When it was made, in milliseconds since 1970 (UTC).</summary>
    public long MadeAt { get; init; }

    /// <summary>How many people would differ, how many of them would have less, and for how many nothing would change.</summary>
    public long People { get; init; }

    /// <summary>How many people would have less.</summary>
    public long Losing { get; init; }

    /// <summary>How many are as they were.</summary>
    public long Same { get; init; }

    /// <summary>How many the edition cannot serve.</summary>
    public long Failing { get; init; }

    /// <summary>Gains and losses by template and by entitlement, as JSON.</summary>
    public string Report { get; init; } = "{}";

    /// <summary>Why the brake holds it, or "".</summary>
    public string Brake { get; init; } = "";

    /// <summary>The user who let it pass, or "".</summary>
    public string ReleasedBy { get; set; } = "";

    /// <summary>The wave that began last, from 1 on; 0 before the first.</summary>
    public long Wave { get; set; }

    /// <summary>How many people a wave has.</summary>
    public long WaveSize { get; set; }

    /// <summary>Milliseconds between two waves; null waits for somebody to go on.</summary>
    public long? Pause { get; set; }

    /// <summary>When it is looked at next, in milliseconds since 1970 (UTC); null when never.</summary>
    public long? NextAt { get; set; }

    /// <summary>The wave that is being turned back, or null.</summary>
    public long? Turning { get; set; }

    /// <summary>What is wrong with it, in words; "" when nothing is.</summary>
    public string Problem { get; set; } = "";

    /// <summary>When it changed last, in milliseconds since 1970 (UTC).</summary>
    public long UpdatedAt { get; set; }
}

/// <summary>One person of a roll-out.</summary>
public sealed class RolloutPersonRow
{
    /// <summary>The roll-out it belongs to.</summary>
    public string RolloutId { get; init; } = "";

    /// <summary>The id of the person it is about.</summary>
    public string PersonId { get; init; } = "";

    /// <summary>The department of the person.</summary>
    public string Department { get; init; } = "";

    /// <summary>The edition they came from.</summary>
    public long FromEdition { get; init; }

    /// <summary>What would change, as JSON; "[]" when nothing would.</summary>
    public string Effects { get; init; } = "[]";

    /// <summary>The digest of <see cref="Effects"/>: what a decision covers.</summary>
    public string Digest { get; init; } = "";

    /// <summary>1 when the person would have less, else 0.</summary>
    public long Loses { get; init; }

    /// <summary>open, failing, approved, declined, running, own (decided as a request of its own), done, moved (by another
    /// request), turning, turned-back.</summary>
    public string State { get; set; } = "";

    /// <summary>The wave they went with; 0 before, and of those for whom nothing changed.</summary>
    public long Wave { get; set; }

    /// <summary>The id of the request it belongs to.</summary>
    public string RequestId { get; set; } = "";

    /// <summary>What is wrong with it, in words; "" when nothing is.</summary>
    public string Problem { get; set; } = "";

    // Joined from the person.

    /// <summary>The name that people read.</summary>
    public string Display { get; init; } = "";

    /// <summary>The employee number of the person.</summary>
    public string PersonNumber { get; init; } = "";

    /// <summary>The name of the site in the rulebook.</summary>
    public string Site { get; init; } = "";

    /// <summary>The edition the person was on.</summary>
    public long OnEdition { get; init; }
}

/// <summary>A person of a roll-out with how their request stands.</summary>
public sealed class RolloutUnderWay
{
    /// <summary>The id of the person it is about.</summary>
    public string PersonId { get; init; } = "";

    /// <summary>Where it stands.</summary>
    public string State { get; init; } = "";

    /// <summary>The wave, from 1 on.</summary>
    public long Wave { get; init; }

    /// <summary>The number of the edition of the rulebook.</summary>
    public long Edition { get; init; }

    /// <summary>Where its request stands.</summary>
    public RequestState RequestState { get; init; }

    /// <summary>The name of its way of approval.</summary>
    public string Workflow { get; init; } = "";

    /// <summary>What is wrong with it, in words; "" when nothing is.</summary>
    public string Problem { get; init; } = "";

    /// <summary>How often it was tried without success.</summary>
    public long Attempts { get; init; }

    /// <summary>The number people call it by.</summary>
    public long Number { get; init; }

    /// <summary>Why it was stopped, or "".</summary>
    public long Stopped { get; init; }
}

/// <summary>A decision on a roll-out.</summary>
public sealed class RolloutDecisionRow
{
    /// <summary>The roll-out it belongs to.</summary>
    public string RolloutId { get; init; } = "";

    /// <summary>The department decided about, or "" for all.</summary>
    public string Department { get; init; } = "";

    /// <summary>The user who did it, or <c>oikonom</c>.</summary>
    public string Actor { get; init; } = "";

    /// <summary>What was decided.</summary>
    public string Verdict { get; init; } = "";

    /// <summary>What was said with it; may be empty.</summary>
    public string Remark { get; init; } = "";

    /// <summary>SHA-256 of what it covers, in lower-case hexadecimal.</summary>
    public string Digest { get; init; } = "";

    /// <summary>How many people it is about.</summary>
    public long People { get; init; }

    /// <summary>When, in milliseconds since 1970 (UTC).</summary>
    public long At { get; init; }
}

/// <summary>Which people of a roll-out a list shows.</summary>
public sealed record RolloutFilter(string Rollout, string State, string Department, string Template, long? Wave, string Text)
{
    /// <summary>The parts of the organisation that are seen; null for all.</summary>
    public IReadOnlyList<(IReadOnlyList<string> Sites, IReadOnlyList<string> Departments)>? Reach { get; init; }

    /// <summary>The name of the last one of the page before.</summary>
    public string AfterName { get; init; } = "";

    /// <summary>The id of the last one of the page before.</summary>
    public string AfterId { get; init; } = "";

    /// <summary>How many at most.</summary>
    public int Limit { get; init; } = 50;
}

/// <summary>Roll-outs, their people and the decisions on them.</summary>
public static class RolloutTables
{
    private const string Columns =
        "id, number, edition, state, author, agreed, made_at, people, losing, same, failing, report, brake, released_by, wave, wave_size, "
        + "pause, next_at, turning, problem, updated_at";

    private const string PersonColumns =
        "x.rollout_id, x.person_id, x.department, x.from_edition, x.effects, x.digest, x.loses, x.state, x.wave, x.request_id, "
        + "x.problem, p.display, p.number AS person_number, p.site, p.edition AS on_edition";

    /// <summary>The number of the next roll-out.</summary>
    public static Task<long> NextRolloutNumberAsync(this Session session) =>
        session.ScalarAsync<long>("SELECT COALESCE(MAX(number),0)+1 FROM rollouts");

    /// <summary>Adds a roll-out.</summary>
    public static Task AddRolloutAsync(this Session session, RolloutRow row) =>
        session.ExecuteAsync(
            $"INSERT INTO rollouts ({Columns}) VALUES (@Id, @Number, @Edition, @State, @Author, @Agreed, @MadeAt, @People, "
                + "@Losing, @Same, @Failing, @Report, @Brake, @ReleasedBy, @Wave, @WaveSize, @Pause, @NextAt, @Turning, "
                + "@Problem, @UpdatedAt)",
            row
        );

    /// <summary>Adds people; the edition they come from is the one they are on now. Who is on the roll-out's own already, or in
    /// its list, is left out.</summary>
    public static Task<int> AddRolloutPeopleAsync(this Session session, long edition, IReadOnlyCollection<RolloutPersonRow> rows) =>
        session.BulkAsync(
            "INSERT INTO rollout_people (rollout_id, person_id, department, from_edition, effects, digest, loses, state, wave, "
                + "request_id, problem) SELECT x.rollout_id, x.person_id, p.department, p.edition, x.effects, x.digest, x.loses, "
                + "x.state, 0, '', x.problem FROM {rows} AS x JOIN people p ON p.id=x.person_id WHERE p.edition>0 AND "
                + $"p.edition<>{edition.ToString(System.Globalization.CultureInfo.InvariantCulture)} ON CONFLICT (rollout_id, "
                + "person_id) DO NOTHING",
            rows,
            ("rollout_id", "text"),
            ("person_id", "text"),
            ("effects", "text"),
            ("digest", "text"),
            ("loses", "bigint"),
            ("state", "text"),
            ("problem", "text")
        );

    /// <summary>The roll-out that an id or a number names.</summary>
    public static Task<RolloutRow?> FindRolloutAsync(this Session session, string name, bool forUpdate = false)
    {
        var end = forUpdate ? session.Engine.ForUpdate : "";
        return Guid.TryParse(name, out var id)
                ? session.FirstAsync<RolloutRow>($"SELECT {Columns} FROM rollouts WHERE id=@id{end}", new { id = id.ToString() })
            : long.TryParse(name, System.Globalization.NumberStyles.None, System.Globalization.CultureInfo.InvariantCulture, out var number)
                ? session.FirstAsync<RolloutRow>($"SELECT {Columns} FROM rollouts WHERE number=@number{end}", new { number })
            : Task.FromResult<RolloutRow?>(null);
    }

    /// <summary>All roll-outs, the newest first.</summary>
    public static Task<IReadOnlyList<RolloutRow>> RolloutsAsync(this Session session, int limit) =>
        session.QueryAsync<RolloutRow>($"SELECT {Columns} FROM rollouts ORDER BY number DESC LIMIT @limit", new { limit });

    /// <summary>Roll-outs with something for the loop to do: a wave under way or due, and requests that have not ended.</summary>
    public static Task<IReadOnlyList<string>> DueRolloutsAsync(this Session session, long now) =>
        session.QueryAsync<string>(
            "SELECT id FROM rollouts WHERE state IN ('running','turning-back') OR (state='pausing' AND next_at<=@now) OR "
                + "(state NOT IN ('held','open') AND EXISTS (SELECT 1 FROM rollout_people x WHERE x.rollout_id=rollouts.id AND "
                + "x.state IN ('running','own','turning'))) ORDER BY number",
            new { now }
        );

    /// <summary>Changes a roll-out.</summary>
    public static Task SaveRolloutAsync(this Session session, RolloutRow row) =>
        session.ExecuteAsync(
            "UPDATE rollouts SET state=@State, released_by=@ReleasedBy, wave=@Wave, wave_size=@WaveSize, pause=@Pause, "
                + "next_at=@NextAt, turning=@Turning, problem=@Problem, updated_at=@UpdatedAt WHERE id=@Id",
            row
        );

    /// <summary>The open roll-out that has a person in its list, if there is one.</summary>
    public static Task<RolloutRow?> OpenRolloutOfAsync(this Session session, string person) =>
        session.FirstAsync<RolloutRow>(
            $"SELECT {string.Join(", ", Columns.Split(", ").Select(c => "r." + c))} FROM rollouts r JOIN rollout_people x ON "
                + "x.rollout_id=r.id WHERE x.person_id=@person AND x.state IN ('open','approved','running','own') AND r.state NOT IN "
                + "('superseded','turned-back') ORDER BY r.number DESC LIMIT 1",
            new { person }
        );

    /// <summary>How many people stand in each state, by department.</summary>
    public static Task<IReadOnlyList<(string Department, string State, long Wave, long People, long Losing)>> RolloutTalliesAsync(
        this Session session,
        string rollout,
        IReadOnlyList<(IReadOnlyList<string> Sites, IReadOnlyList<string> Departments)>? reach
    )
    {
        var parameters = new Dictionary<string, object?> { ["rollout"] = rollout };
        if (reach is not null)
            RequestTables.AddReach(parameters, reach);
        return session.QueryAsync<(string, string, long, long, long)>(
            "SELECT x.department, x.state, x.wave, COUNT(*) AS people, CAST(SUM(x.loses) AS BIGINT) AS losing FROM rollout_people x"
                + (reach is null ? "" : $" JOIN people p ON p.id=x.person_id AND {RequestTables.ReachOf(reach, "p")}")
                + " WHERE x.rollout_id=@rollout GROUP BY x.department, x.state, x.wave",
            parameters
        );
    }

    /// <summary>People of a roll-out in order of name.</summary>
    public static Task<IReadOnlyList<RolloutPersonRow>> RolloutPeopleAsync(this Session session, RolloutFilter filter)
    {
        var where = new List<string> { "x.rollout_id=@rollout", "(p.search_key>@name OR (p.search_key=@name AND x.person_id>@id))" };
        var parameters = new Dictionary<string, object?>
        {
            ["rollout"] = filter.Rollout,
            ["name"] = filter.AfterName,
            ["id"] = filter.AfterId,
            ["limit"] = filter.Limit,
        };
        Add(filter.State, "x.state=@state", "state", filter.State);
        Add(filter.Department, "x.department=@department", "department", filter.Department);
        Add(filter.Template, "LOWER(x.effects) LIKE @template ESCAPE '!'", "template", Like.Containing($"\"Rule\":\"{filter.Template}\""));
        Add(
            filter.Text,
            "(p.search_key LIKE @text ESCAPE '!' OR p.number=@number)",
            "text",
            Like.Containing(filter.Text.ToLowerInvariant())
        );
        if (filter.Text.Length > 0)
            parameters["number"] = filter.Text;
        if (filter.Wave is { } wave)
            Add("1", "x.wave=@wave", "wave", wave);
        // Those for whom nothing changes are shown only when their wave, which is none, is asked for.
        if (filter.Wave != 0)
            where.Add("(x.effects<>'[]' OR x.state='failing')");
        if (filter.Reach is { } reach)
        {
            RequestTables.AddReach(parameters, reach);
            where.Add(RequestTables.ReachOf(reach, "p"));
        }
        return session.QueryAsync<RolloutPersonRow>(
            $"SELECT {PersonColumns} FROM rollout_people x JOIN people p ON p.id=x.person_id WHERE {string.Join(" AND ", where)} "
                + "ORDER BY p.search_key, x.person_id LIMIT @limit",
            parameters
        );

        void Add(string given, string condition, string name, object value)
        {
            if (given.Length == 0)
                return;
            where.Add(condition);
            parameters[name] = value;
        }
    }

    /// <summary>Of a roll-out, the people nobody has decided about, with what a decision would cover.</summary>
    public static Task<IReadOnlyList<(string PersonId, string Number, string Digest)>> UndecidedAsync(
        this Session session,
        string rollout,
        string department,
        IReadOnlyList<(IReadOnlyList<string> Sites, IReadOnlyList<string> Departments)>? reach
    )
    {
        var parameters = new Dictionary<string, object?> { ["rollout"] = rollout, ["department"] = department };
        if (reach is not null)
            RequestTables.AddReach(parameters, reach);
        return session.QueryAsync<(string, string, string)>(
            "SELECT x.person_id, p.number, x.digest FROM rollout_people x JOIN people p ON p.id=x.person_id WHERE "
                + "x.rollout_id=@rollout AND x.state='open' AND (@department='' OR x.department=@department)"
                + (reach is null ? "" : $" AND {RequestTables.ReachOf(reach, "p")}")
                + " ORDER BY x.person_id",
            parameters
        );
    }

    /// <summary>Writes down whom a roll-out is about, and what changes for them.</summary>
    public static Task SaveRolloutPeopleAsync(this Session session, IReadOnlyCollection<RolloutPersonRow> rows) =>
        session.BulkAsync(
            "UPDATE rollout_people SET state=x.state, wave=x.wave, request_id=x.request_id, problem=x.problem FROM {rows} AS x "
                + "WHERE rollout_people.rollout_id=x.rollout_id AND rollout_people.person_id=x.person_id",
            rows,
            ("rollout_id", "text"),
            ("person_id", "text"),
            ("state", "text"),
            ("wave", "bigint"),
            ("request_id", "text"),
            ("problem", "text")
        );

    /// <summary>The wave done last, of those that can be turned back; null when there is none.</summary>
    public static Task<long?> LastDoneWaveAsync(this Session session, string rollout) =>
        session.ScalarAsync<long?>("SELECT MAX(wave) FROM rollout_people WHERE rollout_id=@rollout AND state='done'", new { rollout });

    /// <summary>Moves people of a roll-out to a state.</summary>
    public static Task MarkRolloutPeopleAsync(this Session session, string rollout, IReadOnlyCollection<string> people, string state) =>
        session.BulkAsync(
            "UPDATE rollout_people SET state=x.state FROM {rows} AS x WHERE rollout_people.rollout_id=x.rollout_id AND "
                + "rollout_people.person_id=x.person_id",
            [
                .. people.Select(id => new
                {
                    RolloutId = rollout,
                    PersonId = id,
                    State = state,
                }),
            ],
            ("rollout_id", "text"),
            ("person_id", "text"),
            ("state", "text")
        );

    /// <summary>One person of a roll-out.</summary>
    public static Task<RolloutPersonRow?> RolloutPersonAsync(this Session session, string rollout, string person) =>
        session.FirstAsync<RolloutPersonRow>(
            $"SELECT {PersonColumns} FROM rollout_people x JOIN people p ON p.id=x.person_id WHERE x.rollout_id=@rollout AND "
                + "x.person_id=@person",
            new { rollout, person }
        );

    /// <summary>People who were approved and have not begun, in order of department; those with an open request of another kind
    /// are left out, since it may put them on the edition or change what was shown.</summary>
    public static Task<IReadOnlyList<RolloutPersonRow>> NextOfRolloutAsync(this Session session, string rollout, int limit) =>
        session.QueryAsync<RolloutPersonRow>(
            $"SELECT {PersonColumns} FROM rollout_people x JOIN people p ON p.id=x.person_id WHERE x.rollout_id=@rollout AND "
                + "x.state='approved' AND NOT EXISTS (SELECT 1 FROM requests r WHERE r.person_id=x.person_id AND r.state IN "
                + "('planning','choosing','deciding','asked','releasing') AND r.kind IN ('joiner','mover','leaver','change')) ORDER BY "
                + "x.department, p.search_key, x.person_id LIMIT @limit",
            new { rollout, limit }
        );

    /// <summary>People whose requests of the roll-out have not ended, as far as is noted, with how each request stands.</summary>
    public static Task<IReadOnlyList<RolloutUnderWay>> UnderWayAsync(this Session session, string rollout) =>
        session.QueryAsync<RolloutUnderWay>(
            "SELECT x.person_id, x.state, x.wave, p.edition, r.state AS request_state, r.workflow, r.problem, r.attempts, r.number, "
                + "(SELECT COUNT(*) FROM steps s WHERE s.request_id=r.id AND s.state='stopped') AS stopped FROM rollout_people x JOIN "
                + "people p ON p.id=x.person_id JOIN requests r ON r.id=x.request_id WHERE x.rollout_id=@rollout AND x.state IN "
                + "('running','own','turning')",
            new { rollout }
        );

    /// <summary>People of a wave who are on the roll-out's edition and went with it.</summary>
    public static Task<IReadOnlyList<RolloutPersonRow>> DoneOfWaveAsync(this Session session, string rollout, long wave, int limit) =>
        session.QueryAsync<RolloutPersonRow>(
            $"SELECT {PersonColumns} FROM rollout_people x JOIN people p ON p.id=x.person_id WHERE x.rollout_id=@rollout AND "
                + "x.wave=@wave AND x.state='done' ORDER BY x.person_id LIMIT @limit",
            new
            {
                rollout,
                wave,
                limit,
            }
        );

    /// <summary>People on another edition than the roll-out's, who are not in its list, after a place in the order of ids.</summary>
    public static Task<IReadOnlyList<(string Id, long Edition)>> RestOfAsync(
        this Session session,
        string rollout,
        long edition,
        int limit
    ) =>
        session.QueryAsync<(string, long)>(
            "SELECT p.id, p.edition FROM people p WHERE p.edition>0 AND p.edition<>@edition AND NOT EXISTS (SELECT 1 FROM "
                + "rollout_people x WHERE x.rollout_id=@rollout AND x.person_id=p.id) ORDER BY p.id LIMIT @limit",
            new
            {
                rollout,
                edition,
                limit,
            }
        );

    /// <summary>Whoever was put on the edition by another request meanwhile goes no more with the roll-out.</summary>
    public static Task<int> NoteMovedAsync(this Session session, string rollout, long edition) =>
        session.ExecuteAsync(
            "UPDATE rollout_people SET state='moved' WHERE rollout_id=@rollout AND state IN ('open','approved','failing') AND "
                + "EXISTS (SELECT 1 FROM people p WHERE p.id=rollout_people.person_id AND p.edition=@edition)",
            new { rollout, edition }
        );

    /// <summary>Notes a decision on a roll-out.</summary>
    public static Task AddRolloutDecisionAsync(this Session session, RolloutDecisionRow row) =>
        session.ExecuteAsync(
            "INSERT INTO rollout_decisions (rollout_id, department, actor, verdict, remark, digest, people, at) VALUES (@RolloutId, "
                + "@Department, @Actor, @Verdict, @Remark, @Digest, @People, @At)",
            row
        );

    /// <summary>The decisions on a roll-out, in order.</summary>
    public static Task<IReadOnlyList<RolloutDecisionRow>> RolloutDecisionsAsync(this Session session, string rollout) =>
        session.QueryAsync<RolloutDecisionRow>(
            "SELECT rollout_id, department, actor, verdict, remark, digest, people, at FROM rollout_decisions WHERE "
                + "rollout_id=@rollout ORDER BY at",
            new { rollout }
        );

    /// <summary>Roll-outs that a newer edition makes void.</summary>
    public static Task<IReadOnlyList<RolloutRow>> OpenRolloutsAsync(this Session session) =>
        session.QueryAsync<RolloutRow>(
            $"SELECT {Columns} FROM rollouts WHERE state NOT IN ('done','turned-back','superseded') ORDER BY number"
                + session.Engine.ForUpdate
        );
}
