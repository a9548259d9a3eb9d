-- How far a source has read what it reads by itself, such as files.
CREATE TABLE position (
    source  TEXT NOT NULL,
    id      TEXT NOT NULL,
    content TEXT NOT NULL,                -- JSON, the source's own
    PRIMARY KEY (source, id)
) WITHOUT ROWID;

-- Bodies that must not be taken twice, by the keys that their senders gave them.
CREATE TABLE taken_once (
    source  TEXT   NOT NULL,
    key     TEXT   NOT NULL,
    at_ms   BIGINT NOT NULL,
    sum     BIGINT NOT NULL,              -- XXH3-64 of the body
    receipt TEXT   NOT NULL,              -- JSON: what the sender was told
    PRIMARY KEY (source, key)
) WITHOUT ROWID;
CREATE INDEX taken_once_by_time ON taken_once (at_ms);
