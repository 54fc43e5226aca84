-- +goose Up

-- Every delivery passes through the same few states within a second. Indexes look
-- at its phase in place of them, which changes less often: an offer changes none,
-- and stays within its page. What was sent has no phase, and stands in no index of
-- those that wait or went wrong.
ALTER TABLE deliveries ADD COLUMN phase text GENERATED ALWAYS AS (CASE
  WHEN state = 'waiting' AND kept_back = '' THEN 'ready'
  WHEN state = 'waiting' THEN 'kept back'
  WHEN state IN ('sending', 'offered') THEN 'leased'
  WHEN state IN ('failed', 'bounced', 'unknown') THEN state
END) STORED;
DROP INDEX deliveries_trouble, deliveries_ready, deliveries_kept_back, deliveries_give_up, deliveries_open, deliveries_leased;
CREATE INDEX deliveries_ready ON deliveries (ready_at, id) WHERE phase = 'ready';
-- Mails about alerts go before all others.
CREATE INDEX deliveries_ready_alerts ON deliveries (ready_at, id) WHERE phase = 'ready' AND alert_id IS NOT NULL;
CREATE INDEX deliveries_kept_back ON deliveries (destination_id, kept_back) WHERE phase = 'kept back';
CREATE INDEX deliveries_give_up ON deliveries (give_up_at) WHERE phase = 'kept back' AND give_up_at IS NOT NULL;
CREATE INDEX deliveries_leased ON deliveries (lease_until) WHERE phase = 'leased';
CREATE INDEX deliveries_open ON deliveries (run_id) WHERE phase IN ('ready', 'kept back', 'leased');
CREATE INDEX deliveries_trouble ON deliveries (phase, id DESC) WHERE phase IN ('failed', 'bounced', 'unknown');
-- The deliveries of a message are found by its run or alert.
DROP INDEX deliveries_message, deliveries_run;
CREATE INDEX deliveries_run ON deliveries (run_id, message_id) WHERE run_id IS NOT NULL;

-- What comes back is told by its seal alone.
DROP INDEX messages_mail_id;

-- A link may lead to what earlier runs made as well.
ALTER TABLE links ADD COLUMN archive boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE links DROP COLUMN archive;
DROP INDEX deliveries_trouble, deliveries_ready, deliveries_ready_alerts, deliveries_kept_back, deliveries_give_up, deliveries_open, deliveries_leased;
ALTER TABLE deliveries DROP COLUMN phase;
