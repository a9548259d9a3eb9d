-- What one acknowledgement covers is one transaction over these tables.

-- Events that left the routes, packed; stored once, however many destinations get them.
CREATE TABLE batch (
    id         INTEGER PRIMARY KEY AUTOINCREMENT,
    source     TEXT    NOT NULL,
    arrived_ms BIGINT  NOT NULL,
    packing    INTEGER NOT NULL,          -- 0 plain, 1 zstd
    size       BIGINT  NOT NULL,          -- bytes when unpacked
    uses       BIGINT  NOT NULL,          -- entries that still need it
    data       BLOB    NOT NULL
);

-- What is due at a destination, in order of arrival.
CREATE TABLE entry (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    destination TEXT   NOT NULL,
    route       TEXT   NOT NULL,
    batch       BIGINT NOT NULL REFERENCES batch (id),
    selection   BLOB   NOT NULL,
    events      BIGINT NOT NULL,          -- still waiting
    bytes       BIGINT NOT NULL,          -- still waiting
    done        BIGINT NOT NULL,          -- events at its front that are settled
    queued_ms   BIGINT NOT NULL
);
CREATE INDEX entry_in_order ON entry (destination, id);

CREATE TABLE ledger_minute (
    minute   BIGINT  NOT NULL,            -- minutes since 1970-01-01 UTC
    place    TEXT    NOT NULL,
    name     TEXT    NOT NULL,
    via      TEXT    NOT NULL,
    position INTEGER NOT NULL,
    sentence TEXT    NOT NULL,
    measure  TEXT    NOT NULL,
    events   BIGINT  NOT NULL,
    bytes    BIGINT  NOT NULL,
    PRIMARY KEY (minute, place, name, via, position, sentence, measure)
) WITHOUT ROWID;

-- The same, since the beginning.
CREATE TABLE ledger_total (
    place    TEXT    NOT NULL,
    name     TEXT    NOT NULL,
    via      TEXT    NOT NULL,
    position INTEGER NOT NULL,
    sentence TEXT    NOT NULL,
    measure  TEXT    NOT NULL,
    events   BIGINT  NOT NULL,
    bytes    BIGINT  NOT NULL,
    PRIMARY KEY (place, name, via, position, sentence, measure)
) WITHOUT ROWID;

-- What could not be read, or was refused for good.
CREATE TABLE quarantine (
    id     INTEGER PRIMARY KEY AUTOINCREMENT,
    at_ms  BIGINT NOT NULL,
    place  TEXT   NOT NULL,
    name   TEXT   NOT NULL,
    via    TEXT   NOT NULL,
    reason TEXT   NOT NULL,
    data   BLOB   NOT NULL
);

-- How far a file destination has been written: what stands behind was never settled.
CREATE TABLE reached (
    destination TEXT   PRIMARY KEY NOT NULL,
    file        TEXT   NOT NULL,
    length      BIGINT NOT NULL
);
