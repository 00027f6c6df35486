-- Employments beside the leading one, as a JSON list of facts.
ALTER TABLE people ADD COLUMN others TEXT NOT NULL DEFAULT '[]';

-- The version that counts stands in hr_records; hr_versions keeps those it replaced.
CREATE INDEX hr_records_person ON hr_records (person_id);
CREATE INDEX hr_records_vanished ON hr_records (source, record_key) WHERE status='vanished';

ALTER TABLE set_aside ADD COLUMN fields TEXT NOT NULL DEFAULT '{}';
CREATE INDEX set_aside_key ON set_aside (source, record_key);

-- What a source is doing: switched on or not, its last test, and when it runs next.
CREATE TABLE source_states (
  source TEXT PRIMARY KEY, active BIGINT NOT NULL, actor TEXT NOT NULL, changed_at BIGINT NOT NULL, tested_at BIGINT, test_outcome TEXT NOT NULL, tested_rule TEXT NOT NULL,
  next_at BIGINT, since TEXT NOT NULL, problem TEXT NOT NULL);

-- Runs that went over the brake, with what they would have raised.
CREATE TABLE held_runs (
  run_id TEXT PRIMARY KEY, source TEXT NOT NULL, digest TEXT NOT NULL, why TEXT NOT NULL, raises TEXT NOT NULL, state TEXT NOT NULL, actor TEXT NOT NULL, at BIGINT NOT NULL, decided_at BIGINT);
CREATE INDEX held_runs_source ON held_runs (source, state);

CREATE TABLE pool_numbers (
  pool TEXT NOT NULL, number BIGINT NOT NULL, person_id TEXT NOT NULL, at BIGINT NOT NULL, PRIMARY KEY (pool, number));
CREATE UNIQUE INDEX pool_numbers_person ON pool_numbers (pool, person_id);
CREATE INDEX pool_numbers_holder ON pool_numbers (person_id);

-- Answers of calls that carried an Idempotency-Key.
CREATE TABLE answers (actor TEXT NOT NULL, idempotency_key TEXT NOT NULL, request_hash TEXT NOT NULL, answer TEXT NOT NULL, at BIGINT NOT NULL, PRIMARY KEY (actor, idempotency_key));

CREATE TABLE source_tokens (
  id TEXT PRIMARY KEY, source TEXT NOT NULL, hash TEXT NOT NULL UNIQUE, label TEXT NOT NULL, actor TEXT NOT NULL, created_at BIGINT NOT NULL, expires_at BIGINT NOT NULL, ended_at BIGINT);
CREATE INDEX source_tokens_source ON source_tokens (source);

CREATE TABLE scim_resources (
  id TEXT PRIMARY KEY, source TEXT NOT NULL, kind TEXT NOT NULL, unique_key TEXT NOT NULL, external_id TEXT NOT NULL, body TEXT NOT NULL, version BIGINT NOT NULL, created_at BIGINT NOT NULL, modified_at BIGINT NOT NULL);
CREATE UNIQUE INDEX scim_resources_key ON scim_resources (source, kind, unique_key);
CREATE INDEX scim_resources_external ON scim_resources (source, kind, external_id);

CREATE TABLE write_backs (
  id $serial$, source TEXT NOT NULL, record_key TEXT NOT NULL, person_id TEXT NOT NULL, fields TEXT NOT NULL, due_at BIGINT, lease_until BIGINT NOT NULL, attempts BIGINT NOT NULL, problem TEXT NOT NULL, created_at BIGINT NOT NULL, done_at BIGINT);
CREATE INDEX write_backs_due ON write_backs (due_at);
CREATE INDEX write_backs_source ON write_backs (source, id);

-- Editions that wait for a second person.
CREATE TABLE proposals (
  id TEXT PRIMARY KEY, digest TEXT NOT NULL, author TEXT NOT NULL, at BIGINT NOT NULL, files TEXT NOT NULL, state TEXT NOT NULL, decided_by TEXT NOT NULL, decided_at BIGINT, remark TEXT NOT NULL);

ALTER TABLE editions ADD COLUMN approver TEXT NOT NULL DEFAULT '';
