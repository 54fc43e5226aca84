-- +goose Up

-- The clock of our records. Both are inlined, so that they cost nothing; tests put
-- others in their place to turn it. Leases alone go by the server's own clock:
-- they measure whether somebody lives, and not when something is due.
CREATE FUNCTION bell_now() RETURNS timestamptz LANGUAGE sql STABLE PARALLEL SAFE AS 'SELECT now()';
CREATE FUNCTION bell_clock() RETURNS timestamptz LANGUAGE sql VOLATILE PARALLEL SAFE AS 'SELECT clock_timestamp()';

-- +goose StatementBegin
DO $$
DECLARE
  c record;
BEGIN
  FOR c IN SELECT table_name, column_name, column_default FROM information_schema.columns JOIN pg_class k ON k.relname = table_name AND k.relnamespace = current_schema()::regnamespace
    WHERE table_schema = current_schema() AND column_default IN ('now()', 'clock_timestamp()') AND NOT k.relispartition AND k.relkind IN ('r', 'p') LOOP
    EXECUTE format('ALTER TABLE %I ALTER COLUMN %I SET DEFAULT %s', c.table_name, c.column_name,
      CASE c.column_default WHEN 'now()' THEN 'bell_now()' ELSE 'bell_clock()' END);
  END LOOP;
END
$$;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE OR REPLACE FUNCTION month_id(counter regclass) RETURNS bigint LANGUAGE sql VOLATILE AS $$
  SELECT to_char(bell_now() AT TIME ZONE 'UTC', 'YYMM')::bigint * 10000000000 + nextval(counter)
$$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION month_end(days int) RETURNS bigint LANGUAGE sql STABLE AS $$
  SELECT to_char((bell_now() AT TIME ZONE 'UTC') - make_interval(days => days) + interval '1 month', 'YYMM')::bigint * 10000000000
$$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION ensure_months(ahead int) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
  first date := date_trunc('month', bell_now() AT TIME ZONE 'UTC')::date;
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

-- A trigger knows by which zone data its next due time was reckoned. One that a
-- pass of the clock could not decide on is set apart, so that it holds up no other,
-- and is tried again; its due time waits with it.
ALTER TABLE triggers
  ADD COLUMN zones text NOT NULL DEFAULT '',
  ADD COLUMN apart_due timestamptz,
  ADD COLUMN apart_until timestamptz,
  ADD COLUMN apart_why text NOT NULL DEFAULT '';
CREATE INDEX triggers_apart ON triggers (apart_until) WHERE apart_until IS NOT NULL;

-- Runs that a rule rang and that wait for what happens elsewhere: any number of
-- them for one business day. What has happened stands in happened, for all of them.
CREATE TABLE held_runs (
  run_id     bigint PRIMARY KEY,
  trigger_id bigint NOT NULL REFERENCES triggers ON DELETE CASCADE,
  bunch      text NOT NULL,
  due        timestamptz NOT NULL,
  nominal    timestamptz NOT NULL
);
CREATE INDEX held_runs_trigger ON held_runs (trigger_id, bunch, due);
INSERT INTO held_runs (run_id, trigger_id, bunch, due, nominal)
  SELECT run_id, trigger_id, bunch, at, nominal FROM happened WHERE place = -1 AND run_id IS NOT NULL;
DELETE FROM happened WHERE place = -1;

-- The last entry that the holder of a part's lease wrote: one that is written again,
-- since its answer was lost, is known by its number.
ALTER TABLE parts ADD COLUMN entry_no bigint NOT NULL DEFAULT 0;

-- The instant whose versions of job and reports a run takes, and from which its
-- retries are reckoned: when it was made, or when a person let it go on.
ALTER TABLE runs ADD COLUMN versions_at timestamptz;
CREATE TABLE run_reports (
  run_id    bigint NOT NULL,
  report_id bigint NOT NULL,
  version   int NOT NULL,
  PRIMARY KEY (run_id, report_id)
);

-- The nodes that work or did, as they say themselves every few seconds.
CREATE TABLE nodes (
  name       text PRIMARY KEY,
  version    text NOT NULL,
  zones      text NOT NULL,
  started_at timestamptz NOT NULL DEFAULT now(),
  seen_at    timestamptz NOT NULL DEFAULT now(),
  finishing  boolean NOT NULL DEFAULT false,
  parts      int NOT NULL DEFAULT 0,
  deliveries int NOT NULL DEFAULT 0
);

-- How often each record was changed that people edit: by it a save knows whether
-- somebody else saved meanwhile. Records that were not changed since have none, and
-- stand at 0.
CREATE TABLE record_versions (
  kind       text NOT NULL,
  name       text NOT NULL,
  version    bigint NOT NULL,
  changed_by text NOT NULL,
  changed_at timestamptz NOT NULL DEFAULT bell_now(),
  PRIMARY KEY (kind, name)
);

-- Two more states of deliveries. What was taken the other side has and will say
-- later: it is open, holds no lease, and is asked about. What was declined a second
-- person did not want sent: neither sent nor failed.
DROP INDEX deliveries_open, deliveries_trouble, deliveries_ready, deliveries_ready_alerts, deliveries_kept_back, deliveries_give_up, deliveries_leased;
ALTER TABLE deliveries DROP COLUMN phase;
ALTER TABLE deliveries
  ADD COLUMN phase text GENERATED ALWAYS AS (CASE
    WHEN state = 'waiting' AND kept_back = '' THEN 'ready'
    WHEN state = 'waiting' THEN 'kept back'
    WHEN state IN ('sending', 'offered') THEN 'leased'
    WHEN state IN ('failed', 'bounced', 'unknown', 'taken', 'declined') THEN state
  END) STORED,
  ADD COLUMN taken_as text NOT NULL DEFAULT '',
  ADD COLUMN ask_at timestamptz,
  ADD COLUMN asked int NOT NULL DEFAULT 0,
  ADD COLUMN yes_until timestamptz;
CREATE INDEX deliveries_ready ON deliveries (destination_id, ready_at, id) WHERE phase = 'ready';
CREATE INDEX deliveries_ready_alerts ON deliveries (destination_id, ready_at, id) WHERE phase = 'ready' AND alert_id IS NOT NULL;
CREATE INDEX deliveries_kept_back ON deliveries (destination_id, kept_back) WHERE phase = 'kept back';
CREATE INDEX deliveries_give_up ON deliveries (give_up_at) WHERE phase = 'kept back' AND give_up_at IS NOT NULL;
CREATE INDEX deliveries_yes ON deliveries (yes_until) WHERE phase = 'kept back' AND yes_until IS NOT NULL;
CREATE INDEX deliveries_leased ON deliveries (lease_until) WHERE phase = 'leased';
CREATE INDEX deliveries_taken ON deliveries (ask_at) WHERE phase = 'taken';
CREATE INDEX deliveries_open ON deliveries (run_id) WHERE phase IN ('ready', 'kept back', 'leased', 'taken');
CREATE INDEX deliveries_trouble ON deliveries (phase, id DESC) WHERE phase IN ('failed', 'bounced', 'unknown', 'declined');

-- What second persons allowed: one message's bytes to one address, or for a job, an
-- address and a destination until a date.
CREATE TABLE consents (
  id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  address        text NOT NULL,
  job_id         bigint,
  sha256         text NOT NULL DEFAULT '',
  destination_id bigint NOT NULL,
  given_by       text NOT NULL,
  given_at       timestamptz NOT NULL DEFAULT bell_now(),
  until          timestamptz
);
CREATE INDEX consents_address ON consents (address, job_id);

-- Rises whenever what may leave changes. An offer names the number by which it was
-- let through, and is refused when that is no longer the present one.
CREATE TABLE gate_state (
  one boolean PRIMARY KEY DEFAULT true CHECK (one),
  no  bigint NOT NULL
);
INSERT INTO gate_state (no) VALUES (1);

-- How often a destination rested in a row without anything that got through between:
-- one that is fine when it is looked at, and refuses whatever is handed over.
ALTER TABLE destinations ADD COLUMN rests_in_row int NOT NULL DEFAULT 0;

-- Which part and task of a run writes which name at a destination: two of one run
-- never overwrite each other, and a retry keeps its name.
CREATE TABLE run_names (
  run_id         bigint NOT NULL,
  destination_id bigint NOT NULL,
  path           text NOT NULL,
  part           int NOT NULL,
  task           text NOT NULL,
  PRIMARY KEY (run_id, destination_id, path)
);

-- Sources, and the store of artifacts, rest like destinations: the runs that need one
-- are kept back by its label until it is mended.
CREATE TABLE rests (
  label    text PRIMARY KEY,
  since    timestamptz NOT NULL DEFAULT bell_now(),
  answer   text NOT NULL,
  advice   text NOT NULL DEFAULT '',
  class    text NOT NULL,
  probe_at timestamptz,
  probes   int NOT NULL DEFAULT 0
);

-- The runs that an alert is about: it closes when each of them was put right.
CREATE TABLE alert_runs (
  alert_id  bigint NOT NULL REFERENCES alerts ON DELETE CASCADE,
  run_id    bigint NOT NULL,
  mended    boolean NOT NULL DEFAULT false,
  PRIMARY KEY (alert_id, run_id)
);
CREATE INDEX alert_runs_run ON alert_runs (run_id) WHERE NOT mended;
INSERT INTO alert_runs (alert_id, run_id) SELECT id, run_id FROM alerts WHERE run_id IS NOT NULL AND state <> 'closed';
ALTER TABLE alerts ADD COLUMN calls int NOT NULL DEFAULT 0;

-- Letters of the service itself lie in the database: they go out when the disk of the
-- artifacts is full, too.
ALTER TABLE messages ADD COLUMN body bytea;

-- Owners who want to hear of success, and of which runs they are told.
ALTER TABLE jobs ADD COLUMN tells_success boolean NOT NULL DEFAULT false;
CREATE TABLE run_notes (
  run_id   bigint PRIMARY KEY,
  told_at  timestamptz
);
CREATE INDEX run_notes_open ON run_notes (run_id) WHERE told_at IS NULL;

-- What is kept for as long as the settings say, and no longer.
CREATE INDEX alerts_closed ON alerts (closed_at) WHERE state = 'closed';
CREATE INDEX audit_at ON audit (at);
CREATE INDEX links_ends ON links (ends_at);
CREATE INDEX consents_given ON consents (given_at);

-- Not only destinations are down.
UPDATE alerts SET kind = 'down' WHERE kind = 'destination down';
