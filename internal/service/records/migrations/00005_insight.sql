-- +goose Up
-- Records of tasks in typed columns, partitioned by the month in which the run
-- began, which its id says. What earlier versions recorded is dropped.
DROP TABLE run_tasks, runs;
CREATE EXTENSION IF NOT EXISTS pg_trgm;

-- The declarations of a repository, once per digest: JSON under zstd.
CREATE TABLE graphs (
    repository_id bigint NOT NULL REFERENCES repositories (id),
    digest        bytea NOT NULL CHECK (octet_length(digest) = 32),
    document      bytea NOT NULL,
    stored_at     timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (repository_id, digest)
);

CREATE TABLE tasks (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    repository_id bigint NOT NULL REFERENCES repositories (id),
    name          text NOT NULL,
    project       text NOT NULL,
    UNIQUE (repository_id, name)
);

CREATE TABLE runs (
    repository_id bigint NOT NULL REFERENCES repositories (id),
    id            text NOT NULL,
    began         timestamptz NOT NULL, -- as the id says
    token_id      bigint NOT NULL REFERENCES tokens (id),
    name          text NOT NULL,
    host          text NOT NULL,
    place         text NOT NULL,
    branch        text NOT NULL,
    commit        text NOT NULL,
    shelf         text NOT NULL,
    requested     text[] NOT NULL,
    no_reuse      boolean NOT NULL,
    jobs          integer NOT NULL,
    tasks         integer NOT NULL,
    graph         bytea,
    generated     boolean NOT NULL DEFAULT false, -- not a real run: made to show the console at scale
    started_at    timestamptz NOT NULL,
    touched_at    timestamptz NOT NULL DEFAULT now(),
    finished_at   timestamptz,
    through       bigint NOT NULL DEFAULT 0,
    rolled        bigint NOT NULL DEFAULT 0, -- up to which event it is part of the rollups
    ok            boolean NOT NULL DEFAULT false,
    interrupted   boolean NOT NULL DEFAULT false,
    seconds       double precision NOT NULL DEFAULT 0,
    saved_seconds double precision NOT NULL DEFAULT 0,
    cost_seconds  double precision NOT NULL DEFAULT 0,
    fetch_seconds double precision NOT NULL DEFAULT 0,
    bytes_in      bigint NOT NULL DEFAULT 0,
    bytes_out     bigint NOT NULL DEFAULT 0,
    n_current     integer NOT NULL DEFAULT 0,
    n_cached      integer NOT NULL DEFAULT 0,
    n_restored    integer NOT NULL DEFAULT 0,
    n_fetched     integer NOT NULL DEFAULT 0,
    n_ran         integer NOT NULL DEFAULT 0,
    n_failed      integer NOT NULL DEFAULT 0,
    n_blocked     integer NOT NULL DEFAULT 0,
    n_stopped     integer NOT NULL DEFAULT 0,
    n_not_started integer NOT NULL DEFAULT 0,
    critical_seconds double precision NOT NULL DEFAULT 0, -- of the critical path; 0: nothing ran
    words         text NOT NULL, -- what free text is searched in, in lower case
    PRIMARY KEY (repository_id, id),
    CONSTRAINT runs_seconds_bounds CHECK (
        seconds BETWEEN 0 AND 1e8 AND saved_seconds BETWEEN -1e10 AND 1e10 AND cost_seconds BETWEEN 0 AND 1e10)
);
CREATE INDEX runs_began ON runs (repository_id, began DESC, id DESC);
CREATE INDEX runs_place ON runs (repository_id, place, began DESC, id DESC);
CREATE INDEX runs_person ON runs (repository_id, name, began DESC, id DESC);
CREATE INDEX runs_branch ON runs (repository_id, branch, began DESC, id DESC);
CREATE INDEX runs_saved ON runs (repository_id, saved_seconds DESC, id DESC);
CREATE INDEX runs_took ON runs (repository_id, seconds DESC, id DESC);
CREATE INDEX runs_cost ON runs (repository_id, cost_seconds DESC, id DESC);
CREATE INDEX runs_ran ON runs (repository_id, (n_ran + n_failed) DESC, id DESC);
CREATE INDEX runs_commit ON runs (repository_id, commit text_pattern_ops);
CREATE INDEX runs_words ON runs USING gin (words gin_trgm_ops);
CREATE INDEX runs_last_good ON runs (repository_id, branch, started_at DESC) WHERE ok AND shelf = 'trusted' AND commit <> '';
CREATE INDEX runs_graph ON runs (repository_id, graph);
CREATE INDEX runs_unrolled ON runs (touched_at) WHERE rolled < through;

CREATE TABLE run_tasks (
    repository_id bigint NOT NULL,
    began         timestamptz NOT NULL,
    run_id        text NOT NULL,
    task_id       bigint NOT NULL,
    place         text NOT NULL,
    running       boolean NOT NULL,
    at            double precision NOT NULL, -- seconds since the start of the run
    slot          integer NOT NULL,
    attempt       integer NOT NULL,
    outcome       text NOT NULL,
    reason        text NOT NULL,
    detail        text[] NOT NULL,
    message       text NOT NULL,
    seconds       double precision NOT NULL,
    run_seconds   double precision NOT NULL,
    fetch_seconds double precision NOT NULL,
    wait_seconds  double precision NOT NULL,
    hash_seconds  double precision NOT NULL,
    saved_seconds double precision NOT NULL,
    bytes_in      bigint NOT NULL,
    bytes_out     bigint NOT NULL,
    picked        boolean NOT NULL,
    key           bytea,
    listing       bytea,
    ingredients   bytea,
    log           bytea,
    made_name     text,
    made_host     text,
    made_place    text,
    made_run      text,
    made_at       timestamptz,
    compared      text NOT NULL,
    changed       text[] NOT NULL,
    changed_count integer NOT NULL,
    same_outputs  boolean,
    tests         integer NOT NULL,
    tests_failed  integer NOT NULL,
    critical      double precision NOT NULL DEFAULT 0, -- its part of the run's critical path, from 0 to 1
    PRIMARY KEY (repository_id, began, run_id, task_id)
) PARTITION BY RANGE (began);
CREATE INDEX run_tasks_task ON run_tasks (repository_id, task_id, began DESC);
CREATE INDEX run_tasks_log ON run_tasks (repository_id, log);
CREATE INDEX run_tasks_key ON run_tasks (repository_id, task_id, key) WHERE outcome IN ('ran', 'failed');
CREATE TABLE run_tasks_other PARTITION OF run_tasks DEFAULT;

CREATE TABLE test_cases (
    repository_id bigint NOT NULL,
    began         timestamptz NOT NULL,
    run_id        text NOT NULL,
    task_id       bigint NOT NULL,
    number        integer NOT NULL,
    name          text NOT NULL,
    result        text NOT NULL,
    seconds       double precision NOT NULL,
    message       text NOT NULL,
    PRIMARY KEY (repository_id, began, run_id, task_id, number)
) PARTITION BY RANGE (began);
CREATE INDEX test_cases_name ON test_cases (repository_id, task_id, name, began DESC);
CREATE TABLE test_cases_other PARTITION OF test_cases DEFAULT;

-- Rollups. Each row is computed from the records of its cell, as a whole.
CREATE TABLE run_hours (
    repository_id bigint NOT NULL,
    hour          timestamptz NOT NULL, -- UTC
    place         text NOT NULL,
    branch        text NOT NULL,
    person        text NOT NULL,
    shelf         text NOT NULL,
    runs          integer NOT NULL,
    passed        integer NOT NULL,
    failed        integer NOT NULL,
    worked        integer NOT NULL, -- runs with a critical path
    seconds       double precision NOT NULL,
    saved_seconds double precision NOT NULL,
    cost_seconds  double precision NOT NULL,
    fetch_seconds double precision NOT NULL,
    bytes_in      bigint NOT NULL,
    bytes_out     bigint NOT NULL,
    reused        bigint NOT NULL, -- tasks that were cached, restored or fetched
    executed      bigint NOT NULL, -- tasks that ran or failed
    PRIMARY KEY (repository_id, hour, place, branch, person, shelf)
);

-- By week, because by hour, person and branch there would be nearly as many
-- cells as records. Weeks begin on Monday, UTC.
CREATE TABLE task_weeks (
    repository_id bigint NOT NULL,
    week          date NOT NULL,
    task_id       bigint NOT NULL,
    place         text NOT NULL,
    outcome       text NOT NULL,
    n             integer NOT NULL,
    seconds       double precision NOT NULL,
    run_seconds   double precision NOT NULL,
    fetch_seconds double precision NOT NULL,
    saved_seconds double precision NOT NULL,
    bytes_in      bigint NOT NULL,
    bytes_out     bigint NOT NULL,
    same_outputs  integer NOT NULL,
    critical_runs integer NOT NULL,
    critical      double precision NOT NULL,
    buckets       smallint[] NOT NULL, -- of duration_bucket, ascending
    counts        integer[] NOT NULL,  -- of each of them
    PRIMARY KEY (repository_id, week, task_id, place, outcome)
);
CREATE INDEX task_weeks_task ON task_weeks (repository_id, task_id, week);

-- Work that was done more than once in a week, anywhere.
CREATE TABLE task_repeats (
    repository_id bigint NOT NULL,
    week          date NOT NULL,
    task_id       bigint NOT NULL,
    executed      integer NOT NULL,
    keys          integer NOT NULL,
    seconds       double precision NOT NULL, -- beyond the longest execution of each key
    PRIMARY KEY (repository_id, week, task_id)
);

-- Files, and directories (with a slash at the end), whose change caused reruns.
CREATE TABLE task_causes (
    repository_id bigint NOT NULL,
    week          date NOT NULL,
    task_id       bigint NOT NULL,
    path          text NOT NULL,
    reruns        integer NOT NULL,
    same_outputs  integer NOT NULL,
    seconds       double precision NOT NULL,
    PRIMARY KEY (repository_id, week, task_id, path)
);

-- Keys whose executions did not agree: some passed and some failed, or they gave
-- different outputs.
CREATE TABLE unstable_keys (
    repository_id bigint NOT NULL,
    task_id       bigint NOT NULL,
    key           bytea NOT NULL,
    passed        integer NOT NULL,
    failed        integer NOT NULL,
    listings      integer NOT NULL,
    last_at       timestamptz NOT NULL,
    passed_run    text NOT NULL,
    failed_run    text NOT NULL,
    other_run     text NOT NULL, -- with other outputs than passed_run
    tests         text[] NOT NULL, -- that failed in one execution and passed in another
    PRIMARY KEY (repository_id, task_id, key)
);

-- Executions that would have been reused if one ingredient were equal.
CREATE TABLE near_misses (
    repository_id bigint NOT NULL,
    began         timestamptz NOT NULL,
    run_id        text NOT NULL,
    task_id       bigint NOT NULL,
    place         text NOT NULL,
    other_run     text NOT NULL,
    other_place   text NOT NULL,
    kind          text NOT NULL, -- probe, environment or platform
    name          text NOT NULL,
    seconds       double precision NOT NULL,
    PRIMARY KEY (repository_id, run_id, task_id)
);
CREATE INDEX near_misses_began ON near_misses (repository_id, began);

-- What the shared cache held at the end of each day.
CREATE TABLE cache_days (
    repository_id bigint NOT NULL,
    day           date NOT NULL,
    shelf         text NOT NULL,
    project       text NOT NULL,
    entries       bigint NOT NULL,
    bytes         bigint NOT NULL,
    PRIMARY KEY (repository_id, day, shelf, project)
);
CREATE TABLE evictions (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    repository_id bigint NOT NULL,
    at            timestamptz NOT NULL DEFAULT now(),
    shelf         text NOT NULL,
    project       text NOT NULL,
    why           text NOT NULL, -- unused or quota
    entries       bigint NOT NULL,
    bytes         bigint NOT NULL
);
CREATE INDEX evictions_at ON evictions (repository_id, at);

ALTER TABLE entries ADD COLUMN reports bytea;
CREATE INDEX entries_reports ON entries (repository_id, reports);
CREATE INDEX entries_made ON entries (repository_id, made_at DESC);

CREATE TABLE audit (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    repository_id bigint NOT NULL REFERENCES repositories (id),
    at            timestamptz NOT NULL DEFAULT now(),
    actor         text NOT NULL, -- a token's name, or "grayloftd"
    address       text NOT NULL, -- where the request came from
    action        text NOT NULL,
    subject       text NOT NULL,
    detail        text NOT NULL
);
CREATE INDEX audit_at ON audit (repository_id, at DESC, id DESC);
ALTER TABLE tokens ADD COLUMN made_by text NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN used_at timestamptz;

-- The bucket of a duration in seconds: four to each doubling, from 1 ms.
-- +goose StatementBegin
CREATE FUNCTION duration_bucket(double precision) RETURNS smallint LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
    SELECT least(127, floor(4 * ln(greatest($1, 0.001) / 0.001) / ln(2.0::float8)))::smallint
$$;
-- +goose StatementEnd

-- +goose Down
DROP FUNCTION duration_bucket(double precision);
ALTER TABLE tokens DROP COLUMN made_by, DROP COLUMN used_at;
DROP TABLE audit, evictions, cache_days, near_misses, unstable_keys, task_causes, task_repeats, task_weeks, run_hours, test_cases, run_tasks, runs, tasks, graphs;
ALTER TABLE entries DROP COLUMN reports;
