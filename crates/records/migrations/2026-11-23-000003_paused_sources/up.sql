-- Sources that an operator has paused.
CREATE TABLE paused_source (
    source TEXT   PRIMARY KEY NOT NULL,
    at_ms  BIGINT NOT NULL,
    who    TEXT   NOT NULL
);
