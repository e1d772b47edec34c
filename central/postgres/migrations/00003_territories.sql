-- +goose Up
-- A device that loads a territory finds its records by this, however large the collection is.
CREATE INDEX records_territories ON records USING gin (territories);
