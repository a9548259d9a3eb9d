-- A name for this spool that no other has: places in its queues are only told apart with it.
CREATE TABLE identity (
    name TEXT NOT NULL PRIMARY KEY
);
INSERT INTO identity VALUES (lower(hex(randomblob(8))));
