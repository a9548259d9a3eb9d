DROP INDEX quarantine_shares;
ALTER TABLE quarantine DROP COLUMN size;
