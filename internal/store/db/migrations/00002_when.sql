-- +goose Up

-- What a trigger says beside its rule, the calendars that it goes by, and the
-- date that the rule named for its next ring: it differs from next_due when a
-- closed day moved it. The version before reads neither and goes by the rule.
ALTER TABLE triggers
  ADD COLUMN timing jsonb NOT NULL DEFAULT '{}',
  ADD COLUMN calendars jsonb NOT NULL DEFAULT '[]',
  ADD COLUMN next_nominal timestamptz;
UPDATE triggers SET timing = jsonb_build_object('rule', rule);

CREATE TABLE calendars (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL UNIQUE,
  version    int NOT NULL,
  updated_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE calendar_versions (
  calendar_id bigint NOT NULL REFERENCES calendars ON DELETE CASCADE,
  version     int NOT NULL,
  definition  jsonb NOT NULL,
  author_id   bigint REFERENCES people,
  saved_at    timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (calendar_id, version)
);

ALTER TABLE job_uses DROP CONSTRAINT job_uses_kind_check;
ALTER TABLE job_uses ADD CONSTRAINT job_uses_kind_check CHECK (kind IN ('report', 'destination', 'calendar'));

-- Personal links to the forecast, for people's own calendar programs.
CREATE TABLE feeds (
  person_id  bigint PRIMARY KEY REFERENCES people ON DELETE CASCADE,
  hash       bytea NOT NULL UNIQUE,
  created_at timestamptz NOT NULL DEFAULT now()
);
