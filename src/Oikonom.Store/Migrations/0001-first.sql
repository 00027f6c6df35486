-- Portable: instants are milliseconds since 1970 in BIGINT, ids and JSON are TEXT, truth is 0 or 1.

CREATE TABLE people (
  id TEXT PRIMARY KEY, person_key TEXT NOT NULL UNIQUE, number TEXT NOT NULL, display TEXT NOT NULL, search_key TEXT NOT NULL,
  kind TEXT NOT NULL, department TEXT NOT NULL, site TEXT NOT NULL, title TEXT NOT NULL, manager TEXT NOT NULL,
  start_day TEXT NOT NULL, end_day TEXT, facts TEXT NOT NULL, source TEXT NOT NULL,
  created_at BIGINT NOT NULL, updated_at BIGINT NOT NULL, version BIGINT NOT NULL);
CREATE INDEX people_number ON people (number);
CREATE INDEX people_search ON people (search_key, id);

CREATE TABLE hr_records (
  source TEXT NOT NULL, record_key TEXT NOT NULL, hash $bytes$ NOT NULL, facts TEXT, status TEXT NOT NULL,
  person_id TEXT, request_id TEXT, run_id TEXT NOT NULL, PRIMARY KEY (source, record_key));

-- What tells an unchanged row, without reading the record.
CREATE INDEX hr_fingerprints ON hr_records (source, record_key, hash);

CREATE TABLE hr_versions (
  version $serial$, source TEXT NOT NULL, record_key TEXT NOT NULL, person_id TEXT NOT NULL, run_id TEXT NOT NULL, at BIGINT NOT NULL, facts TEXT NOT NULL);
CREATE INDEX hr_versions_person ON hr_versions (person_id);

CREATE TABLE intake_runs (
  id TEXT PRIMARY KEY, source TEXT NOT NULL, mode TEXT NOT NULL, actor TEXT NOT NULL, started_at BIGINT NOT NULL, ended_at BIGINT NOT NULL,
  outcome TEXT NOT NULL, message TEXT NOT NULL, counts TEXT NOT NULL);

CREATE TABLE set_aside (
  id $serial$, run_id TEXT NOT NULL, source TEXT NOT NULL, file TEXT NOT NULL, line BIGINT NOT NULL,
  column_name TEXT NOT NULL, value TEXT NOT NULL, reason TEXT NOT NULL, record_key TEXT NOT NULL);
CREATE INDEX set_aside_source ON set_aside (source);

CREATE TABLE accounts (
  person_id TEXT NOT NULL, target TEXT NOT NULL, name TEXT NOT NULL, container TEXT NOT NULL, location TEXT NOT NULL, immutable_id TEXT NOT NULL,
  attributes TEXT NOT NULL, enabled BIGINT NOT NULL, reason TEXT NOT NULL, created_at BIGINT NOT NULL, updated_at BIGINT NOT NULL,
  PRIMARY KEY (person_id, target));
CREATE UNIQUE INDEX accounts_immutable ON accounts (target, immutable_id);

CREATE TABLE grants (
  id TEXT PRIMARY KEY, person_id TEXT NOT NULL, target TEXT NOT NULL, entitlement TEXT NOT NULL,
  from_at BIGINT NOT NULL, until_at BIGINT, reason TEXT NOT NULL, request_id TEXT);
CREATE UNIQUE INDEX grants_current ON grants (person_id, target, entitlement) WHERE until_at IS NULL;
CREATE INDEX grants_person ON grants (person_id);

CREATE TABLE names (
  target TEXT NOT NULL, name_key TEXT NOT NULL, person_id TEXT NOT NULL, at BIGINT NOT NULL, PRIMARY KEY (target, name_key));
CREATE INDEX names_person ON names (person_id, target);

CREATE TABLE requests (
  number $serial$, id TEXT NOT NULL UNIQUE, kind TEXT NOT NULL, state TEXT NOT NULL, stage BIGINT NOT NULL, person_id TEXT NOT NULL,
  requester TEXT NOT NULL, cause TEXT NOT NULL, edition BIGINT NOT NULL, workflow TEXT NOT NULL, plan TEXT, plan_digest TEXT,
  stage_title TEXT NOT NULL, deciders TEXT NOT NULL, decider_role TEXT NOT NULL, decider_why TEXT NOT NULL,
  problem TEXT NOT NULL, candidates TEXT NOT NULL, chosen TEXT NOT NULL, since_at BIGINT NOT NULL,
  created_at BIGINT NOT NULL, updated_at BIGINT NOT NULL, completed_at BIGINT,
  due_at BIGINT, attempts BIGINT NOT NULL, lease_owner TEXT NOT NULL, lease_until BIGINT NOT NULL, fence BIGINT NOT NULL, version BIGINT NOT NULL);
CREATE INDEX requests_state ON requests (state, number);
CREATE INDEX requests_person ON requests (person_id);
CREATE INDEX requests_due ON requests (due_at);

CREATE TABLE decisions (
  id $serial$, request_id TEXT NOT NULL, stage_title TEXT NOT NULL, actor TEXT NOT NULL, verdict TEXT NOT NULL, remark TEXT NOT NULL, digest TEXT NOT NULL, at BIGINT NOT NULL);
CREATE INDEX decisions_request ON decisions (request_id);

CREATE TABLE steps (
  id TEXT PRIMARY KEY, request_id TEXT NOT NULL, person_id TEXT NOT NULL, target TEXT NOT NULL, ordinal BIGINT NOT NULL,
  change TEXT NOT NULL, due_at BIGINT NOT NULL, later BIGINT NOT NULL, state TEXT NOT NULL, attempts BIGINT NOT NULL, problem TEXT NOT NULL, done_at BIGINT);
CREATE INDEX steps_request ON steps (request_id, ordinal);
CREATE INDEX steps_chain ON steps (person_id, target, state);

CREATE TABLE chains (
  person_id TEXT NOT NULL, target TEXT NOT NULL, due_at BIGINT, lease_owner TEXT NOT NULL, lease_until BIGINT NOT NULL, fence BIGINT NOT NULL,
  PRIMARY KEY (person_id, target));
CREATE INDEX chains_due ON chains (due_at);

CREATE TABLE editions (number BIGINT PRIMARY KEY, digest TEXT NOT NULL, author TEXT NOT NULL, published_at BIGINT NOT NULL, files TEXT NOT NULL);

CREATE TABLE users (
  name TEXT PRIMARY KEY, display TEXT NOT NULL, mail TEXT NOT NULL, password_hash TEXT NOT NULL, roles TEXT NOT NULL, number TEXT NOT NULL,
  active BIGINT NOT NULL, failed BIGINT NOT NULL, locked_until BIGINT NOT NULL, stamp TEXT NOT NULL, created_at BIGINT NOT NULL);

CREATE TABLE tokens (
  id TEXT PRIMARY KEY, user_name TEXT NOT NULL, hash TEXT NOT NULL UNIQUE, label TEXT NOT NULL, created_at BIGINT NOT NULL, expires_at BIGINT NOT NULL, ended_at BIGINT);

CREATE TABLE secrets (name TEXT PRIMARY KEY, sealed TEXT NOT NULL, actor TEXT NOT NULL, updated_at BIGINT NOT NULL);

CREATE TABLE handovers (
  id TEXT PRIMARY KEY, token_hash TEXT NOT NULL UNIQUE, person_id TEXT NOT NULL, target TEXT NOT NULL, receiver TEXT NOT NULL,
  request_id TEXT NOT NULL, expires_at BIGINT NOT NULL, used_at BIGINT);

CREATE TABLE notices (
  id $serial$, mail TEXT NOT NULL, subject TEXT NOT NULL, body TEXT NOT NULL, request_id TEXT, created_at BIGINT NOT NULL,
  due_at BIGINT, lease_until BIGINT NOT NULL, attempts BIGINT NOT NULL, problem TEXT NOT NULL, sent_at BIGINT);
CREATE INDEX notices_due ON notices (due_at);

CREATE TABLE ledger (
  entry $serial$, id TEXT NOT NULL UNIQUE, at BIGINT NOT NULL, actor TEXT NOT NULL, kind TEXT NOT NULL, person_id TEXT, request_id TEXT, body TEXT NOT NULL);
CREATE INDEX ledger_request ON ledger (request_id);
CREATE INDEX ledger_person ON ledger (person_id);

CREATE TABLE ledger_leaves (position BIGINT PRIMARY KEY, entry BIGINT NOT NULL UNIQUE, hash $bytes$ NOT NULL);
CREATE TABLE ledger_heads (size BIGINT PRIMARY KEY, root $bytes$ NOT NULL, signed_at BIGINT NOT NULL, signature $bytes$ NOT NULL, public_key TEXT NOT NULL);

CREATE TABLE hints (id $serial$, topic TEXT NOT NULL, subject TEXT NOT NULL, at BIGINT NOT NULL);
CREATE TABLE leases (name TEXT PRIMARY KEY, owner TEXT NOT NULL, until_at BIGINT NOT NULL);
