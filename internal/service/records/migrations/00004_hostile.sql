-- +goose Up
-- The shelf, or the pattern of shelves, whose token uploaded a blob: it is
-- charged for it.
ALTER TABLE blobs ADD COLUMN owner text NOT NULL DEFAULT '';
CREATE INDEX blobs_owner ON blobs (repository_id, owner);

-- Objects count while they wait for deletion.
ALTER TABLE orphaned_objects ADD COLUMN size bigint NOT NULL DEFAULT 0 CHECK (size >= 0);
ALTER TABLE orphaned_objects ADD COLUMN announced_at timestamptz NOT NULL DEFAULT now();

-- Quotas of shelves. The longest pattern that matches a shelf holds.
CREATE TABLE shelf_quotas (
    repository_id bigint NOT NULL REFERENCES repositories (id),
    pattern       text NOT NULL,
    bytes         bigint NOT NULL CHECK (bytes > 0),
    PRIMARY KEY (repository_id, pattern)
);

-- Numbers that no honest client sends, in case a check at the edge is missing.
ALTER TABLE entries ADD CONSTRAINT entries_bytes_bounds CHECK (bytes BETWEEN 0 AND 1::bigint << 53) NOT VALID;
ALTER TABLE entries ADD CONSTRAINT entries_seconds_bounds CHECK (seconds BETWEEN 0 AND 1e8) NOT VALID;
ALTER TABLE runs ADD CONSTRAINT runs_seconds_bounds CHECK (
    seconds BETWEEN 0 AND 1e8 AND saved_seconds BETWEEN -1e10 AND 1e10 AND cost_seconds BETWEEN 0 AND 1e10) NOT VALID;

-- Sessions of the console. Only hashes of their secrets are stored.
CREATE TABLE sessions (
    id_hash    bytea PRIMARY KEY,
    page_hash  bytea NOT NULL,
    token_id   bigint NOT NULL REFERENCES tokens (id),
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL
);
CREATE INDEX sessions_token ON sessions (token_id);

-- +goose Down
DROP TABLE sessions, shelf_quotas;
ALTER TABLE runs DROP CONSTRAINT runs_seconds_bounds;
ALTER TABLE entries DROP CONSTRAINT entries_bytes_bounds, DROP CONSTRAINT entries_seconds_bounds;
ALTER TABLE orphaned_objects DROP COLUMN size, DROP COLUMN announced_at;
ALTER TABLE blobs DROP COLUMN owner;
