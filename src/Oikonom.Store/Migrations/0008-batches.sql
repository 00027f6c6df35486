-- The file that a request was asked for in, when the file is decided as a whole.
ALTER TABLE requests ADD COLUMN batch TEXT NOT NULL DEFAULT '';
CREATE INDEX requests_batch ON requests (batch) WHERE batch<>'';
