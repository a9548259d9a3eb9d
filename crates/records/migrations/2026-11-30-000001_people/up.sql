-- People who sign in. What they may do is asked at each of their requests.
CREATE TABLE person (
    name     TEXT   PRIMARY KEY NOT NULL,
    grants   TEXT   NOT NULL,             -- a sentence on each line
    password TEXT,                        -- Argon2id, as a PHC string; none, if they sign in otherwise
    made_ms  BIGINT NOT NULL,
    made_by  TEXT   NOT NULL
);

-- A program's token has grants of its own; a session has those of its person, or of the token that made its link.
ALTER TABLE token ADD COLUMN grants    TEXT NOT NULL DEFAULT '';
ALTER TABLE token ADD COLUMN person    TEXT;
ALTER TABLE token ADD COLUMN parent    BIGINT;
ALTER TABLE token ADD COLUMN used_from TEXT;
ALTER TABLE token ADD COLUMN made_by   TEXT NOT NULL DEFAULT '';
-- Whoever had a token before could do everything; whoever is signed in signs in again.
UPDATE token SET grants = 'see' || char(10) || 'operate' || char(10) || 'change' || char(10) || 'secrets' || char(10) || 'people' || char(10) || 'audit' WHERE kind = 'client';
DELETE FROM token WHERE kind = 'session';

-- Who did what. Rows are added and, when they are old, removed from the front; never changed.
CREATE TABLE journal (
    number  BIGINT PRIMARY KEY NOT NULL,
    at_ms   BIGINT NOT NULL,
    who     TEXT   NOT NULL,
    address TEXT   NOT NULL,
    action  TEXT   NOT NULL,
    subject TEXT   NOT NULL,
    result  TEXT   NOT NULL,
    hash    BLOB   NOT NULL               -- of this entry and the hash of the one before, under a key of the key file
);

-- The last entry that was removed from the front.
CREATE TABLE journal_start (
    number BIGINT PRIMARY KEY NOT NULL,
    hash   BLOB   NOT NULL
);
