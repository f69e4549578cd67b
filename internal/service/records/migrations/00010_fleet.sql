-- +goose Up
-- Runs that are requested from runners. The queue is River's; these tables say what was
-- requested, who carries it out, and how it ended.
ALTER TABLE tokens ADD may_request boolean NOT NULL DEFAULT false;
ALTER TABLE tokens ADD serves text[] NOT NULL DEFAULT '{}'; -- pools
ALTER TABLE tokens ADD job_id bigint; -- a token of one job
CREATE INDEX tokens_job ON tokens (job_id) WHERE job_id IS NOT NULL;

ALTER TABLE repositories ADD protected_refs text[] NOT NULL DEFAULT '{}';
ALTER TABLE repositories ADD protected_pools text[] NOT NULL DEFAULT '{}';

CREATE TABLE runners (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    repository_id bigint NOT NULL REFERENCES repositories (id),
    token_id      bigint NOT NULL,
    pool          text NOT NULL,
    hello         jsonb NOT NULL, -- what it said of itself
    draining      boolean NOT NULL DEFAULT false,
    free          integer NOT NULL DEFAULT 0,
    since         timestamptz NOT NULL DEFAULT now(),
    seen_at       timestamptz NOT NULL DEFAULT now(),
    left_at       timestamptz
);
CREATE INDEX runners_repository ON runners (repository_id, seen_at);

CREATE TABLE requests (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    repository_id bigint NOT NULL REFERENCES repositories (id),
    token_id      bigint NOT NULL,
    name          text NOT NULL, -- who requested it
    origin        text NOT NULL,
    pool          text NOT NULL,
    shelf         text NOT NULL,
    protected     boolean NOT NULL,
    ask           jsonb NOT NULL,
    changes       bytea, -- the blob of the local changes
    state         text NOT NULL DEFAULT 'queued',
    cancelled_by  text NOT NULL DEFAULT '',
    made_at       timestamptz NOT NULL DEFAULT now(),
    started_at    timestamptz,
    ended_at      timestamptz
);
CREATE INDEX requests_repository ON requests (repository_id, id DESC);
CREATE INDEX requests_open ON requests (repository_id, pool) WHERE ended_at IS NULL;
CREATE INDEX requests_changes ON requests (repository_id, changes) WHERE changes IS NOT NULL;

CREATE TABLE jobs (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    repository_id bigint NOT NULL REFERENCES repositories (id),
    request_id    bigint NOT NULL REFERENCES requests (id) ON DELETE CASCADE,
    member        integer NOT NULL,
    attempt       integer NOT NULL DEFAULT 0, -- it grows when a runner takes the job
    losses        integer NOT NULL DEFAULT 0, -- attempts that ended because the runner was lost
    state         text NOT NULL DEFAULT 'queued',
    runner_id     bigint,
    lease_until   timestamptz,
    run_id        text NOT NULL DEFAULT '',
    commit        text NOT NULL DEFAULT '',
    exit          integer NOT NULL DEFAULT 0,
    message       text NOT NULL DEFAULT '',
    plan          bytea, -- zstd
    started_at    timestamptz,
    ended_at      timestamptz
);
CREATE UNIQUE INDEX jobs_member ON jobs (request_id, member);
CREATE INDEX jobs_lease ON jobs (lease_until) WHERE state = 'running';
CREATE INDEX jobs_runner ON jobs (runner_id) WHERE state = 'running';

CREATE TABLE job_lines (
    request_id bigint NOT NULL REFERENCES requests (id) ON DELETE CASCADE,
    first      integer NOT NULL, -- number of the first line, per request
    lines      integer NOT NULL,
    job_id     bigint NOT NULL,
    attempt    integer NOT NULL,
    through    integer NOT NULL, -- lines of this attempt, with these
    bytes      bigint NOT NULL,
    content    bytea NOT NULL, -- JSON, zstd
    PRIMARY KEY (request_id, first)
);

-- +goose Down
DROP TABLE job_lines;
DROP TABLE jobs;
DROP TABLE requests;
DROP TABLE runners;
ALTER TABLE repositories DROP protected_pools;
ALTER TABLE repositories DROP protected_refs;
DROP INDEX tokens_job;
ALTER TABLE tokens DROP job_id;
ALTER TABLE tokens DROP serves;
ALTER TABLE tokens DROP may_request;
