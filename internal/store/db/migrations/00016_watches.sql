-- +goose Up

-- What is looked at, since triggers wait for what is seen there: once for all that look alike.
CREATE TABLE watches (
  id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  kind          text NOT NULL CHECK (kind IN ('files', 'query')),
  place_id      bigint NOT NULL, -- of the destination, or of the source
  key           text NOT NULL,   -- tells it from others of its place
  spec          jsonb NOT NULL,
  every         double precision NOT NULL, -- seconds
  next_at       timestamptz NOT NULL DEFAULT bell_now(),
  lease         bigint NOT NULL DEFAULT 0,
  leased_until  timestamptz,
  mark          jsonb,                     -- what was seen last; none before the first look
  looked_at     timestamptz,
  note          text NOT NULL DEFAULT '',  -- what was passed over at the last look
  failing_since timestamptz,
  failure       text NOT NULL DEFAULT '',
  UNIQUE (kind, place_id, key)
);
CREATE INDEX watches_next ON watches (next_at);

-- The files that a watch has seen. A young one may still be written.
CREATE TABLE watch_files (
  watch_id bigint NOT NULL REFERENCES watches ON DELETE CASCADE,
  path     text NOT NULL,
  size     bigint NOT NULL,
  changed  timestamptz NOT NULL,
  sum      text NOT NULL DEFAULT '', -- SHA-256, where equal content counts
  young    boolean NOT NULL,
  was      boolean NOT NULL DEFAULT false, -- a file of this path was taken before
  since    timestamptz NOT NULL,
  PRIMARY KEY (watch_id, path)
);
CREATE INDEX watch_files_sum ON watch_files (watch_id, sum) WHERE sum <> '';
CREATE INDEX watch_files_young ON watch_files (watch_id) WHERE young;

ALTER TABLE trigger_waits ADD COLUMN watch_id bigint REFERENCES watches ON DELETE SET NULL;
CREATE INDEX trigger_waits_watch ON trigger_waits (watch_id) WHERE watch_id IS NOT NULL;

-- A run that one may join that starts with equal values.
CREATE INDEX runs_alike ON runs (job_id, md5(given::text)) WHERE state = 'waiting' AND trigger_id IS NOT NULL
  AND started_at IS NULL;

ALTER TABLE events ADD COLUMN watch_id bigint; -- at which it was seen

-- What is complete and waits for more, or for permitted hours, before it starts a run.
CREATE TABLE gathered (
  trigger_id bigint NOT NULL REFERENCES triggers ON DELETE CASCADE,
  bunch      text NOT NULL,
  first_at   timestamptz NOT NULL,
  due_at     timestamptz NOT NULL,
  count      int NOT NULL DEFAULT 1,
  PRIMARY KEY (trigger_id, bunch)
);
CREATE INDEX gathered_due ON gathered (due_at);
ALTER TABLE triggers ADD COLUMN started_at timestamptz; -- by what happened

-- The files that runs collected from destinations, and what is to become of them there.
CREATE TABLE collected (
  id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  job_id         bigint NOT NULL REFERENCES jobs ON DELETE CASCADE,
  task           text NOT NULL,
  part           int NOT NULL,
  run_id         bigint NOT NULL,
  destination_id bigint NOT NULL,
  path           text NOT NULL,
  size           bigint NOT NULL,
  changed        timestamptz NOT NULL,
  sum            text NOT NULL,
  collected_at   timestamptz NOT NULL DEFAULT bell_now(),
  good           boolean NOT NULL DEFAULT false, -- its run is done
  afterwards     text NOT NULL DEFAULT 'leave' CHECK (afterwards IN ('leave', 'move', 'remove')),
  folder         text NOT NULL DEFAULT '',       -- to move it to
  state          text NOT NULL DEFAULT 'kept' CHECK (state IN ('kept', 'due', 'ended')),
  next_at        timestamptz,
  tries          int NOT NULL DEFAULT 0,
  came           text NOT NULL DEFAULT ''        -- what became of it
);
CREATE INDEX collected_of ON collected (job_id, task, destination_id, path) WHERE good;
CREATE INDEX collected_run ON collected (run_id) WHERE NOT good;
CREATE INDEX collected_due ON collected (next_at) WHERE state = 'due';
CREATE INDEX collected_at ON collected (collected_at);

-- +goose Down
DROP TABLE collected;
ALTER TABLE triggers DROP COLUMN started_at;
ALTER TABLE events DROP COLUMN watch_id;
DROP INDEX runs_alike;
DROP TABLE gathered;
ALTER TABLE trigger_waits DROP COLUMN watch_id;
DROP TABLE watch_files;
DROP TABLE watches;
