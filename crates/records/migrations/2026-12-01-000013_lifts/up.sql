-- Budgets by which nothing is done until then.
CREATE TABLE lift (
    budget TEXT PRIMARY KEY NOT NULL,
    until_ms BIGINT NOT NULL,
    who TEXT NOT NULL
);
