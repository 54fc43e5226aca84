-- +goose Up

-- What the claims go by: labels are what a limit or a freeze may name
-- (service, tag:x, source:x, destination:x); turn orders what waits, so that age
-- makes up for priority; a part that is held waits for what happens elsewhere;
-- one that is alone is its run's only one.
ALTER TABLE jobs
  ADD COLUMN labels text[] NOT NULL DEFAULT '{service}',
  ADD COLUMN keep_runs int NOT NULL DEFAULT 400,
  ADD COLUMN keep_log int NOT NULL DEFAULT 90,
  ADD COLUMN keep_files int NOT NULL DEFAULT 90;

ALTER TABLE triggers
  ADD COLUMN waits jsonb,
  ADD COLUMN delay double precision NOT NULL DEFAULT 0,
  ADD COLUMN deadline jsonb NOT NULL DEFAULT '{}';

ALTER TABLE runs
  ADD COLUMN rehearsal boolean NOT NULL DEFAULT false,
  ADD COLUMN again bigint,
  ADD COLUMN deadline timestamptz,
  ADD COLUMN warn_at timestamptz,
  ADD COLUMN announced text[] NOT NULL DEFAULT '{}',
  ADD COLUMN log_removed boolean NOT NULL DEFAULT false;
-- A run is updated a few times in its first minutes. Its state stands in no
-- index, so that these updates stay within one page: open runs are found by
-- their parts and deliveries, those that went wrong by trouble, which stays null
-- for all others.
ALTER TABLE runs ADD COLUMN trouble text;
UPDATE runs SET trouble = state WHERE state NOT IN ('waiting', 'running', 'delivering', 'done');
DROP INDEX runs_state;
DROP INDEX runs_open;
CREATE INDEX runs_trouble ON runs (trouble, id DESC) WHERE trouble IS NOT NULL;
CREATE INDEX runs_warn ON runs (warn_at) WHERE warn_at IS NOT NULL;

ALTER TABLE parts
  ADD COLUMN name text NOT NULL DEFAULT '',
  ADD COLUMN given jsonb NOT NULL DEFAULT '{}',
  ADD COLUMN turn timestamptz NOT NULL DEFAULT now(),
  ADD COLUMN labels text[] NOT NULL DEFAULT '{service}',
  ADD COLUMN held boolean NOT NULL DEFAULT false,
  ADD COLUMN alone boolean NOT NULL DEFAULT true,
  ADD COLUMN anyway boolean NOT NULL DEFAULT false;
DROP INDEX parts_ready;
CREATE INDEX parts_turn ON parts (turn, run_id, part) INCLUDE (ready_at) WHERE state = 'waiting' AND NOT held;
CREATE INDEX parts_ready_at ON parts (ready_at) WHERE state = 'waiting';
CREATE INDEX parts_open ON parts (job_id) WHERE state IN ('waiting', 'running');

ALTER TABLE attempts
  ADD COLUMN again boolean NOT NULL DEFAULT false,
  ADD COLUMN totals jsonb NOT NULL DEFAULT '{}',
  ADD COLUMN unusual text NOT NULL DEFAULT '';
-- The version before counts a failed try as one to be tried again.
UPDATE attempts SET again = true WHERE state IN ('failed', 'lost');

ALTER TABLE artifacts
  ADD COLUMN try int NOT NULL DEFAULT 1,
  ADD COLUMN removed_at timestamptz;
ALTER TABLE messages ADD COLUMN removed_at timestamptz;
CREATE INDEX artifacts_key ON artifacts (key);
CREATE INDEX messages_key ON messages (key);
CREATE INDEX artifacts_kept ON artifacts (created_at) WHERE removed_at IS NULL;
CREATE INDEX messages_kept ON messages (created_at) WHERE removed_at IS NULL;

ALTER TABLE deliveries
  ADD COLUMN retry_growth double precision NOT NULL DEFAULT 1,
  ADD COLUMN retry_longest double precision NOT NULL DEFAULT 0,
  ADD COLUMN line bigint NOT NULL DEFAULT 0,
  ADD COLUMN rehearsal boolean NOT NULL DEFAULT false;
CREATE SEQUENCE line_count;

-- Makes the partitions of this month and the following ones, with room in the
-- pages of those whose rows are updated.
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION ensure_months(ahead int) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
  first date := date_trunc('month', now() AT TIME ZONE 'UTC')::date;
  month date;
  label text;
  low   bigint;
  high  bigint;
  tab   text;
BEGIN
  PERFORM pg_advisory_xact_lock(hashtext('ironbell months'));
  FOR i IN 0..ahead LOOP
    month := (first + make_interval(months => i))::date;
    label := to_char(month, 'YYMM');
    low   := label::bigint * 10000000000;
    high  := to_char(month + interval '1 month', 'YYMM')::bigint * 10000000000;
    FOREACH tab IN ARRAY ARRAY['runs', 'parts', 'attempts', 'artifacts', 'run_log', 'messages', 'deliveries'] LOOP
      IF to_regclass(tab || '_' || label) IS NULL THEN
        EXECUTE format('CREATE TABLE %I PARTITION OF %I FOR VALUES FROM (%s) TO (%s) WITH (fillfactor = %s)', tab || '_' || label, tab, low, high,
          CASE WHEN tab IN ('runs', 'attempts', 'deliveries') THEN 60 ELSE 100 END);
      END IF;
    END LOOP;
    IF to_regclass('rings_' || label) IS NULL THEN
      BEGIN
        EXECUTE format('CREATE TABLE %I PARTITION OF rings FOR VALUES FROM (%L) TO (%L)', 'rings_' || label,
          month::text || ' 00:00+00', (month + interval '1 month')::date::text || ' 00:00+00');
      EXCEPTION WHEN check_violation THEN
        -- rings of that month lie in rings_other already and stay there
        NULL;
      END;
    END IF;
  END LOOP;
END
$$;
-- +goose StatementEnd
-- +goose StatementBegin
DO $$
DECLARE
  tab text;
BEGIN
  FOR tab IN SELECT relname FROM pg_class WHERE relkind = 'r' AND relispartition AND relname ~ '^(runs|attempts|deliveries)_[0-9]{4}$' LOOP
    EXECUTE format('ALTER TABLE %I SET (fillfactor = 60)', tab);
  END LOOP;
END
$$;
-- +goose StatementEnd

-- The first id of history after the month that lies some days back.
-- +goose StatementBegin
CREATE FUNCTION month_end(days int) RETURNS bigint LANGUAGE sql STABLE AS $$
  SELECT to_char((now() AT TIME ZONE 'UTC') - make_interval(days => days) + interval '1 month', 'YYMM')::bigint * 10000000000
$$;
-- +goose StatementEnd

-- What triggers wait for, found from the side of what happens.
CREATE TABLE trigger_waits (
  trigger_id bigint NOT NULL REFERENCES triggers ON DELETE CASCADE,
  place      int NOT NULL,
  event_type text,
  job_id     bigint REFERENCES jobs ON DELETE CASCADE,
  PRIMARY KEY (trigger_id, place)
);
CREATE INDEX trigger_waits_event ON trigger_waits (event_type) WHERE event_type IS NOT NULL;
CREATE INDEX trigger_waits_job ON trigger_waits (job_id) WHERE job_id IS NOT NULL;

-- Which events a job raises, to find circles.
CREATE TABLE job_emits (
  job_id bigint NOT NULL REFERENCES jobs ON DELETE CASCADE,
  type   text NOT NULL,
  PRIMARY KEY (job_id, type)
);
CREATE INDEX job_emits_type ON job_emits (type);

-- What has happened of a trigger's conditions and has started nothing yet. Place
-- -1 is the trigger's own rule, with the run that waits. bunch tells what
-- belongs together: a business day, or nothing for a window.
CREATE TABLE happened (
  trigger_id bigint NOT NULL REFERENCES triggers ON DELETE CASCADE,
  bunch      text NOT NULL,
  place      int NOT NULL,
  at         timestamptz NOT NULL DEFAULT now(),
  nominal    timestamptz NOT NULL,
  what       text NOT NULL,
  run_id     bigint,
  facts      jsonb NOT NULL DEFAULT '{}',
  PRIMARY KEY (trigger_id, bunch, place)
);
CREATE INDEX happened_at ON happened (at);

CREATE TABLE events (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  event_id    text NOT NULL,
  source      text NOT NULL,
  type        text NOT NULL,
  subject     text NOT NULL DEFAULT '',
  time        timestamptz NOT NULL,
  data        jsonb,
  received_at timestamptz NOT NULL DEFAULT now(),
  reported_by bigint,
  run_id      bigint,
  started     bigint[] NOT NULL DEFAULT '{}',
  UNIQUE (source, event_id)
);
CREATE INDEX events_type ON events (type, id DESC);
CREATE INDEX events_received ON events (received_at);

CREATE TABLE freezes (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  label      text NOT NULL,
  from_at    timestamptz NOT NULL,
  to_at      timestamptz,
  rings      text NOT NULL CHECK (rings IN ('wait', 'pass over')),
  reason     text NOT NULL DEFAULT '',
  by_name    text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  lifted_at  timestamptz,
  lifted_by  text NOT NULL DEFAULT ''
);
CREATE INDEX freezes_open ON freezes (from_at) WHERE lifted_at IS NULL;

-- Jobs that were saved before get the labels of what they use.
UPDATE jobs j SET labels = '{service}' || ARRAY(
  SELECT 'source:' || s.name FROM job_uses u JOIN reports r ON r.id = u.id JOIN report_versions v ON v.report_id = r.id AND v.version = r.version
    JOIN sources s ON s.name = v.definition->>'source' WHERE u.job_id = j.id AND u.kind = 'report'
  UNION SELECT 'destination:' || d.name FROM job_uses u JOIN destinations d ON d.id = u.id WHERE u.job_id = j.id AND u.kind = 'destination');

ALTER TABLE job_uses DROP CONSTRAINT job_uses_kind_check;
ALTER TABLE job_uses ADD CONSTRAINT job_uses_kind_check CHECK (kind IN ('report', 'destination', 'calendar', 'source', 'job'));
