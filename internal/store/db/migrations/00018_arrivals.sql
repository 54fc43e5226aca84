-- +goose Up

-- When what jobs wait for came first on each day, by the wall clock of the job. From it follows by when it is
-- usually there. It belongs to the job and to what is waited for, so that it outlives a changed trigger.
CREATE TABLE arrivals (
  job_id bigint NOT NULL REFERENCES jobs ON DELETE CASCADE,
  key    text NOT NULL,
  day    date NOT NULL,
  at     timestamptz NOT NULL,
  PRIMARY KEY (job_id, key, day)
);
CREATE INDEX arrivals_at ON arrivals (at);

ALTER TABLE trigger_waits
  ADD COLUMN reckon_at timestamptz NOT NULL DEFAULT '-infinity', -- when the usual hour of the next day is reckoned
  ADD COLUMN usual_at  timestamptz,                    -- by then it is usually there on this day
  ADD COLUMN late_at   timestamptz,                    -- from then on it is late by its own past
  ADD COLUMN settled   boolean NOT NULL DEFAULT false; -- it came on this day, or it was told that it did not
CREATE INDEX trigger_waits_reckon ON trigger_waits (reckon_at);
CREATE INDEX trigger_waits_late ON trigger_waits (late_at) WHERE NOT settled;

-- +goose StatementBegin
-- What a condition of a trigger means, by the records that it names and not by their names.
CREATE FUNCTION wait_key(event_type text, job_id bigint, watch_id bigint, condition jsonb) RETURNS text
LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT md5(jsonb_build_array(event_type, job_id, watch_id, condition->'source', condition->'subject',
    condition->'only_if', condition->'ends')::text)
$$;
-- +goose StatementEnd

-- +goose Down
DROP FUNCTION wait_key;
ALTER TABLE trigger_waits DROP COLUMN reckon_at, DROP COLUMN usual_at, DROP COLUMN late_at, DROP COLUMN settled;
DROP TABLE arrivals;
