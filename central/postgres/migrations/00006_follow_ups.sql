-- +goose Up
-- What became of follow-ups, for people to read: what they did stands in the history, under their names.
CREATE TABLE follow_ups (
	place         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	at            timestamptz NOT NULL,
	collection    text NOT NULL,
	rule          text NOT NULL,
	record        uuid NOT NULL,
	revision      bigint NOT NULL,
	outcome       text NOT NULL,
	target        text NOT NULL,
	target_record uuid NOT NULL,
	kind          text NOT NULL,
	reasons       json
);
CREATE INDEX follow_ups_by_rule ON follow_ups (collection, rule, place);
-- What went wrong is looked for, and is rare.
CREATE INDEX follow_ups_to_look_at ON follow_ups (place) WHERE outcome IN ('refused', 'stopped');
