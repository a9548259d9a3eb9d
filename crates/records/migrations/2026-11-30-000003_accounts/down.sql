DROP INDEX person_account;
ALTER TABLE person DROP COLUMN account;
