-- What the sources say of a person's employments, the leading one first, as a JSON list; '' when the record that lists
-- show is the same, because nothing was approved by hand beside it.
ALTER TABLE people ADD COLUMN said TEXT NOT NULL DEFAULT '';

-- Inputs that were approved by hand: an attribute of one employment with its value, and ends with the first day of the
-- employment as it was known then.
ALTER TABLE extras ADD COLUMN employment TEXT NOT NULL DEFAULT '';
ALTER TABLE extras ADD COLUMN value TEXT NOT NULL DEFAULT '';

-- The next instant at which what a person should have may change, in milliseconds; NULL when nothing will.
ALTER TABLE people ADD COLUMN next_at BIGINT;

-- Raised whenever something about the person changed: what was worked out before that is not written over it.
ALTER TABLE people ADD COLUMN looks BIGINT NOT NULL DEFAULT 0;
CREATE INDEX people_next ON people (next_at);
UPDATE people SET next_at=0 WHERE EXISTS (SELECT 1 FROM accounts a WHERE a.person_id=people.id) OR EXISTS (SELECT 1 FROM grants g WHERE g.person_id=people.id AND g.until_at IS NULL);

-- Steps that take access away: no other step of the same person delays them.
ALTER TABLE steps ADD COLUMN removes BIGINT NOT NULL DEFAULT 0;
UPDATE steps SET removes=1 WHERE state IN ('pending','stopped') AND (change LIKE '%"kind":"disable-account"%' OR change LIKE '%"kind":"revoke"%');

-- What changed since an instant, for the index of people that each node keeps in memory.
CREATE INDEX people_updated ON people (updated_at, version);
CREATE INDEX accounts_updated ON accounts (updated_at);

-- How many hold an entitlement now.
CREATE INDEX grants_held ON grants (target, entitlement) WHERE until_at IS NULL;

-- People are listed and found in memory.
DROP INDEX people_search;
