-- The entry that had a name last and was deleted in its target: where the target keeps it, it is brought back as itself.
ALTER TABLE names ADD COLUMN deleted_entry TEXT NOT NULL DEFAULT '';

-- Where a target goes on telling what changed in it, and when it was asked last.
ALTER TABLE target_states ADD COLUMN changes_since TEXT NOT NULL DEFAULT '';
ALTER TABLE target_states ADD COLUMN changes_at BIGINT;

-- 1 when only what changed was read.
ALTER TABLE reconciliations ADD COLUMN changes BIGINT NOT NULL DEFAULT 0;
