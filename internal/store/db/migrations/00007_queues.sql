-- +goose Up

-- Each destination has its own queue, so that those that are busy or rest are not
-- read at all; mails about alerts go before all others of theirs.
DROP INDEX deliveries_ready, deliveries_ready_alerts;
CREATE INDEX deliveries_ready ON deliveries (destination_id, ready_at, id) WHERE phase = 'ready';
CREATE INDEX deliveries_ready_alerts ON deliveries (destination_id, ready_at, id) WHERE phase = 'ready' AND alert_id IS NOT NULL;

-- A destination works as far as its last test says.
ALTER TABLE destinations ADD COLUMN tested_at timestamptz, ADD COLUMN test_answer text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE destinations DROP COLUMN tested_at, DROP COLUMN test_answer;
DROP INDEX deliveries_ready, deliveries_ready_alerts;
CREATE INDEX deliveries_ready ON deliveries (ready_at, id) WHERE phase = 'ready';
CREATE INDEX deliveries_ready_alerts ON deliveries (ready_at, id) WHERE phase = 'ready' AND alert_id IS NOT NULL;
