-- Every plan that was ever applied. Rows are never changed.
CREATE TABLE revision (
    number BIGINT NOT NULL PRIMARY KEY,
    at_ms  BIGINT NOT NULL,
    who    TEXT   NOT NULL,
    why    TEXT   NOT NULL,
    text   TEXT   NOT NULL
);

-- Who may come in. Only the SHA-256 of a token is kept.
CREATE TABLE token (
    id         INTEGER PRIMARY KEY AUTOINCREMENT,
    name       TEXT   NOT NULL,
    kind       TEXT   NOT NULL,           -- client, session
    hash       BLOB   NOT NULL UNIQUE,
    made_ms    BIGINT NOT NULL,
    expires_ms BIGINT,                    -- never, if null
    used_ms    BIGINT
);

-- Sealed with ChaCha20-Poly1305 under the key file; the name is bound to the value.
CREATE TABLE secret (
    name   TEXT   NOT NULL PRIMARY KEY,
    nonce  BLOB   NOT NULL,
    sealed BLOB   NOT NULL,
    set_ms BIGINT NOT NULL
);
