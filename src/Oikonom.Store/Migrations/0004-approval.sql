-- What a request would change in the inputs, who decides it now, and when somebody is reminded.
ALTER TABLE requests ADD COLUMN source TEXT NOT NULL DEFAULT '';
ALTER TABLE requests ADD COLUMN wish TEXT NOT NULL DEFAULT '{}';
ALTER TABLE requests ADD COLUMN ballots TEXT NOT NULL DEFAULT '[]';
ALTER TABLE requests ADD COLUMN round BIGINT NOT NULL DEFAULT 1;
ALTER TABLE requests ADD COLUMN clock TEXT NOT NULL DEFAULT '{}';
ALTER TABLE requests ADD COLUMN clock_at BIGINT;
ALTER TABLE requests ADD COLUMN held TEXT NOT NULL DEFAULT '';
ALTER TABLE requests ADD COLUMN plan_before TEXT;
ALTER TABLE requests ADD COLUMN late BIGINT NOT NULL DEFAULT 0;
CREATE INDEX requests_clock ON requests (clock_at);
CREATE INDEX requests_requester ON requests (requester, number);

ALTER TABLE decisions ADD COLUMN stage TEXT NOT NULL DEFAULT '';
ALTER TABLE decisions ADD COLUMN item TEXT NOT NULL DEFAULT '';
ALTER TABLE decisions ADD COLUMN on_behalf TEXT NOT NULL DEFAULT '';
ALTER TABLE decisions ADD COLUMN covers TEXT NOT NULL DEFAULT '{}';
ALTER TABLE decisions ADD COLUMN round BIGINT NOT NULL DEFAULT 1;

-- Inputs beside HR and the rulebook: grants and templates that were approved for somebody, and what was declined.
CREATE TABLE extras (
  id TEXT PRIMARY KEY, person_id TEXT NOT NULL, kind TEXT NOT NULL, subject TEXT NOT NULL, from_at BIGINT NOT NULL, until_at BIGINT,
  reason TEXT NOT NULL, request_id TEXT NOT NULL, ended_at BIGINT);
CREATE INDEX extras_person ON extras (person_id);

CREATE TABLE delegations (
  id TEXT PRIMARY KEY, from_user TEXT NOT NULL, to_user TEXT NOT NULL, begins_at BIGINT NOT NULL, ends_at BIGINT NOT NULL, kinds TEXT NOT NULL, remark TEXT NOT NULL,
  actor TEXT NOT NULL, created_at BIGINT NOT NULL, ended_at BIGINT);
CREATE INDEX delegations_to ON delegations (to_user);

-- Work by hand: one task for each step that has no interface to run through.
CREATE TABLE tasks (
  id TEXT PRIMARY KEY, step_id TEXT NOT NULL UNIQUE, request_id TEXT NOT NULL, person_id TEXT NOT NULL, target TEXT NOT NULL, entitlement TEXT NOT NULL, kind TEXT NOT NULL,
  title TEXT NOT NULL, instructions TEXT NOT NULL, fields TEXT NOT NULL, checks TEXT NOT NULL, needs_evidence BIGINT NOT NULL, role TEXT NOT NULL, taken_by TEXT NOT NULL,
  state TEXT NOT NULL, due_at BIGINT NOT NULL, created_at BIGINT NOT NULL, done_at BIGINT, done_by TEXT NOT NULL, answers TEXT NOT NULL, remark TEXT NOT NULL, version BIGINT NOT NULL);
CREATE INDEX tasks_state ON tasks (state, due_at);
CREATE INDEX tasks_request ON tasks (request_id);

CREATE TABLE evidence (
  id TEXT PRIMARY KEY, task_id TEXT NOT NULL, name TEXT NOT NULL, media_type TEXT NOT NULL, size BIGINT NOT NULL, hash TEXT NOT NULL, content $bytes$ NOT NULL, actor TEXT NOT NULL, at BIGINT NOT NULL);
CREATE INDEX evidence_task ON evidence (task_id);

-- What people keep for themselves: drafts of requests, views of the list.
CREATE TABLE drafts (id TEXT PRIMARY KEY, user_name TEXT NOT NULL, title TEXT NOT NULL, body TEXT NOT NULL, at BIGINT NOT NULL);
CREATE INDEX drafts_user ON drafts (user_name);
CREATE TABLE views (user_name TEXT NOT NULL, name TEXT NOT NULL, query TEXT NOT NULL, at BIGINT NOT NULL, PRIMARY KEY (user_name, name));

-- Roles limited to a part of the organisation, how somebody wants to hear, and sign-ins that last.
ALTER TABLE users ADD COLUMN reach TEXT NOT NULL DEFAULT '{}';
ALTER TABLE users ADD COLUMN hearing TEXT NOT NULL DEFAULT '{}';
ALTER TABLE tokens ADD COLUMN roles TEXT NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN used_at BIGINT;
CREATE TABLE sessions (
  id TEXT PRIMARY KEY, user_name TEXT NOT NULL, created_at BIGINT NOT NULL, seen_at BIGINT NOT NULL, address TEXT NOT NULL, agent TEXT NOT NULL, way TEXT NOT NULL, ended_at BIGINT);
CREATE INDEX sessions_user ON sessions (user_name);

ALTER TABLE notices ADD COLUMN user_name TEXT NOT NULL DEFAULT '';
ALTER TABLE notices ADD COLUMN event TEXT NOT NULL DEFAULT '';
ALTER TABLE notices ADD COLUMN read_at BIGINT;
CREATE INDEX notices_user ON notices (user_name, id);

-- Addresses that are told of changes: each reads the sealed ledger in its order, from a position of its own.
CREATE TABLE hooks (
  id TEXT PRIMARY KEY, address TEXT NOT NULL, kinds TEXT NOT NULL, secret TEXT NOT NULL, actor TEXT NOT NULL, created_at BIGINT NOT NULL, active BIGINT NOT NULL,
  next_position BIGINT NOT NULL, due_at BIGINT NOT NULL, lease_until BIGINT NOT NULL, attempts BIGINT NOT NULL, problem TEXT NOT NULL, sent_at BIGINT);
