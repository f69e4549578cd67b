-- +goose Up
-- Each branch and each person has a shelf of its own: growth is noted for all
-- branches, and all people, together.
-- +goose StatementBegin
CREATE FUNCTION shelf_family(text) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
    SELECT CASE WHEN strpos($1, '/') > 0 THEN split_part($1, '/', 1) || '/*' ELSE $1 END
$$;
-- +goose StatementEnd
CREATE TEMPORARY TABLE days ON COMMIT DROP AS
    SELECT repository_id, day, shelf_family(shelf) AS shelf, project, sum(entries)::bigint AS entries, sum(bytes)::bigint AS bytes
    FROM cache_days GROUP BY 1, 2, 3, 4;
DELETE FROM cache_days;
INSERT INTO cache_days SELECT * FROM days;

CREATE INDEX runs_transferred ON runs (repository_id, bytes_in DESC, id DESC);

-- +goose Down
DROP INDEX runs_transferred;
DROP FUNCTION shelf_family(text);
