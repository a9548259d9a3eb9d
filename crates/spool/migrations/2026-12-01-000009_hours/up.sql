-- The account by the hour and by the day, summed up from its minutes once an hour is over.
CREATE TABLE ledger_hour (
    hour     BIGINT  NOT NULL,            -- hours since 1970-01-01 UTC
    place    TEXT    NOT NULL,
    name     TEXT    NOT NULL,
    via      TEXT    NOT NULL,
    position INTEGER NOT NULL,
    sentence TEXT    NOT NULL,
    measure  TEXT    NOT NULL,
    events   BIGINT  NOT NULL,
    bytes    BIGINT  NOT NULL,
    PRIMARY KEY (hour, place, name, via, position, sentence, measure)
) WITHOUT ROWID;

CREATE TABLE ledger_day (
    day      BIGINT  NOT NULL,            -- days since 1970-01-01 UTC
    place    TEXT    NOT NULL,
    name     TEXT    NOT NULL,
    via      TEXT    NOT NULL,
    position INTEGER NOT NULL,
    sentence TEXT    NOT NULL,
    measure  TEXT    NOT NULL,
    events   BIGINT  NOT NULL,
    bytes    BIGINT  NOT NULL,
    PRIMARY KEY (day, place, name, via, position, sentence, measure)
) WITHOUT ROWID;

-- Up to which minute (exclusive) that was done; what is posted for an earlier one is added to all three.
CREATE TABLE rolled (
    one   INTEGER PRIMARY KEY CHECK (one = 1),
    until BIGINT  NOT NULL
);
INSERT INTO rolled VALUES (1, 0);
