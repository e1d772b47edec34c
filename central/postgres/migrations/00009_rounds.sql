-- +goose Up
-- Rounds that a central begins after it was put back are numbered by its clock, in milliseconds.
ALTER TABLE feeds ALTER COLUMN round TYPE bigint, ALTER COLUMN whole TYPE bigint;
ALTER TABLE feed_held ALTER COLUMN round TYPE bigint;
