-- +goose Up
CREATE TABLE repositories (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE tokens (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    repository_id bigint NOT NULL REFERENCES repositories (id),
    name          text NOT NULL,
    secret_hash   bytea NOT NULL UNIQUE,
    writes_to       text NOT NULL DEFAULT '',
    reads_from    text[] NOT NULL DEFAULT '{}',
    may_view      boolean NOT NULL DEFAULT false,
    may_manage    boolean NOT NULL DEFAULT false,
    created_at    timestamptz NOT NULL DEFAULT now(),
    expires_at    timestamptz,
    revoked_at    timestamptz
);

-- A row names the stored object (digest and upload), so that a new upload
-- never reuses one that is marked for deletion.
CREATE TABLE blobs (
    repository_id bigint NOT NULL REFERENCES repositories (id),
    digest        bytea NOT NULL CHECK (octet_length(digest) = 32),
    object        text NOT NULL,
    size          bigint NOT NULL CHECK (size >= 0),
    stored_at     timestamptz NOT NULL DEFAULT now(),
    leased_until  timestamptz NOT NULL,
    marked_at  timestamptz,
    PRIMARY KEY (repository_id, digest)
);

CREATE TABLE entries (
    repository_id bigint NOT NULL REFERENCES repositories (id),
    shelf         text NOT NULL,
    key           bytea NOT NULL CHECK (octet_length(key) = 32),
    early_key     bytea,
    task          text NOT NULL,
    listing       bytea NOT NULL,
    log           bytea,
    ingredients   bytea NOT NULL,
    seconds       double precision NOT NULL,
    bytes         bigint NOT NULL,
    checkout_paths      text[] NOT NULL DEFAULT '{}',
    made_name     text NOT NULL,
    made_host     text NOT NULL,
    made_place    text NOT NULL,
    made_run      text NOT NULL,
    made_at       timestamptz NOT NULL,
    token_id      bigint NOT NULL REFERENCES tokens (id),
    filed_at      timestamptz NOT NULL DEFAULT now(),
    last_used     date NOT NULL DEFAULT current_date,
    PRIMARY KEY (repository_id, shelf, key)
);
CREATE INDEX entries_early ON entries (repository_id, early_key, filed_at DESC);

-- References are stored once per listing, and once per list of ingredients.
CREATE TABLE listing_blobs (
    repository_id bigint NOT NULL,
    listing       bytea NOT NULL,
    blob          bytea NOT NULL,
    PRIMARY KEY (repository_id, listing, blob)
);
CREATE TABLE ingredient_blobs (
    repository_id bigint NOT NULL,
    ingredients   bytea NOT NULL,
    blob          bytea NOT NULL,
    PRIMARY KEY (repository_id, ingredients, blob)
);

-- Another listing that was sent for a key that already has an entry.
CREATE TABLE divergences (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    repository_id bigint NOT NULL,
    shelf         text NOT NULL,
    key           bytea NOT NULL,
    listing       bytea NOT NULL,
    made_name     text NOT NULL,
    made_host     text NOT NULL,
    made_run      text NOT NULL,
    at            timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE runs (
    repository_id bigint NOT NULL REFERENCES repositories (id),
    id            text NOT NULL,
    token_id      bigint NOT NULL REFERENCES tokens (id),
    name          text NOT NULL,
    host          text NOT NULL,
    place         text NOT NULL,
    branch        text NOT NULL,
    commit        text NOT NULL,
    shelf         text NOT NULL,
    requested       text[] NOT NULL,
    no_reuse       boolean NOT NULL,
    jobs          integer NOT NULL,
    tasks         integer NOT NULL,
    started_at    timestamptz NOT NULL,
    touched_at    timestamptz NOT NULL DEFAULT now(),
    finished_at   timestamptz,
    through       bigint NOT NULL DEFAULT 0,
    ok            boolean NOT NULL DEFAULT false,
    interrupted   boolean NOT NULL DEFAULT false,
    seconds       double precision NOT NULL DEFAULT 0,
    saved_seconds double precision NOT NULL DEFAULT 0,
    cost_seconds  double precision NOT NULL DEFAULT 0,
    bytes_in      bigint NOT NULL DEFAULT 0,
    bytes_out     bigint NOT NULL DEFAULT 0,
    totals        jsonb NOT NULL DEFAULT '{}',
    PRIMARY KEY (repository_id, id)
);
CREATE INDEX runs_started ON runs (repository_id, started_at DESC, id DESC);

CREATE TABLE run_tasks (
    repository_id bigint NOT NULL,
    run_id        text NOT NULL,
    task          text NOT NULL,
    running       boolean NOT NULL,
    slot          integer NOT NULL DEFAULT 0,
    at            double precision NOT NULL,
    record        jsonb NOT NULL DEFAULT '{}',
    log           bytea,
    PRIMARY KEY (repository_id, run_id, task),
    FOREIGN KEY (repository_id, run_id) REFERENCES runs (repository_id, id) ON DELETE CASCADE
);

-- +goose Down
DROP TABLE run_tasks, runs, divergences, ingredient_blobs, listing_blobs, entries, blobs, tokens, repositories;
