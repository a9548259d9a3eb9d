-- How large a record was; of one that could not be read, only the beginning is kept.
ALTER TABLE quarantine ADD COLUMN size BIGINT NOT NULL DEFAULT 0;
UPDATE quarantine SET size = length(data);
-- What each source and destination has there, by its size on disk.
CREATE INDEX quarantine_shares ON quarantine (place, name, id, length(data) + coalesce(length(earlier), 0));
