-- +goose Up
-- A join belongs to the shelf that its members write to, and knows its members.
ALTER TABLE join_tasks DROP CONSTRAINT join_tasks_repository_id_join_id_fkey, DROP CONSTRAINT join_tasks_pkey;
ALTER TABLE joins DROP CONSTRAINT joins_pkey, ADD PRIMARY KEY (repository_id, shelf, id),
    ADD first_run text; -- stands for all members where runs are listed; null: none is recorded
ALTER TABLE join_tasks ADD shelf text;
UPDATE join_tasks t SET shelf = j.shelf FROM joins j WHERE j.repository_id = t.repository_id AND j.id = t.join_id;
ALTER TABLE join_tasks ALTER shelf SET NOT NULL, ADD PRIMARY KEY (repository_id, shelf, join_id, task),
    ADD FOREIGN KEY (repository_id, shelf, join_id) REFERENCES joins (repository_id, shelf, id) ON DELETE CASCADE;
CREATE TABLE join_members (
    repository_id bigint NOT NULL,
    shelf         text NOT NULL,
    join_id       text NOT NULL,
    token_id      bigint NOT NULL,
    run_id        text NOT NULL,
    PRIMARY KEY (repository_id, shelf, join_id, token_id, run_id),
    FOREIGN KEY (repository_id, shelf, join_id) REFERENCES joins (repository_id, shelf, id) ON DELETE CASCADE
);
INSERT INTO join_members (repository_id, shelf, join_id, token_id, run_id)
    SELECT j.repository_id, j.shelf, j.id, r.token_id, r.id FROM joins j
    JOIN runs r ON r.repository_id = j.repository_id AND r.join_id = j.id
    UNION SELECT repository_id, shelf, join_id, token_id, run_id FROM join_tasks;
ALTER TABLE runs ADD follows boolean NOT NULL DEFAULT false; -- another member of its join stands for it
CREATE TEMPORARY TABLE leads ON COMMIT DROP AS
    SELECT repository_id, join_id, min(id) AS id FROM runs WHERE join_id <> '' GROUP BY 1, 2;
UPDATE runs r SET follows = true FROM leads l
    WHERE r.repository_id = l.repository_id AND r.join_id = l.join_id AND r.id <> l.id;
UPDATE joins j SET first_run = l.id FROM leads l WHERE l.repository_id = j.repository_id AND l.join_id = j.id;
CREATE INDEX runs_follow ON runs (repository_id, began) WHERE follows;
-- Results that turned out to be wrong.
CREATE TABLE withdrawals (
    repository_id bigint NOT NULL REFERENCES repositories (id),
    shelf         text NOT NULL,
    key           bytea NOT NULL,
    listing       bytea NOT NULL,
    name          text NOT NULL, -- of the token
    at            timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (repository_id, shelf, key, listing)
);
-- What each runner has done is counted without looking at all jobs.
CREATE INDEX jobs_done ON jobs (runner_id) WHERE ended_at IS NOT NULL;
CREATE INDEX requests_mine ON requests (repository_id, token_id) WHERE ended_at IS NULL;

-- +goose Down
DROP TABLE withdrawals;
DROP INDEX requests_mine;
DROP INDEX jobs_done;
DROP INDEX runs_follow;
ALTER TABLE runs DROP follows;
DROP TABLE join_members;
DROP TABLE join_tasks;
DROP TABLE joins;
CREATE TABLE joins (
    repository_id bigint NOT NULL REFERENCES repositories (id),
    id            text NOT NULL,
    plan          bytea NOT NULL,
    shelf         text NOT NULL,
    made_at       timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (repository_id, id)
);
CREATE TABLE join_tasks (
    repository_id bigint NOT NULL,
    join_id       text NOT NULL,
    task          text NOT NULL,
    key           bytea NOT NULL,
    ingredients   jsonb NOT NULL,
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
