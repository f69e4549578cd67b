-- +goose Up
-- What started a request that no person made: a push or a schedule, once each.
ALTER TABLE requests ADD source text NOT NULL DEFAULT '';
CREATE UNIQUE INDEX requests_source ON requests (repository_id, source) WHERE source <> '';

-- Addresses to which finished runs are announced.
CREATE TABLE receivers (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    repository_id bigint NOT NULL REFERENCES repositories (id),
    url           text NOT NULL,
    secret        text NOT NULL, -- by which announcements are signed
    made_by       text NOT NULL,
    made_at       timestamptz NOT NULL DEFAULT now(),
    tried_at      timestamptz,
    outcome       text NOT NULL DEFAULT '' -- of the last try; empty: none yet
);
CREATE INDEX receivers_repository ON receivers (repository_id);

-- +goose Down
DROP TABLE receivers;
DROP INDEX requests_source;
ALTER TABLE requests DROP source;
