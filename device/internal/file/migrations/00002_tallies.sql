-- +goose Up
-- What was added by the minute, many at once, so that totals of the last hour are told after the records have left.
CREATE TABLE tallies (
    worker     TEXT NOT NULL, -- on a shared device, nobody is told what others measured
    collection TEXT NOT NULL,
    minute     INTEGER NOT NULL, -- since 1970, by the device's clock
    field      TEXT NOT NULL,    -- empty for the records themselves
    n          INTEGER NOT NULL,
    sum        REAL NOT NULL,
    least      REAL NOT NULL,
    most       REAL NOT NULL,
    PRIMARY KEY (worker, collection, minute, field)
) WITHOUT ROWID;
