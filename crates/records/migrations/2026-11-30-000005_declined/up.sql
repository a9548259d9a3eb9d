-- Suggestions that somebody declined: they are not made again.
CREATE TABLE declined (
    id TEXT PRIMARY KEY NOT NULL,
    at_ms BIGINT NOT NULL,
    who TEXT NOT NULL
);
