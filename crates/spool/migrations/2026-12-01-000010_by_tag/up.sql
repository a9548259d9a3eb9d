-- The account told apart by the values of tags. Tags that the plan accounts by now are active.
CREATE TABLE tag (
    name   TEXT    PRIMARY KEY NOT NULL,
    active BOOLEAN NOT NULL
) WITHOUT ROWID;

-- An account of the ledger under one value of a tag, and its sum since the beginning.
CREATE TABLE tag_account (
    id       INTEGER PRIMARY KEY NOT NULL,
    tag      TEXT    NOT NULL,
    value    TEXT    NOT NULL,
    place    TEXT    NOT NULL,
    name     TEXT    NOT NULL,
    via      TEXT    NOT NULL,
    position INTEGER NOT NULL,
    sentence TEXT    NOT NULL,
    measure  TEXT    NOT NULL,
    events   BIGINT  NOT NULL,
    bytes    BIGINT  NOT NULL
);
CREATE UNIQUE INDEX tag_account_key ON tag_account (tag, value, place, name, via, position, sentence, measure);

CREATE TABLE tag_minute (
    minute  BIGINT NOT NULL,              -- minutes since 1970-01-01 UTC
    account BIGINT NOT NULL,
    events  BIGINT NOT NULL,
    bytes   BIGINT NOT NULL,
    PRIMARY KEY (minute, account)
) WITHOUT ROWID;

CREATE TABLE tag_hour (
    hour    BIGINT NOT NULL,
    account BIGINT NOT NULL,
    events  BIGINT NOT NULL,
    bytes   BIGINT NOT NULL,
    PRIMARY KEY (hour, account)
) WITHOUT ROWID;

CREATE TABLE tag_day (
    day     BIGINT NOT NULL,
    account BIGINT NOT NULL,
    events  BIGINT NOT NULL,
    bytes   BIGINT NOT NULL,
    PRIMARY KEY (day, account)
) WITHOUT ROWID;

-- What commits added, to be added to the sums: four numbers in LEB128 for each account and minute.
CREATE TABLE tag_pending (
    id      INTEGER PRIMARY KEY NOT NULL,
    amounts BLOB    NOT NULL
);
