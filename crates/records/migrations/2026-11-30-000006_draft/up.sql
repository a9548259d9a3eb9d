-- Drafts of the plan, one a person: what they begin from, and how often they were changed.
CREATE TABLE draft (
    who TEXT NOT NULL PRIMARY KEY,
    revision BIGINT NOT NULL,
    version BIGINT NOT NULL,
    at_ms BIGINT NOT NULL,
    text TEXT NOT NULL
);
