ALTER TABLE secret DROP COLUMN shown_to;
