-- An account of nobody that is left alone for a while is asked about again on a day.
ALTER TABLE accounts ADD COLUMN review_at BIGINT;
