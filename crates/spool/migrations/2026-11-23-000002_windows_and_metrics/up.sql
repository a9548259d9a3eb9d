-- What steps hold back: open windows of merged repeats and joined lines.
CREATE TABLE held (
    id      BLOB PRIMARY KEY NOT NULL,    -- 16 bytes: the step and the key
    content TEXT NOT NULL                 -- JSON
) WITHOUT ROWID;

-- What `count` and `measure` add up, by minute.
CREATE TABLE metric_minute (
    minute  BIGINT NOT NULL,
    metric  TEXT   NOT NULL,
    labels  TEXT   NOT NULL,              -- JSON: pairs of name and value
    count   DOUBLE NOT NULL,
    content TEXT   NOT NULL,              -- JSON: of a histogram, its sum and buckets; else null
    PRIMARY KEY (minute, metric, labels)
) WITHOUT ROWID;

-- The same, since the beginning.
CREATE TABLE metric_total (
    metric  TEXT   NOT NULL,
    labels  TEXT   NOT NULL,
    count   DOUBLE NOT NULL,
    content TEXT   NOT NULL,
    PRIMARY KEY (metric, labels)
) WITHOUT ROWID;
