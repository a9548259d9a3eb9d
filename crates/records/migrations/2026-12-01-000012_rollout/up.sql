-- The program that agents are given: which, whom, and how far that is. JSON, in one row.
CREATE TABLE rollout (
    id INTEGER PRIMARY KEY NOT NULL CHECK (id = 1),
    state TEXT NOT NULL
);
