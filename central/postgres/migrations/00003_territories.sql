-- +goose Up
-- The territories of a record, each with its collection before it: so the index knows how many records of a collection
-- fall into a territory, and what lies open in other collections is not in the way.
-- +goose StatementBegin
CREATE FUNCTION placed(collection text, territories text[]) RETURNS text[] IMMUTABLE STRICT PARALLEL SAFE LANGUAGE sql
    AS $$ SELECT coalesce(array_agg(collection || ':' || key), '{}') FROM unnest(territories) key $$;
-- +goose StatementEnd

-- A device that loads a territory finds its records by this, however large the collection is.
CREATE INDEX records_placed ON records USING gin (placed(collection, territories)) WHERE NOT removed;
