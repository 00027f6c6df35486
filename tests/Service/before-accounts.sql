-- Takes a store of the embedded engine back to what it was before 0013-accounts.sql, with all that is open in it.
DROP TABLE findings;
DROP TABLE links_due;
DROP INDEX handovers_account;
ALTER TABLE requests DROP COLUMN outcome;
ALTER TABLE requests DROP COLUMN waited;
CREATE TABLE accounts_of_people (
  person_id TEXT NOT NULL, target TEXT NOT NULL, name TEXT NOT NULL, container TEXT NOT NULL, location TEXT NOT NULL, immutable_id TEXT NOT NULL,
  attributes TEXT NOT NULL, enabled BIGINT NOT NULL, reason TEXT NOT NULL, created_at BIGINT NOT NULL, updated_at BIGINT NOT NULL,
  PRIMARY KEY (person_id, target));
INSERT INTO accounts_of_people
SELECT person_id, target, name, container, location, immutable_id, attributes, enabled, reason, created_at, updated_at FROM accounts WHERE person_id IS NOT NULL;
DROP TABLE accounts;
ALTER TABLE accounts_of_people RENAME TO accounts;
CREATE UNIQUE INDEX accounts_immutable ON accounts (target, immutable_id);
CREATE INDEX accounts_updated ON accounts (updated_at);
DROP INDEX grants_current;
ALTER TABLE grants DROP COLUMN slot;
CREATE UNIQUE INDEX grants_current ON grants (person_id, target, entitlement) WHERE until_at IS NULL;
ALTER TABLE names DROP COLUMN slot;
ALTER TABLE names DROP COLUMN wish;
ALTER TABLE handovers DROP COLUMN slot;
DROP INDEX requests_subject;
ALTER TABLE requests DROP COLUMN subject_kind;
ALTER TABLE requests DROP COLUMN subject_id;
ALTER TABLE steps RENAME COLUMN subject_id TO person_id;
ALTER TABLE chains RENAME COLUMN subject_id TO person_id;
DELETE FROM SchemaVersions WHERE ScriptName LIKE '%0013%' OR ScriptName LIKE '%0014%' OR ScriptName LIKE '%0018%' OR ScriptName LIKE '%0019%';
