-- When an account was looked at last, whether or not anything was done to it.
ALTER TABLE accounts ADD COLUMN looked_at BIGINT NOT NULL DEFAULT 0;
CREATE INDEX accounts_looked ON accounts (looked_at) WHERE person_id IS NOT NULL;

-- Accounts that are not in their target as they were left: how they differ, since when, the request that sets it right
-- ('' while none does), and who said that it may stay so.
CREATE TABLE findings (
    person_id TEXT NOT NULL,
    target TEXT NOT NULL,
    slot TEXT NOT NULL,
    account TEXT NOT NULL,
    differences TEXT NOT NULL,
    since_at BIGINT NOT NULL,
    seen_at BIGINT NOT NULL,
    request_id TEXT NOT NULL DEFAULT '',
    left_by TEXT NOT NULL DEFAULT '',
    left_at BIGINT,
    remark TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (person_id, target, slot)
);
CREATE INDEX findings_target ON findings (target, since_at);

-- How a request ended, beside that it did: 'done', 'partly' or 'needless'; 'none' where its state says all.
ALTER TABLE requests ADD COLUMN outcome TEXT NOT NULL DEFAULT 'none';

-- What a request waited for before it was planned anew, and since when, as JSON: it waits on since then if it waits for the same.
ALTER TABLE requests ADD COLUMN waited TEXT NOT NULL DEFAULT '';

-- Accounts whose first password is to be handed over: a link is made and sent when its time comes.
CREATE TABLE links_due (
    person_id TEXT NOT NULL,
    target TEXT NOT NULL,
    slot TEXT NOT NULL,
    request_id TEXT NOT NULL,
    due_at BIGINT NOT NULL,
    PRIMARY KEY (person_id, target, slot)
);
CREATE INDEX links_due_at ON links_due (due_at);
CREATE INDEX handovers_account ON handovers (person_id, target, slot);
