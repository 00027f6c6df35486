-- How each target does: paused by whom and why, left alone since and until when, and what was last seen of it.
CREATE TABLE target_states (
    target TEXT PRIMARY KEY,
    paused_by TEXT NOT NULL DEFAULT '',
    paused_at BIGINT,
    reason TEXT NOT NULL DEFAULT '',
    away_at BIGINT,
    retry_at BIGINT NOT NULL DEFAULT 0,
    problem TEXT NOT NULL DEFAULT '',
    good_at BIGINT,
    bad_at BIGINT,
    checked_at BIGINT,
    checked TEXT NOT NULL DEFAULT ''
);

-- What was done in a target, and what did not succeed because of it, by the hour.
CREATE TABLE target_hours (
    target TEXT NOT NULL,
    hour_at BIGINT NOT NULL,
    done BIGINT NOT NULL,
    failed BIGINT NOT NULL,
    PRIMARY KEY (target, hour_at)
);

-- What became of a target: paused, resumed, away, back, read whole.
CREATE TABLE target_events (
    id TEXT PRIMARY KEY,
    target TEXT NOT NULL,
    at BIGINT NOT NULL,
    kind TEXT NOT NULL,
    actor TEXT NOT NULL,
    text TEXT NOT NULL
);
CREATE INDEX target_events_of ON target_events (target, at);

-- What was found when a target was read whole: counts by class, and one row for each account that is not as decided.
CREATE TABLE reconciliations (
    id TEXT PRIMARY KEY,
    target TEXT NOT NULL,
    at BIGINT NOT NULL,
    actor TEXT NOT NULL,
    dry BIGINT NOT NULL,
    milliseconds BIGINT NOT NULL,
    entries BIGINT NOT NULL,
    counts TEXT NOT NULL
);
CREATE INDEX reconciliations_of ON reconciliations (target, at);
CREATE TABLE reconciliation_items (
    reconciliation TEXT NOT NULL,
    place BIGINT NOT NULL,
    class TEXT NOT NULL,
    name TEXT NOT NULL,
    location TEXT NOT NULL,
    immutable_id TEXT NOT NULL,
    person_id TEXT,
    text TEXT NOT NULL,
    PRIMARY KEY (reconciliation, place)
);
