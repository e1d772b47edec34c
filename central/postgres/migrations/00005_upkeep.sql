-- +goose Up
-- What a device is asked to do with its next exchange, and what became of it: a few at most, told with who the device is.
ALTER TABLE devices ADD COLUMN errands jsonb NOT NULL DEFAULT '[]';

-- What its store takes on its disk, as it last reported.
ALTER TABLE devices ADD COLUMN stored bigint;

-- When a backup was written, and where to, so that people see whether one was.
CREATE TABLE backups (
	made_at timestamptz NOT NULL,
	file    text NOT NULL,
	bytes   bigint NOT NULL
);
