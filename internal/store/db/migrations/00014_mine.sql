-- +goose Up

-- Who joined the mails of a job that is open to them. Whether it still is, is asked each time.
CREATE TABLE joined_jobs (
  job_id    bigint NOT NULL REFERENCES jobs ON DELETE CASCADE,
  person_id bigint NOT NULL REFERENCES people ON DELETE CASCADE,
  at        timestamptz NOT NULL DEFAULT bell_now(),
  PRIMARY KEY (job_id, person_id)
);
CREATE INDEX joined_jobs_person ON joined_jobs (person_id);

-- Jobs that somebody may join are few among many, and are looked for by everybody.
CREATE INDEX job_versions_joiners ON job_versions (job_id, version) WHERE definition ? 'joiners';
CREATE INDEX report_versions_schedulers ON report_versions (report_id, version) WHERE definition ? 'schedulers';

-- What waits for the owner's word, or for a second person's.
CREATE INDEX deliveries_asking ON deliveries (job_id, id) WHERE state = 'unknown' OR state = 'waiting' AND kept_back = 'yes';

-- How many parts a node works at once: how soon what rings begins depends on all of them.
ALTER TABLE nodes ADD COLUMN workers int NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE nodes DROP COLUMN workers;
DROP INDEX deliveries_asking;
DROP INDEX report_versions_schedulers;
DROP INDEX job_versions_joiners;
DROP TABLE joined_jobs;
