-- How each alert stands.
CREATE TABLE alert (
    name TEXT PRIMARY KEY NOT NULL,
    phase TEXT NOT NULL,
    since_ms BIGINT NOT NULL,
    told_ms BIGINT NOT NULL,
    is_told BOOLEAN NOT NULL,
    acknowledged_by TEXT,
    says TEXT NOT NULL
);
-- Alerts of which nobody is told until then.
CREATE TABLE silence (
    alert TEXT PRIMARY KEY NOT NULL,
    until_ms BIGINT NOT NULL,
    who TEXT NOT NULL
);
-- What is told of alerts, in order.
CREATE TABLE notice (
    number INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL,
    at_ms BIGINT NOT NULL,
    alert TEXT NOT NULL,
    turn TEXT NOT NULL,
    severity TEXT NOT NULL,
    says TEXT NOT NULL,
    watches TEXT NOT NULL,
    advice TEXT,
    since_ms BIGINT NOT NULL
);
