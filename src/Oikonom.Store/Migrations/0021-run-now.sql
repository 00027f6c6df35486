-- Until when the steps of a subject run in a target whatever holds it up, because an operator said so; 0 mostly.
ALTER TABLE chains ADD COLUMN run_until BIGINT NOT NULL DEFAULT 0;
CREATE INDEX chains_run_now ON chains (target) WHERE run_until>0;
