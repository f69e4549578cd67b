-- +goose Up
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
