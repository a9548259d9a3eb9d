-- How events stood before the steps of their destination, so that those can be done anew: of what waits, as differences from what leaves (empty: none differs);
ALTER TABLE entry ADD COLUMN earlier BLOB NOT NULL DEFAULT x'';
-- of what was refused, as they stood (null: as in `data`).
ALTER TABLE quarantine ADD COLUMN earlier BLOB;

-- What became of refused events that were sent again.
CREATE TABLE resent (
    id          BIGINT PRIMARY KEY NOT NULL, -- the number that it had in quarantine
    run         BIGINT NOT NULL,          -- those of one request have one number
    destination TEXT   NOT NULL,
    entry       BIGINT NOT NULL,          -- where it was queued; 0: it was not
    place       BIGINT NOT NULL,          -- and its place there, from 0
    became      TEXT   NOT NULL,          -- waiting, delivered, refused, removed, discarded
    detail      TEXT   NOT NULL,
    again       BIGINT                    -- the number in quarantine that it has now
) WITHOUT ROWID;
CREATE INDEX resent_by_run ON resent (run);
CREATE INDEX resent_by_entry ON resent (entry, place);
