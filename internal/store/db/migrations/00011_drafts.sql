-- +goose Up

-- What people have begun to write of a job or a report, and not saved. Each is its
-- author's alone; others learn only that somebody writes at the same record.
CREATE TABLE drafts (
  person_id bigint NOT NULL REFERENCES people ON DELETE CASCADE,
  kind      text NOT NULL CHECK (kind IN ('job', 'report')),
  key       text NOT NULL,            -- which of the person's drafts: the record's name, or a word for a new one
  record    text NOT NULL DEFAULT '', -- name of the record that it changes; empty for a new one
  began     bigint NOT NULL DEFAULT 0, -- revision of the record from which it began
  content   jsonb NOT NULL,
  kept_at   timestamptz NOT NULL DEFAULT bell_now(),
  PRIMARY KEY (person_id, kind, key)
);
-- Who else writes at a record.
CREATE INDEX drafts_record ON drafts (kind, record) WHERE record <> '';
-- Which have been left.
CREATE INDEX drafts_kept ON drafts (kept_at);

-- +goose Down
DROP TABLE drafts;
