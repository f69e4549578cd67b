-- +goose Up
-- A task without outputs runs again as well, but nothing can be said about them.
ALTER TABLE task_causes ADD COLUMN judged integer NOT NULL DEFAULT 0; -- reruns whose outputs could be compared
UPDATE task_causes SET judged = reruns;

-- +goose Down
ALTER TABLE task_causes DROP COLUMN judged;
