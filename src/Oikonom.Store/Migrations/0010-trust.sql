-- The person behind a user, once known; and who they are to an OpenID provider.
ALTER TABLE users ADD COLUMN person_id TEXT NOT NULL DEFAULT '';
ALTER TABLE users ADD COLUMN issuer TEXT NOT NULL DEFAULT '';
ALTER TABLE users ADD COLUMN subject TEXT NOT NULL DEFAULT '';
CREATE UNIQUE INDEX users_subject ON users (issuer, subject) WHERE subject<>'';

-- A token ends with the one it was made by.
ALTER TABLE tokens ADD COLUMN parent TEXT NOT NULL DEFAULT '';

-- Tries to sign in, by name and address, whether or not there is such a user.
CREATE TABLE sign_in_tries (try_key TEXT PRIMARY KEY, tries BIGINT NOT NULL, last_at BIGINT NOT NULL, blocked_until BIGINT NOT NULL);

-- One-time links by which people set their own password.
CREATE TABLE password_links (id TEXT PRIMARY KEY, user_name TEXT NOT NULL, token_hash TEXT NOT NULL UNIQUE, created_at BIGINT NOT NULL, expires_at BIGINT NOT NULL, used_at BIGINT);
CREATE INDEX password_links_user ON password_links (user_name);

-- Changes of users that wait for a second person.
CREATE TABLE user_changes (
  id TEXT PRIMARY KEY, user_name TEXT NOT NULL, body TEXT NOT NULL, actor TEXT NOT NULL, at BIGINT NOT NULL, state TEXT NOT NULL, decided_by TEXT NOT NULL, decided_at BIGINT, remark TEXT NOT NULL);
CREATE INDEX user_changes_state ON user_changes (state);

-- Where a secret may be sent, as a JSON list of document and address; "" while it was never used.
ALTER TABLE secrets ADD COLUMN bound TEXT NOT NULL DEFAULT '';

-- A link is being opened until its lease ends, and is over when another took its place.
ALTER TABLE handovers ADD COLUMN opening_until BIGINT NOT NULL DEFAULT 0;
ALTER TABLE handovers ADD COLUMN ended_at BIGINT;
CREATE INDEX handovers_request ON handovers (request_id);

-- What a mail says that nobody reads in the store: one-time links, sealed with the key ring until it is sent.
ALTER TABLE notices ADD COLUMN sealed TEXT NOT NULL DEFAULT '';

-- A call with an Idempotency-Key that is under way, on whichever node.
ALTER TABLE answers ADD COLUMN claimed_until BIGINT NOT NULL DEFAULT 0;

-- Personal values of ledger entries, each with its salt: the entry seals a commitment, and these can be forgotten.
CREATE TABLE ledger_values (id TEXT PRIMARY KEY, body TEXT NOT NULL);

-- Whose values were forgotten, when and by which rule; and until when what belongs to powerful access is kept, or ''.
CREATE TABLE forgotten (person_id TEXT PRIMARY KEY, at BIGINT NOT NULL, rule TEXT NOT NULL, actor TEXT NOT NULL, kept_until TEXT NOT NULL);
CREATE TABLE forget_orders (
  id TEXT PRIMARY KEY, person_id TEXT NOT NULL, reason TEXT NOT NULL, actor TEXT NOT NULL, at BIGINT NOT NULL, state TEXT NOT NULL, decided_by TEXT NOT NULL, decided_at BIGINT);
CREATE INDEX forget_orders_person ON forget_orders (person_id);
CREATE TABLE retention_holds (
  id TEXT PRIMARY KEY, person_id TEXT NOT NULL, reason TEXT NOT NULL, until_day TEXT NOT NULL, actor TEXT NOT NULL, at BIGINT NOT NULL, ended_at BIGINT);
CREATE INDEX retention_holds_person ON retention_holds (person_id);
CREATE INDEX people_end ON people (end_day) WHERE end_day IS NOT NULL;
