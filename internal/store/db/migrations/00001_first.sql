-- +goose Up

-- Ids of history carry their month (YYMM * 10^10 + count), so that every table
-- of history is partitioned by the range of its own id, one lookup touches one
-- partition, and an old month goes by dropping its partitions.
-- +goose StatementBegin
CREATE FUNCTION month_id(counter regclass) RETURNS bigint LANGUAGE sql VOLATILE AS $$
  SELECT to_char(now() AT TIME ZONE 'UTC', 'YYMM')::bigint * 10000000000 + nextval(counter)
$$;
-- +goose StatementEnd

CREATE TABLE settings (
  key   text PRIMARY KEY,
  value jsonb NOT NULL
);

CREATE TABLE people (
  id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  login         text NOT NULL,
  name          text NOT NULL,
  mail          text NOT NULL,
  role          text NOT NULL CHECK (role IN ('administrator', 'owner', 'reader')),
  zone          text NOT NULL,
  password_hash text NOT NULL DEFAULT '',
  created_at    timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX people_login ON people (lower(login));
CREATE INDEX people_role ON people (role);

CREATE TABLE tokens (
  hash       bytea PRIMARY KEY,
  person_id  bigint NOT NULL REFERENCES people ON DELETE CASCADE,
  name       text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  ends_at    timestamptz
);
CREATE INDEX tokens_person ON tokens (person_id);

-- The table of the session library, as its documentation gives it.
CREATE TABLE sessions (
  token  text PRIMARY KEY,
  data   bytea NOT NULL,
  expiry timestamptz NOT NULL
);
CREATE INDEX sessions_expiry ON sessions (expiry);

CREATE TABLE sources (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL UNIQUE,
  driver     text NOT NULL,
  settings   jsonb NOT NULL,
  secret     bytea NOT NULL DEFAULT '',
  updated_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE destinations (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL UNIQUE,
  protocol   text NOT NULL,
  settings   jsonb NOT NULL,
  secret     bytea NOT NULL DEFAULT '',
  updated_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE reports (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL UNIQUE,
  owner_id   bigint NOT NULL REFERENCES people,
  version    int NOT NULL,
  updated_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX reports_owner ON reports (owner_id);

CREATE TABLE report_versions (
  report_id  bigint NOT NULL REFERENCES reports ON DELETE CASCADE,
  version    int NOT NULL,
  definition jsonb NOT NULL,
  author_id  bigint REFERENCES people,
  saved_at   timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (report_id, version)
);

CREATE TABLE jobs (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL UNIQUE,
  owner_id   bigint NOT NULL REFERENCES people,
  is_on      boolean NOT NULL DEFAULT false,
  version    int NOT NULL,
  updated_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX jobs_owner ON jobs (owner_id);

CREATE TABLE job_versions (
  job_id     bigint NOT NULL REFERENCES jobs ON DELETE CASCADE,
  version    int NOT NULL,
  definition jsonb NOT NULL,
  author_id  bigint REFERENCES people,
  saved_at   timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (job_id, version)
);

-- Which reports and destinations a job speaks of, to find it from their side.
CREATE TABLE job_uses (
  job_id bigint NOT NULL REFERENCES jobs ON DELETE CASCADE,
  kind   text NOT NULL CHECK (kind IN ('report', 'destination')),
  id     bigint NOT NULL,
  PRIMARY KEY (kind, id, job_id)
);
CREATE INDEX job_uses_job ON job_uses (job_id);

-- A trigger keeps what the clock needs to decide, so that a ring reads one row.
-- next_due is null while the job is off and when no ring is to come.
CREATE TABLE triggers (
  id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  job_id       bigint NOT NULL REFERENCES jobs ON DELETE CASCADE,
  position     int NOT NULL,
  rule         text NOT NULL,
  zone         text NOT NULL,
  given        jsonb NOT NULL DEFAULT '{}',
  after_outage text NOT NULL,
  overlap      text NOT NULL,
  priority     int NOT NULL,
  next_due     timestamptz
);
CREATE INDEX triggers_job ON triggers (job_id, position);
CREATE INDEX triggers_due ON triggers (next_due) WHERE next_due IS NOT NULL;

CREATE TABLE rings (
  trigger_id bigint NOT NULL,
  due        timestamptz NOT NULL,
  nominal    timestamptz NOT NULL,
  job_id     bigint NOT NULL,
  decision   text NOT NULL CHECK (decision IN ('run', 'joined', 'passed over')),
  reason     text NOT NULL,
  run_id     bigint,
  decided_at timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (trigger_id, due)
) PARTITION BY RANGE (due);
CREATE TABLE rings_other PARTITION OF rings DEFAULT;
CREATE INDEX rings_job ON rings (job_id, due);

CREATE SEQUENCE run_count;
CREATE TABLE runs (
  id          bigint PRIMARY KEY,
  job_id      bigint NOT NULL,
  job_name    text NOT NULL,
  job_version int NOT NULL,
  trigger_id  bigint,
  why         text NOT NULL,
  asked_by    bigint,
  nominal     timestamptz NOT NULL,
  due         timestamptz NOT NULL,
  zone        text NOT NULL,
  given       jsonb NOT NULL DEFAULT '{}',
  state       text NOT NULL,
  reason      text NOT NULL DEFAULT '',
  created_at  timestamptz NOT NULL DEFAULT now(),
  started_at  timestamptz,
  ended_at    timestamptz
) PARTITION BY RANGE (id);
CREATE INDEX runs_job ON runs (job_id, id DESC);
CREATE INDEX runs_due ON runs (due);
CREATE INDEX runs_state ON runs (state, id DESC);
CREATE INDEX runs_open ON runs (job_id) WHERE state IN ('waiting', 'running');

CREATE TABLE parts (
  run_id      bigint NOT NULL,
  part        int NOT NULL,
  job_id      bigint NOT NULL,
  state       text NOT NULL,
  reason      text NOT NULL DEFAULT '',
  priority    int NOT NULL,
  gated       boolean NOT NULL,
  ready_at    timestamptz NOT NULL DEFAULT now(),
  lease_no    bigint NOT NULL DEFAULT 0,
  lease_until timestamptz,
  node        text NOT NULL DEFAULT '',
  started_at  timestamptz,
  ended_at    timestamptz,
  PRIMARY KEY (run_id, part)
) PARTITION BY RANGE (run_id);
CREATE INDEX parts_ready ON parts (priority DESC, ready_at, run_id, part) WHERE state = 'waiting';
CREATE INDEX parts_leased ON parts (lease_until) WHERE state = 'running';

-- Which run of a job has the floor, for jobs whose runs do not work together.
CREATE TABLE gates (
  job_id bigint PRIMARY KEY,
  run_id bigint NOT NULL
);
CREATE INDEX gates_run ON gates (run_id);

CREATE TABLE attempts (
  run_id     bigint NOT NULL,
  part       int NOT NULL,
  task       text NOT NULL,
  try        int NOT NULL,
  state      text NOT NULL,
  started_at timestamptz NOT NULL DEFAULT now(),
  ended_at   timestamptz,
  rows       bigint,
  note       text NOT NULL DEFAULT '',
  class      text NOT NULL DEFAULT '',
  advice     text NOT NULL DEFAULT '',
  node       text NOT NULL DEFAULT '',
  PRIMARY KEY (run_id, part, task, try)
) PARTITION BY RANGE (run_id);

CREATE SEQUENCE artifact_count;
CREATE TABLE artifacts (
  id         bigint PRIMARY KEY,
  run_id     bigint NOT NULL,
  part       int NOT NULL,
  task       text NOT NULL,
  format     text NOT NULL,
  name       text NOT NULL,
  media_type text NOT NULL,
  size       bigint NOT NULL,
  sha256     text NOT NULL,
  row_count  bigint NOT NULL,
  key        text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now()
) PARTITION BY RANGE (id);
CREATE INDEX artifacts_run ON artifacts (run_id, part);

CREATE SEQUENCE log_count;
CREATE TABLE run_log (
  run_id bigint NOT NULL,
  n      bigint NOT NULL DEFAULT nextval('log_count'),
  at     timestamptz NOT NULL DEFAULT clock_timestamp(),
  part   int NOT NULL DEFAULT 0,
  task   text NOT NULL DEFAULT '',
  state  text NOT NULL DEFAULT '',
  level  text NOT NULL DEFAULT 'info',
  text   text NOT NULL,
  PRIMARY KEY (run_id, n)
) PARTITION BY RANGE (run_id);

CREATE SEQUENCE message_count;
CREATE TABLE messages (
  id             bigint PRIMARY KEY,
  run_id         bigint,
  alert_id       bigint,
  part           int NOT NULL DEFAULT 0,
  task           text NOT NULL DEFAULT '',
  message_id     text NOT NULL,
  subject        text NOT NULL,
  destination_id bigint NOT NULL,
  key            text NOT NULL,
  size           bigint NOT NULL,
  sha256         text NOT NULL,
  created_at     timestamptz NOT NULL DEFAULT now()
) PARTITION BY RANGE (id);
CREATE INDEX messages_run ON messages (run_id) WHERE run_id IS NOT NULL;

CREATE SEQUENCE delivery_count;
CREATE TABLE deliveries (
  id             bigint PRIMARY KEY,
  message_id     bigint NOT NULL,
  run_id         bigint,
  alert_id       bigint,
  job_id         bigint,
  destination_id bigint NOT NULL,
  address        text NOT NULL,
  state          text NOT NULL,
  tries          int NOT NULL DEFAULT 0,
  retry_times    int NOT NULL,
  retry_wait     double precision NOT NULL,
  give_up_at     timestamptz,
  if_unknown     text NOT NULL,
  ready_at       timestamptz NOT NULL DEFAULT now(),
  answer         text NOT NULL DEFAULT '',
  advice         text NOT NULL DEFAULT '',
  class          text NOT NULL DEFAULT '',
  lease_no       bigint NOT NULL DEFAULT 0,
  lease_until    timestamptz,
  node           text NOT NULL DEFAULT '',
  offered_at     timestamptz,
  settled_at     timestamptz,
  created_at     timestamptz NOT NULL DEFAULT now()
) PARTITION BY RANGE (id);
CREATE INDEX deliveries_message ON deliveries (message_id);
CREATE INDEX deliveries_run ON deliveries (run_id) WHERE run_id IS NOT NULL;
CREATE INDEX deliveries_alert ON deliveries (alert_id) WHERE alert_id IS NOT NULL;
CREATE INDEX deliveries_ready ON deliveries (ready_at, id) WHERE state = 'waiting';
CREATE INDEX deliveries_leased ON deliveries (lease_until) WHERE state IN ('sending', 'offered');
CREATE INDEX deliveries_state ON deliveries (state, id DESC);

CREATE TABLE alerts (
  id              bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  kind            text NOT NULL,
  cause           text NOT NULL,
  state           text NOT NULL,
  job_id          bigint,
  job_name        text NOT NULL,
  run_id          bigint,
  owner_id        bigint NOT NULL REFERENCES people,
  happened        text NOT NULL,
  for_whom        text NOT NULL DEFAULT '',
  tried           text NOT NULL DEFAULT '',
  advice          text NOT NULL DEFAULT '',
  count           int NOT NULL DEFAULT 1,
  opened_at       timestamptz NOT NULL DEFAULT now(),
  last_at         timestamptz NOT NULL DEFAULT now(),
  acknowledged_by text NOT NULL DEFAULT '',
  acknowledged_at timestamptz,
  closed_at       timestamptz,
  step            int NOT NULL DEFAULT 0,
  tell_at         timestamptz,
  told_at         timestamptz,
  told            text NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX alerts_cause ON alerts (cause) WHERE state <> 'closed';
CREATE INDEX alerts_tell ON alerts (tell_at) WHERE tell_at IS NOT NULL;
CREATE INDEX alerts_last ON alerts (last_at DESC);
CREATE INDEX alerts_run ON alerts (run_id);

CREATE TABLE audit (
  id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  at      timestamptz NOT NULL DEFAULT now(),
  who     text NOT NULL,
  action  text NOT NULL,
  kind    text NOT NULL,
  subject text NOT NULL,
  before  jsonb,
  after   jsonb
);
CREATE INDEX audit_subject ON audit (kind, subject, id DESC);

-- Makes the partitions of this month and the following ones. Safe to call often
-- and from several nodes at once.
-- +goose StatementBegin
CREATE FUNCTION ensure_months(ahead int) RETURNS void LANGUAGE plpgsql AS $$
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
        EXECUTE format('CREATE TABLE %I PARTITION OF %I FOR VALUES FROM (%s) TO (%s)', tab || '_' || label, tab, low, high);
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

SELECT ensure_months(2);

-- +goose Down
DROP TABLE audit, alerts, deliveries, messages, run_log, artifacts, attempts, gates, parts, runs, rings, triggers,
  job_uses, job_versions, jobs, report_versions, reports, destinations, sources, sessions, tokens, people, settings;
DROP SEQUENCE run_count, artifact_count, log_count, message_count, delivery_count;
DROP FUNCTION ensure_months, month_id;
