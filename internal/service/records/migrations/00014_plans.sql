-- +goose Up
-- Without statistics, of a new table or for a new repository, these were used to find blobs and
-- claims by digest: every row of the repository was read for that.
DROP INDEX blobs_owner;
DROP INDEX claims_id;
CREATE UNIQUE INDEX claims_id ON claims (id);
-- A lookup has keys and patterns of shelves. With the shelf first, it read all entries.
ALTER TABLE entries DROP CONSTRAINT entries_pkey, ADD PRIMARY KEY (repository_id, key, shelf);

-- +goose Down
ALTER TABLE entries DROP CONSTRAINT entries_pkey, ADD PRIMARY KEY (repository_id, shelf, key);
DROP INDEX claims_id;
CREATE UNIQUE INDEX claims_id ON claims (repository_id, id);
CREATE INDEX blobs_owner ON blobs (repository_id, owner);
