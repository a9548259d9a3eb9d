-- The key of the sources that agents come to, sealed: hosts that have nothing yet know them by it.
ALTER TABLE authority ADD COLUMN door BLOB;
