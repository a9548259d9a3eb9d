-- The authority that signs the certificates of agents, and of the sources that they come to: a certificate, and its key, sealed.
CREATE TABLE authority (
    id INTEGER PRIMARY KEY NOT NULL CHECK (id = 1),
    certificate TEXT NOT NULL,
    sealed BLOB NOT NULL
);
-- Codes with which agents enrol.
CREATE TABLE enrol_code (
    id INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL,
    hash BLOB NOT NULL UNIQUE,
    group_name TEXT NOT NULL,
    uses_left INTEGER NOT NULL,
    made_ms BIGINT NOT NULL,
    made_by TEXT NOT NULL,
    expires_ms BIGINT NOT NULL
);
-- Agents that have enrolled.
CREATE TABLE agent (
    id TEXT PRIMARY KEY NOT NULL,           -- their own 16 bytes, as hexadecimal digits
    name TEXT NOT NULL UNIQUE,
    group_name TEXT NOT NULL,
    key BLOB NOT NULL,                      -- SHA-256 of the public key
    certificate BLOB NOT NULL,              -- SHA-256 of the certificate
    previous BLOB,                          -- that of the one before, until the new one was used
    signed_ms BIGINT NOT NULL,
    enrolled_ms BIGINT NOT NULL,
    code BIGINT NOT NULL,
    seen_ms BIGINT NOT NULL,
    facts TEXT NOT NULL,                    -- JSON
    said TEXT NOT NULL                      -- JSON: how it is doing, what it runs by
);
