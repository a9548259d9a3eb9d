ALTER TABLE authority DROP COLUMN door;
