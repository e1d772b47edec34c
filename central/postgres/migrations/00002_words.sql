-- +goose Up
-- Searches look for what a text contains by its trigrams, in an index of a collection whose definition asks for it. Without the extension, which a
-- database of one's own may not allow, they look through all records.
-- +goose StatementBegin
DO $$
BEGIN
    CREATE EXTENSION IF NOT EXISTS pg_trgm;
EXCEPTION WHEN insufficient_privilege OR undefined_file OR feature_not_supported OR undefined_object THEN
    RAISE NOTICE 'no index for searches: %', SQLERRM;
END
$$;
-- +goose StatementEnd
