-- The request that ended an input, where one did: when it is taken back, the input holds again.
ALTER TABLE extras ADD COLUMN ended_by TEXT NOT NULL DEFAULT '';
CREATE INDEX extras_ended_by ON extras (ended_by) WHERE ended_by<>'';
CREATE INDEX extras_request ON extras (request_id);
