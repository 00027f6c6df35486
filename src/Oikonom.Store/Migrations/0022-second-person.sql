-- Work by hand that a second person looks at before it counts as done: who said that it is, and who confirmed it.
ALTER TABLE tasks ADD COLUMN needs_second BIGINT NOT NULL DEFAULT 0;
ALTER TABLE tasks ADD COLUMN reported_by TEXT NOT NULL DEFAULT '';
ALTER TABLE tasks ADD COLUMN reported_at BIGINT;
ALTER TABLE tasks ADD COLUMN confirmed_by TEXT NOT NULL DEFAULT '';
