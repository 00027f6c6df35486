-- The key leads to the record, and the fingerprint stands in it: another index to keep costs a first load more than it saves later.
DROP INDEX hr_fingerprints;
