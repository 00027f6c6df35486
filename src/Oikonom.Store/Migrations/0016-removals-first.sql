-- What takes access away passes everything else that waits, while it is planned and while it is carried out.
CREATE INDEX steps_removals ON steps (target, due_at) WHERE removes=1 AND state='pending';
CREATE INDEX requests_leaving ON requests (due_at) WHERE state='planning' AND kind='leaver';
