-- Of the newest revision: that what hosts collect by it goes to some of them first. JSON.
CREATE TABLE stage (
    revision BIGINT PRIMARY KEY NOT NULL,
    state TEXT NOT NULL
);
