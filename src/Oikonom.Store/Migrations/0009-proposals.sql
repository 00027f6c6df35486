-- The edition a proposal was made over: agreed to over another, it would take back what came between.
ALTER TABLE proposals ADD COLUMN base BIGINT NOT NULL DEFAULT 0;
