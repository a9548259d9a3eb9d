-- What was predicted of a revision when it was applied: a document in JSON.
CREATE TABLE forecast (
    revision INTEGER PRIMARY KEY NOT NULL REFERENCES revision (number),
    content TEXT NOT NULL
);
