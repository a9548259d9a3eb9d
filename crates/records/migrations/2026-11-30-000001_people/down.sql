DROP TABLE journal_start;
DROP TABLE journal;
ALTER TABLE token DROP COLUMN made_by;
ALTER TABLE token DROP COLUMN used_from;
ALTER TABLE token DROP COLUMN parent;
ALTER TABLE token DROP COLUMN person;
ALTER TABLE token DROP COLUMN grants;
DROP TABLE person;
