-- +goose Up
-- A frame may contain several blobs, so what is live of a pack cannot be told from the bytes of
-- its frames.
ALTER TABLE packs ADD COLUMN contents bigint; -- bytes of all blobs, and 512 for each; null: each blob has a frame of its own

-- +goose Down
ALTER TABLE packs DROP COLUMN contents;
