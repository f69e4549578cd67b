-- +goose Up
-- Quota and retention. Null: the default of the service.
ALTER TABLE repositories ADD COLUMN quota_bytes bigint CHECK (quota_bytes > 0);
ALTER TABLE repositories ADD COLUMN keep_days integer CHECK (keep_days > 0);

-- Objects that nothing names, or whose upload is not confirmed yet.

CREATE TABLE orphaned_objects (
    object        text PRIMARY KEY,
    repository_id bigint NOT NULL,
    delete_after  timestamptz NOT NULL
);
CREATE INDEX orphaned_objects_due ON orphaned_objects (delete_after);

CREATE INDEX entries_listing ON entries (repository_id, listing);
CREATE INDEX entries_ingredients ON entries (repository_id, ingredients);
CREATE INDEX entries_log ON entries (repository_id, log);
CREATE INDEX entries_used ON entries (repository_id, last_used);
CREATE INDEX listing_blobs_blob ON listing_blobs (repository_id, blob);
CREATE INDEX ingredient_blobs_blob ON ingredient_blobs (repository_id, blob);
CREATE INDEX run_tasks_log ON run_tasks (repository_id, log);
CREATE INDEX blobs_marked ON blobs (marked_at) WHERE marked_at IS NOT NULL;

-- Durations by which several runners agreed to divide work.
CREATE TABLE parts (
    repository_id bigint NOT NULL REFERENCES repositories (id),
    digest        bytea NOT NULL CHECK (octet_length(digest) = 32),
    seconds       jsonb NOT NULL,
    made_at       timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (repository_id, digest)
);

-- The previous secret, which stays valid for a while after a rotation.
ALTER TABLE tokens ADD COLUMN old_hash bytea UNIQUE;
ALTER TABLE tokens ADD COLUMN old_until timestamptz;

-- +goose Down
ALTER TABLE tokens DROP COLUMN old_hash, DROP COLUMN old_until;
DROP TABLE parts, orphaned_objects;
DROP INDEX entries_listing, entries_ingredients, entries_log, entries_used, listing_blobs_blob, ingredient_blobs_blob, run_tasks_log, blobs_marked;
ALTER TABLE repositories DROP COLUMN quota_bytes, DROP COLUMN keep_days;
