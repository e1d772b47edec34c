-- +goose Up
-- What came when: the history is written in the order of its arrival, so a summary of ranges of its pages finds a
-- time, and costs a change nothing.
CREATE INDEX versions_received ON versions USING brin (received_at) WITH (pages_per_range = 16, autosummarize = on);

-- Removed records are few, and some people look for them.
CREATE INDEX records_removed ON records (collection, id) WHERE removed;
