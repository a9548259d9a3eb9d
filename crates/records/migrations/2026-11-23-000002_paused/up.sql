-- Destinations whose events an operator holds back.
CREATE TABLE paused (
    destination TEXT   NOT NULL PRIMARY KEY,
    at_ms       BIGINT NOT NULL,
    who         TEXT   NOT NULL
);
