-- What a source raised within a day is counted with each push.
CREATE INDEX requests_source ON requests (source, created_at);
