-- +goose Up

-- Files of house styles: logos and typefaces, as they were written anew. Their number is the SHA-256 of the bytes.
CREATE TABLE house_files (
  id      text PRIMARY KEY CHECK (id ~ '^[0-9a-f]{64}$'),
  kind    text NOT NULL CHECK (kind IN ('logo', 'typeface')),
  name    text NOT NULL,
  width   integer NOT NULL DEFAULT 0,
  height  integer NOT NULL DEFAULT 0,
  family  text NOT NULL DEFAULT '',
  bold    boolean NOT NULL DEFAULT false,
  letters integer NOT NULL DEFAULT 0,
  data    bytea NOT NULL,
  kept_at timestamptz NOT NULL DEFAULT now() -- when it was last sent
);

-- +goose Down

DROP TABLE house_files;
