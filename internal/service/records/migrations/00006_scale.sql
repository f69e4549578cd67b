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

-- What running tasks printed, until they end: JSON under zstd.
CREATE TABLE growing_logs (
    repository_id bigint NOT NULL,
    run_id        text NOT NULL,
    task_id       bigint NOT NULL,
    first         integer NOT NULL, -- number of the first line
    lines         integer NOT NULL,
    bytes         integer NOT NULL, -- before compression
    content       bytea NOT NULL,
    stored_at     timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (repository_id, run_id, task_id, first)
);
CREATE INDEX growing_logs_stored ON growing_logs (stored_at);

-- +goose Down
DROP TABLE growing_logs;
DROP INDEX runs_transferred;
DROP FUNCTION shelf_family(text);
