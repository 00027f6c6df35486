-- What is due in one target is found without passing what waits in the others.
CREATE INDEX chains_due_in ON chains (target, due_at);
DROP INDEX chains_due;
