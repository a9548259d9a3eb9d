-- What waits for each destination, kept with every commit: so that a start need not count the queue.
CREATE TABLE due (
    destination TEXT   PRIMARY KEY NOT NULL,
    events      BIGINT NOT NULL,
    bytes       BIGINT NOT NULL
) WITHOUT ROWID;
INSERT INTO due SELECT destination, sum(events), sum(bytes) FROM entry GROUP BY destination;
