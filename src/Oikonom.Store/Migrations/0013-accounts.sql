-- An account has an id of its own and stands in a slot of its person ('' is the ordinary one). It may belong to nobody:
-- then person_id is NULL, purpose says what it is taken for ('unmatched', 'shared', 'service'), and owner is the person
-- who answers for it, or ''.
CREATE TABLE accounts_by_id (
    id TEXT PRIMARY KEY,
    person_id TEXT,
    target TEXT NOT NULL,
    slot TEXT NOT NULL,
    purpose TEXT NOT NULL DEFAULT '',
    owner TEXT NOT NULL DEFAULT '',
    name TEXT NOT NULL,
    container TEXT NOT NULL,
    location TEXT NOT NULL,
    immutable_id TEXT NOT NULL,
    attributes TEXT NOT NULL,
    enabled BIGINT NOT NULL,
    reason TEXT NOT NULL,
    created_at BIGINT NOT NULL,
    updated_at BIGINT NOT NULL
);
INSERT INTO accounts_by_id (id, person_id, target, slot, name, container, location, immutable_id, attributes, enabled, reason, created_at, updated_at)
SELECT $uuid$, person_id, target, '', name, container, location, immutable_id, attributes, enabled, reason, created_at, updated_at FROM accounts;
DROP TABLE accounts;
ALTER TABLE accounts_by_id RENAME TO accounts;
CREATE UNIQUE INDEX accounts_person ON accounts (person_id, target, slot);
CREATE UNIQUE INDEX accounts_immutable ON accounts (target, immutable_id);
CREATE INDEX accounts_updated ON accounts (updated_at);
CREATE INDEX accounts_nobodys ON accounts (target, name) WHERE person_id IS NULL;

-- Which of the accounts of a person in the target it is about.
ALTER TABLE grants ADD COLUMN slot TEXT NOT NULL DEFAULT '';
DROP INDEX grants_current;
CREATE UNIQUE INDEX grants_current ON grants (person_id, target, slot, entitlement) WHERE until_at IS NULL;
ALTER TABLE names ADD COLUMN slot TEXT NOT NULL DEFAULT '';
ALTER TABLE handovers ADD COLUMN slot TEXT NOT NULL DEFAULT '';

-- When an account that belongs to nobody ends, as it was approved; NULL while no end is known.
ALTER TABLE accounts ADD COLUMN until_at BIGINT;

-- What a request is about: a person, or an account that belongs to nobody. person_id stays who answers for it, which is
-- the person themselves where the request is about one.
ALTER TABLE requests ADD COLUMN subject_kind TEXT NOT NULL DEFAULT 'person';
ALTER TABLE requests ADD COLUMN subject_id TEXT NOT NULL DEFAULT '';
UPDATE requests SET subject_id=person_id;
ALTER TABLE steps RENAME COLUMN person_id TO subject_id;
ALTER TABLE chains RENAME COLUMN person_id TO subject_id;
CREATE INDEX requests_subject ON requests (subject_id) WHERE subject_kind<>'person';
