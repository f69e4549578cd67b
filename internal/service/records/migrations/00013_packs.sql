-- +goose Up
-- Small blobs are frames of pack objects.
ALTER TABLE blobs ADD COLUMN position bigint NOT NULL DEFAULT 0 CHECK (position >= 0);
ALTER TABLE blobs ADD COLUMN packed bigint NOT NULL DEFAULT 0 CHECK (packed >= 0); -- bytes of the frame; 0: the object is the blob
CREATE INDEX blobs_object ON blobs (object);
CREATE TABLE packs (
    object        text PRIMARY KEY,
    repository_id bigint NOT NULL REFERENCES repositories (id),
    bytes         bigint NOT NULL, -- of all frames
    made_at       timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX packs_repository ON packs (repository_id);

-- +goose Down
DROP TABLE packs;
DROP INDEX blobs_object;
ALTER TABLE blobs DROP COLUMN packed, DROP COLUMN position;
