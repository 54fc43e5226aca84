-- +goose Up

-- Addresses that the service's own events go to.
CREATE TABLE subscriptions (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL UNIQUE,
  definition jsonb NOT NULL,
  updated_at timestamptz NOT NULL DEFAULT bell_now(),
  mark       bigint NOT NULL DEFAULT 0, -- the number of the last event that was looked at for it
  stands     text NOT NULL DEFAULT '',  -- why nothing is handed on; empty when it is
  removed_at timestamptz,
  removed_by text NOT NULL DEFAULT '',
  gone       boolean NOT NULL DEFAULT false
);
CREATE UNIQUE INDEX subscriptions_alike ON subscriptions (name_key(name));
CREATE INDEX subscriptions_removed ON subscriptions (removed_at) WHERE removed_at IS NOT NULL AND NOT gone;

-- What the service tells of itself. Rows are written by those who write what they tell of. They are
-- numbered afterwards, in the order in which they became visible: a transaction that ends late gets a
-- number of its own, and none below those that were handed on.
CREATE TABLE published (
  id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  no      bigint UNIQUE,
  uid     uuid NOT NULL DEFAULT gen_random_uuid(),
  type    text NOT NULL,
  subject text NOT NULL,
  at      timestamptz NOT NULL DEFAULT bell_clock(),
  data    jsonb NOT NULL
);
CREATE INDEX published_new ON published (id) WHERE no IS NULL;
CREATE INDEX published_at ON published (at);
CREATE SEQUENCE published_count;

ALTER TABLE messages ADD COLUMN subscription_id bigint;
ALTER TABLE deliveries ADD COLUMN subscription_id bigint, ADD COLUMN published_no bigint,
  ADD COLUMN about text NOT NULL DEFAULT ''; -- the subject, of which one event goes after another
-- Nodes of the version before would take such a delivery and end by it: to them it is kept back, and an alert's.
DROP INDEX deliveries_ready, deliveries_ready_alerts, deliveries_kept_back, deliveries_give_up, deliveries_yes, deliveries_leased,
  deliveries_taken, deliveries_open, deliveries_trouble;
ALTER TABLE deliveries DROP COLUMN phase;
ALTER TABLE deliveries ADD COLUMN phase text GENERATED ALWAYS AS (CASE
    WHEN state = 'waiting' AND kept_back IN ('', 'event') THEN 'ready'
    WHEN state = 'waiting' THEN 'kept back'
    WHEN state IN ('sending', 'offered') THEN 'leased'
    WHEN state IN ('failed', 'bounced', 'unknown', 'taken', 'declined') THEN state
  END) STORED;
CREATE INDEX deliveries_ready ON deliveries (destination_id, ready_at, id) WHERE phase = 'ready';
CREATE INDEX deliveries_ready_alerts ON deliveries (destination_id, ready_at, id) WHERE phase = 'ready' AND alert_id IS NOT NULL;
CREATE INDEX deliveries_kept_back ON deliveries (destination_id, kept_back) WHERE phase = 'kept back';
CREATE INDEX deliveries_give_up ON deliveries (give_up_at) WHERE phase = 'kept back' AND give_up_at IS NOT NULL;
CREATE INDEX deliveries_yes ON deliveries (yes_until) WHERE phase = 'kept back' AND yes_until IS NOT NULL;
CREATE INDEX deliveries_leased ON deliveries (lease_until) WHERE phase = 'leased';
CREATE INDEX deliveries_taken ON deliveries (ask_at) WHERE phase = 'taken';
CREATE INDEX deliveries_open ON deliveries (run_id) WHERE phase IN ('ready', 'kept back', 'leased', 'taken');
CREATE INDEX deliveries_trouble ON deliveries (phase, id DESC) WHERE phase IN ('failed', 'bounced', 'unknown', 'declined');

CREATE INDEX messages_subscription ON messages (subscription_id, id) WHERE subscription_id IS NOT NULL;
CREATE INDEX deliveries_turn ON deliveries (subscription_id, about, id)
  WHERE subscription_id IS NOT NULL AND state IN ('waiting', 'sending', 'offered');
CREATE INDEX deliveries_subscription ON deliveries (subscription_id, settled_at) WHERE subscription_id IS NOT NULL;

-- +goose StatementBegin
CREATE FUNCTION publish(of_type text, about text, what jsonb) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
  IF EXISTS (SELECT 1 FROM subscriptions WHERE NOT gone) THEN
    INSERT INTO published (type, subject, data) VALUES (of_type, about, what);
    PERFORM pg_notify('ironbell', 'published ');
  END IF;
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION readable_id(id bigint) RETURNS text LANGUAGE sql IMMUTABLE AS
  $$ SELECT id / 10000000000 || '-' || id % 10000000000 $$;
-- +goose StatementEnd

-- By triggers, so that no way to an outcome leads round them.
-- +goose StatementBegin
CREATE FUNCTION publish_run() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM publish('ironbell.run.ended', 'jobs/' || NEW.job_name, jsonb_build_object('run', readable_id(NEW.id),
    'job', NEW.job_name, 'version', NEW.job_version, 'state', NEW.state, 'reason', NEW.reason, 'why', NEW.why,
    'due', NEW.due, 'zone', NEW.zone, 'started_at', NEW.started_at, 'ended_at', NEW.ended_at,
    'repeats', CASE WHEN NEW.again IS NOT NULL THEN readable_id(NEW.again) END));
  RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER run_ended AFTER UPDATE OF state ON runs FOR EACH ROW
  WHEN (NEW.state IS DISTINCT FROM OLD.state AND NEW.state NOT IN ('waiting', 'running', 'delivering') AND NOT NEW.rehearsal)
  EXECUTE FUNCTION publish_run();
CREATE TRIGGER run_never_began AFTER INSERT ON runs FOR EACH ROW
  WHEN (NEW.state NOT IN ('waiting', 'running', 'delivering') AND NOT NEW.rehearsal) EXECUTE FUNCTION publish_run();

-- +goose StatementBegin
CREATE FUNCTION publish_delivery() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE of_job text; into_place text;
BEGIN
  SELECT job_name INTO of_job FROM runs WHERE id = NEW.run_id;
  SELECT name INTO into_place FROM destinations WHERE id = NEW.destination_id;
  PERFORM publish('ironbell.delivery.failed', 'jobs/' || coalesce(of_job, ''), jsonb_build_object('delivery', NEW.id,
    'run', readable_id(NEW.run_id), 'job', of_job, 'destination', into_place, 'address', NEW.address,
    'state', NEW.state, 'tries', NEW.tries, 'answer', NEW.answer, 'advice', NEW.advice));
  RETURN NULL;
END $$;
-- +goose StatementEnd
-- One that nobody knows of and that is sent again by itself is at no end.
CREATE TRIGGER delivery_failed AFTER UPDATE OF state ON deliveries FOR EACH ROW
  WHEN (NEW.state IS DISTINCT FROM OLD.state AND NEW.run_id IS NOT NULL AND NOT NEW.rehearsal
    AND (NEW.state IN ('failed', 'bounced') OR NEW.state = 'unknown' AND NEW.if_unknown <> 'resend'))
  EXECUTE FUNCTION publish_delivery();
CREATE TRIGGER delivery_impossible AFTER INSERT ON deliveries FOR EACH ROW
  WHEN (NEW.run_id IS NOT NULL AND NOT NEW.rehearsal AND NEW.state = 'failed') EXECUTE FUNCTION publish_delivery();

-- +goose StatementBegin
CREATE FUNCTION publish_alert() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM publish(CASE WHEN NEW.state = 'closed' THEN 'ironbell.alert.closed' ELSE 'ironbell.alert.opened' END,
    'alerts/' || NEW.id, jsonb_build_object('alert', NEW.id, 'kind', NEW.kind, 'cause', NEW.cause, 'name', NEW.job_name,
    'run', CASE WHEN NEW.run_id IS NOT NULL THEN readable_id(NEW.run_id) END,
    'owner', (SELECT login FROM people WHERE id = NEW.owner_id), 'happened', NEW.happened, 'for_whom', NEW.for_whom,
    'advice', NEW.advice, 'count', NEW.count, 'opened_at', NEW.opened_at, 'closed_at', NEW.closed_at));
  RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER alert_opened AFTER INSERT ON alerts FOR EACH ROW EXECUTE FUNCTION publish_alert();
CREATE TRIGGER alert_closed AFTER UPDATE OF state ON alerts FOR EACH ROW
  WHEN (NEW.state = 'closed' AND OLD.state <> 'closed') EXECUTE FUNCTION publish_alert();

-- +goose StatementBegin
CREATE FUNCTION publish_calendar() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  PERFORM publish('ironbell.calendar.changed', 'calendars/' || NEW.name, jsonb_build_object('calendar', NEW.name,
    'version', NEW.version, 'change', CASE WHEN TG_OP = 'INSERT' THEN 'added'
      WHEN NEW.removed_at IS NOT NULL AND OLD.removed_at IS NULL THEN 'removed'
      WHEN NEW.removed_at IS NULL AND OLD.removed_at IS NOT NULL THEN 'returned'
      WHEN NEW.name <> OLD.name THEN 'renamed' ELSE 'changed' END,
    'before', CASE WHEN TG_OP = 'UPDATE' AND NEW.name <> OLD.name THEN OLD.name END));
  RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER calendar_added AFTER INSERT ON calendars FOR EACH ROW EXECUTE FUNCTION publish_calendar();
CREATE TRIGGER calendar_changed AFTER UPDATE ON calendars FOR EACH ROW
  WHEN (NOT NEW.gone AND (NEW.version <> OLD.version OR NEW.name <> OLD.name OR NEW.removed_at IS DISTINCT FROM OLD.removed_at))
  EXECUTE FUNCTION publish_calendar();

-- +goose StatementBegin
CREATE OR REPLACE FUNCTION record_id(of_kind text, named text) RETURNS bigint LANGUAGE sql STABLE AS $$
  SELECT coalesce(
    CASE of_kind
      WHEN 'job' THEN (SELECT id FROM jobs WHERE name = named)
      WHEN 'report' THEN (SELECT id FROM reports WHERE name = named)
      WHEN 'destination' THEN (SELECT id FROM destinations WHERE name = named)
      WHEN 'calendar' THEN (SELECT id FROM calendars WHERE name = named)
      WHEN 'source' THEN (SELECT id FROM sources WHERE name = named)
      WHEN 'sender' THEN (SELECT id FROM senders WHERE name = named)
      WHEN 'subscription' THEN (SELECT id FROM subscriptions WHERE name = named)
      WHEN 'group' THEN (SELECT id FROM groups WHERE lower(name) = lower(named))
      WHEN 'post' THEN (SELECT id FROM posts WHERE lower(name) = lower(named))
      WHEN 'person' THEN (SELECT id FROM people WHERE lower(login) = lower(named))
    END,
    (SELECT f.record_id FROM former_names f WHERE f.kind = of_kind AND NOT f.freed AND name_key(f.name) = name_key(named)
      AND (f.name = named OR of_kind IN ('group', 'post', 'person') AND lower(f.name) = lower(named))))
$$;
-- +goose StatementEnd

-- +goose Down
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION record_id(of_kind text, named text) RETURNS bigint LANGUAGE sql STABLE AS $$
  SELECT coalesce(
    CASE of_kind
      WHEN 'job' THEN (SELECT id FROM jobs WHERE name = named)
      WHEN 'report' THEN (SELECT id FROM reports WHERE name = named)
      WHEN 'destination' THEN (SELECT id FROM destinations WHERE name = named)
      WHEN 'calendar' THEN (SELECT id FROM calendars WHERE name = named)
      WHEN 'source' THEN (SELECT id FROM sources WHERE name = named)
      WHEN 'sender' THEN (SELECT id FROM senders WHERE name = named)
      WHEN 'group' THEN (SELECT id FROM groups WHERE lower(name) = lower(named))
      WHEN 'post' THEN (SELECT id FROM posts WHERE lower(name) = lower(named))
      WHEN 'person' THEN (SELECT id FROM people WHERE lower(login) = lower(named))
    END,
    (SELECT f.record_id FROM former_names f WHERE f.kind = of_kind AND NOT f.freed AND name_key(f.name) = name_key(named)
      AND (f.name = named OR of_kind IN ('group', 'post', 'person') AND lower(f.name) = lower(named))))
$$;
-- +goose StatementEnd
DROP TRIGGER calendar_changed ON calendars;
DROP TRIGGER calendar_added ON calendars;
DROP TRIGGER alert_closed ON alerts;
DROP TRIGGER alert_opened ON alerts;
DROP TRIGGER delivery_impossible ON deliveries;
DROP TRIGGER delivery_failed ON deliveries;
DROP TRIGGER run_never_began ON runs;
DROP TRIGGER run_ended ON runs;
DROP FUNCTION publish_calendar, publish_alert, publish_delivery, publish_run, readable_id, publish;
DELETE FROM deliveries WHERE subscription_id IS NOT NULL;
DROP INDEX deliveries_ready, deliveries_ready_alerts, deliveries_kept_back, deliveries_give_up, deliveries_yes, deliveries_leased,
  deliveries_taken, deliveries_open, deliveries_trouble;
ALTER TABLE deliveries DROP COLUMN phase;
ALTER TABLE deliveries ADD COLUMN phase text GENERATED ALWAYS AS (CASE
    WHEN state = 'waiting' AND kept_back = '' THEN 'ready'
    WHEN state = 'waiting' THEN 'kept back'
    WHEN state IN ('sending', 'offered') THEN 'leased'
    WHEN state IN ('failed', 'bounced', 'unknown', 'taken', 'declined') THEN state
  END) STORED;
CREATE INDEX deliveries_ready ON deliveries (destination_id, ready_at, id) WHERE phase = 'ready';
CREATE INDEX deliveries_ready_alerts ON deliveries (destination_id, ready_at, id) WHERE phase = 'ready' AND alert_id IS NOT NULL;
CREATE INDEX deliveries_kept_back ON deliveries (destination_id, kept_back) WHERE phase = 'kept back';
CREATE INDEX deliveries_give_up ON deliveries (give_up_at) WHERE phase = 'kept back' AND give_up_at IS NOT NULL;
CREATE INDEX deliveries_yes ON deliveries (yes_until) WHERE phase = 'kept back' AND yes_until IS NOT NULL;
CREATE INDEX deliveries_leased ON deliveries (lease_until) WHERE phase = 'leased';
CREATE INDEX deliveries_taken ON deliveries (ask_at) WHERE phase = 'taken';
CREATE INDEX deliveries_open ON deliveries (run_id) WHERE phase IN ('ready', 'kept back', 'leased', 'taken');
CREATE INDEX deliveries_trouble ON deliveries (phase, id DESC) WHERE phase IN ('failed', 'bounced', 'unknown', 'declined');
ALTER TABLE deliveries DROP COLUMN about, DROP COLUMN published_no, DROP COLUMN subscription_id;
ALTER TABLE messages DROP COLUMN subscription_id;
DROP SEQUENCE published_count;
DROP TABLE published;
DROP TABLE subscriptions;
