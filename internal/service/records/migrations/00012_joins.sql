-- +goose Up
-- Runs of several machines: the members agree on a plan, and divide its tasks.
CREATE TABLE joins (
    repository_id bigint NOT NULL REFERENCES repositories (id),
    id            text NOT NULL,
    plan          bytea NOT NULL, -- what all members have to agree on
    shelf         text NOT NULL,
    made_at       timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (repository_id, id)
);
CREATE TABLE join_tasks (
    repository_id bigint NOT NULL,
    join_id       text NOT NULL,
    task          text NOT NULL,
    key           bytea NOT NULL,
    ingredients   jsonb NOT NULL, -- digests by name, to say what differs
    token_id      bigint NOT NULL,
    run_id        text NOT NULL,
    place         text NOT NULL,
    seconds       double precision NOT NULL,
    state         text NOT NULL,
    message       text NOT NULL DEFAULT '',
    began_at      timestamptz NOT NULL DEFAULT now(),
    lease_until   timestamptz NOT NULL,
    PRIMARY KEY (repository_id, join_id, task),
    FOREIGN KEY (repository_id, join_id) REFERENCES joins ON DELETE CASCADE
);
ALTER TABLE runs ADD join_id text NOT NULL DEFAULT '';
CREATE INDEX runs_join ON runs (repository_id, join_id) WHERE join_id <> '';

-- +goose Down
DROP INDEX runs_join;
ALTER TABLE runs DROP join_id;
DROP TABLE join_tasks;
DROP TABLE joins;
