-- What the centre says of a host: a JSON object of labels, which count before the host's own.
ALTER TABLE agent ADD COLUMN labels TEXT NOT NULL DEFAULT '{}';
