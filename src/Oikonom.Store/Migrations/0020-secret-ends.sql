-- Until when a secret can be used, as whoever set it knows; NULL where that is not known or never ends.
ALTER TABLE secrets ADD COLUMN valid_until BIGINT;
