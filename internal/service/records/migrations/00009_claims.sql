-- +goose Up
-- What clients run and will share: leases, by shelf and key. A claim that ended is kept
-- until its lease is over, so that whoever waits for it learns how.
CREATE TABLE claims (
    repository_id bigint NOT NULL,
    key           bytea NOT NULL,
    shelf         text NOT NULL,
    id            bigint GENERATED ALWAYS AS IDENTITY,
    token_id      bigint NOT NULL,
    run_id        text NOT NULL,
    task          text NOT NULL,
    name          text NOT NULL,
    host          text NOT NULL,
    place         text NOT NULL,
    seconds       double precision NOT NULL, -- expected; 0: unknown
    began_at      timestamptz NOT NULL DEFAULT now(),
    lease_until   timestamptz NOT NULL,
    ended         text NOT NULL DEFAULT '', -- failed, unshared
    PRIMARY KEY (repository_id, key, shelf)
);
CREATE UNIQUE INDEX claims_id ON claims (repository_id, id);
CREATE INDEX claims_lease ON claims (lease_until);

-- +goose Down
DROP TABLE claims;
