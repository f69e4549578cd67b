-- +goose Up
-- Without statistics, of a new table or for a new repository, these were used to find blobs and
-- claims by digest: every row of the repository was read for that.
DROP INDEX blobs_owner;
DROP INDEX claims_id;
CREATE UNIQUE INDEX claims_id ON claims (id);

-- +goose Down
DROP INDEX claims_id;
CREATE UNIQUE INDEX claims_id ON claims (repository_id, id);
CREATE INDEX blobs_owner ON blobs (repository_id, owner);
