-- +goose Up
-- Of an outbox that is long, an exchange asks for a few changes again and again: those of a batch that got no answer, those that were
-- folded, those that were not accepted, and records of which several changes wait. There are few of each.
CREATE INDEX outbox_batch ON outbox (batch) WHERE batch IS NOT NULL;
CREATE INDEX outbox_place ON outbox (place) WHERE place IS NOT NULL;
CREATE INDEX outbox_origin ON outbox (origin) WHERE origin <> '';
CREATE INDEX outbox_refused ON outbox (collection, record) WHERE state = 'refused';
CREATE INDEX outbox_waiting ON outbox (collection, record) WHERE state = 'waiting';
CREATE INDEX records_steps ON records (collection, id) WHERE pending > 1;
