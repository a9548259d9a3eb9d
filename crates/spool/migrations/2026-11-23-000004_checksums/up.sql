-- XXH3-64 of a batch's data, so that damage on the disk is noticed; 0 for batches from before.
ALTER TABLE batch ADD COLUMN checksum BIGINT NOT NULL DEFAULT 0;
