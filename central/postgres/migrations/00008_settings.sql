-- +goose Up
-- How devices are to behave, as central says it: for all, for a team, for one.
CREATE TABLE settings (
	scope   text NOT NULL, -- all, team NAME, device ID
	name    text NOT NULL,
	value   json NOT NULL,
	-- What the devices that it does not go to yet go by; null for nothing.
	before  json,
	share   integer NOT NULL DEFAULT 100, -- percent of the devices
	set_by  text NOT NULL,
	set_at  timestamptz NOT NULL,
	PRIMARY KEY (scope, name)
);
ALTER TABLE devices ADD COLUMN teams text[] NOT NULL DEFAULT '{}';
-- What the device last said of the settings that it goes by.
ALTER TABLE devices ADD COLUMN applied text NOT NULL DEFAULT '';
ALTER TABLE devices ADD COLUMN applied_at timestamptz;
ALTER TABLE devices ADD COLUMN unknown_settings json NOT NULL DEFAULT '[]';
-- How many records a feed has brought in a minute, and in the one before.
ALTER TABLE feeds ADD COLUMN minute timestamptz;
ALTER TABLE feeds ADD COLUMN in_minute bigint NOT NULL DEFAULT 0;
ALTER TABLE feeds ADD COLUMN before_minute bigint NOT NULL DEFAULT 0;
