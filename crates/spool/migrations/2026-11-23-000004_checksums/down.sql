ALTER TABLE batch DROP COLUMN checksum;
