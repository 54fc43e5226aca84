-- +goose Up

-- Where below its destination a file goes.
ALTER TABLE artifacts ADD COLUMN folder text NOT NULL DEFAULT '';

-- The logins of a source as which reports may run, beside the source's own.
CREATE TABLE identities (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  source_id  bigint NOT NULL REFERENCES sources ON DELETE CASCADE,
  name       text NOT NULL,
  login      text NOT NULL,
  secret     bytea NOT NULL DEFAULT '',
  choosers   jsonb NOT NULL DEFAULT '[]',
  updated_at timestamptz NOT NULL DEFAULT now(),
  UNIQUE (source_id, name)
);

-- +goose Down
DROP TABLE identities;
ALTER TABLE artifacts DROP COLUMN folder;
