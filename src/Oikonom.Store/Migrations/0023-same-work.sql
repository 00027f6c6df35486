-- Work that somebody does for another request already: it is asked for once, and ends with the work it is the same as.
ALTER TABLE tasks ADD COLUMN same_as TEXT NOT NULL DEFAULT '';
CREATE INDEX tasks_same ON tasks (same_as) WHERE same_as <> '';
CREATE INDEX tasks_person ON tasks (person_id, target);
