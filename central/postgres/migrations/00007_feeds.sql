-- +goose Up
-- What goes from central to other systems, and how far it is.
CREATE TABLE feeds (
	name         text PRIMARY KEY,
	doc          json NOT NULL,
	defined_by   text NOT NULL,
	defined_at   timestamptz NOT NULL,
	paused_at    timestamptz,
	-- A round goes over everything anew: after the first time, since the feed, what its worker may see or the database have changed.
	round        integer NOT NULL DEFAULT 1,
	whole        integer NOT NULL DEFAULT 0,
	sight        text NOT NULL DEFAULT '',
	generation   uuid,
	-- Of several instances one works a feed: what an earlier holder still has under way is not noted any more.
	holder       uuid,
	tries        integer NOT NULL DEFAULT 0,
	next_try     timestamptz,
	error        text NOT NULL DEFAULT '',
	failed_at    timestamptz,
	delivered    bigint NOT NULL DEFAULT 0,
	delivered_at timestamptz
);
CREATE TABLE feed_cursors (
	feed       text NOT NULL REFERENCES feeds ON DELETE CASCADE,
	collection text NOT NULL,
	cursor     bigint NOT NULL,
	PRIMARY KEY (feed, collection)
);
-- What the destination has, or may have: only of that is it told that it is gone.
CREATE TABLE feed_held (
	feed       text NOT NULL REFERENCES feeds ON DELETE CASCADE,
	collection text NOT NULL,
	record     uuid NOT NULL,
	revision   bigint NOT NULL,
	round      integer NOT NULL,
	PRIMARY KEY (feed, collection, record)
);
-- What a destination refused: it stops nothing else, and waits for somebody.
CREATE TABLE feed_aside (
	place      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	feed       text NOT NULL REFERENCES feeds ON DELETE CASCADE,
	collection text NOT NULL,
	record     uuid NOT NULL,
	revision   bigint NOT NULL,
	at         timestamptz NOT NULL,
	reason     text NOT NULL,
	again      boolean NOT NULL DEFAULT false, -- somebody wants it sent again
	UNIQUE (feed, collection, record)
);
-- Secrets of destinations stand by themselves: nothing that shows or exports feeds reads this table.
CREATE TABLE feed_secrets (
	name   text PRIMARY KEY,
	value  bytea NOT NULL,
	set_by text NOT NULL,
	set_at timestamptz NOT NULL
);
