-- +goose Up
CREATE INDEX entries_task ON entries (repository_id, task, made_at DESC);
CREATE INDEX runs_last_good ON runs (repository_id, branch, started_at DESC) WHERE ok AND shelf = 'trusted' AND commit <> '';

-- +goose Down
DROP INDEX entries_task, runs_last_good;
