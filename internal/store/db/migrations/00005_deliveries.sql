-- +goose Up

-- A destination rests when it was found broken: what waits for it is kept back,
-- and one try after another looks whether it is there again. Its host key is
-- pinned at its first test, and what goes out too fast is paced.
ALTER TABLE destinations
  ADD COLUMN pin text NOT NULL DEFAULT '',
  ADD COLUMN rests_since timestamptz,
  ADD COLUMN rest_answer text NOT NULL DEFAULT '',
  ADD COLUMN rest_advice text NOT NULL DEFAULT '',
  ADD COLUMN rest_class text NOT NULL DEFAULT '',
  ADD COLUMN probe_at timestamptz,
  ADD COLUMN probes int NOT NULL DEFAULT 0,
  ADD COLUMN paced_until timestamptz NOT NULL DEFAULT '-infinity';
CREATE INDEX destinations_probe ON destinations (probe_at) WHERE rests_since IS NOT NULL;

-- A message may be a file: then it has a name and a type, and says what to do
-- when there is one of the name.
ALTER TABLE messages
  ADD COLUMN name text NOT NULL DEFAULT '',
  ADD COLUMN media_type text NOT NULL DEFAULT '',
  ADD COLUMN if_exists text NOT NULL DEFAULT '',
  ADD COLUMN stamp text NOT NULL DEFAULT '';

-- Why a delivery that waits is kept back: its destination rests, or somebody has
-- to say yes. What is kept back stands in no index that the senders read.
ALTER TABLE deliveries
  ADD COLUMN part int NOT NULL DEFAULT 0,
  ADD COLUMN kept_back text NOT NULL DEFAULT '',
  ADD COLUMN went_to text NOT NULL DEFAULT '',
  ADD COLUMN person_id bigint,
  ADD COLUMN meant_for text NOT NULL DEFAULT '',
  ADD COLUMN allowed_by text NOT NULL DEFAULT '';
DROP INDEX deliveries_state;
CREATE INDEX deliveries_trouble ON deliveries (state, id DESC) WHERE state IN ('failed', 'bounced', 'unknown');
DROP INDEX deliveries_ready;
CREATE INDEX deliveries_ready ON deliveries (ready_at, id) WHERE state = 'waiting' AND kept_back = '';
CREATE INDEX deliveries_kept_back ON deliveries (destination_id, kept_back) WHERE state = 'waiting' AND kept_back <> '';
CREATE INDEX deliveries_give_up ON deliveries (give_up_at) WHERE state = 'waiting' AND give_up_at IS NOT NULL;
CREATE INDEX deliveries_open ON deliveries (run_id) WHERE state IN ('waiting', 'sending', 'offered');
CREATE INDEX deliveries_destination ON deliveries (destination_id, id DESC);
CREATE INDEX deliveries_address ON deliveries (lower(address), id DESC);
DROP INDEX parts_open;
CREATE INDEX parts_open ON parts (job_id, run_id) WHERE state IN ('waiting', 'running');

-- What a person wishes for the mails that they get.
ALTER TABLE people
  ADD COLUMN wishes jsonb NOT NULL DEFAULT '{}',
  ADD COLUMN digest_due timestamptz;
CREATE INDEX people_digest ON people (digest_due) WHERE digest_due IS NOT NULL;
CREATE INDEX people_mail ON people (lower(mail));

-- An alert about a destination belongs to no job. One that nobody could be told
-- of is unreached.
ALTER TABLE alerts
  ALTER COLUMN owner_id DROP NOT NULL,
  ADD COLUMN urgent boolean NOT NULL DEFAULT false,
  ADD COLUMN unreached boolean NOT NULL DEFAULT false,
  ADD COLUMN next text NOT NULL DEFAULT '';
CREATE INDEX alerts_unreached ON alerts (id) WHERE unreached AND state <> 'closed';
-- The steps were owner and administrators; between them comes the second owner.
UPDATE alerts SET step = 2 WHERE step = 1;

-- Who can receive beside people and addresses: groups of them, and posts of the
-- organisation with the posts under them.
CREATE TABLE groups (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL,
  members    jsonb NOT NULL,
  updated_at timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX groups_name ON groups (lower(name));

CREATE TABLE posts (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL,
  under_id   bigint REFERENCES posts,
  holders    jsonb NOT NULL,
  updated_at timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX posts_name ON posts (lower(name));
CREATE INDEX posts_under ON posts (under_id);

-- Who left a job's list.
CREATE TABLE left_jobs (
  job_id  bigint NOT NULL REFERENCES jobs ON DELETE CASCADE,
  address text NOT NULL,
  at      timestamptz NOT NULL DEFAULT now(),
  how     text NOT NULL DEFAULT '',
  PRIMARY KEY (job_id, address)
);

-- Links to the files of a run. The address holds a token that only its hash is
-- kept of; whoever follows it signs in.
CREATE TABLE links (
  id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  hash         bytea NOT NULL UNIQUE,
  run_id       bigint NOT NULL,
  part         int NOT NULL,
  task         text NOT NULL,
  files        text[] NOT NULL,
  audience     text NOT NULL CHECK (audience IN ('named', 'house')),
  named        text[] NOT NULL DEFAULT '{}',
  ends_at      timestamptz NOT NULL,
  created_at   timestamptz NOT NULL DEFAULT now(),
  withdrawn_at timestamptz,
  withdrawn_by text NOT NULL DEFAULT ''
);
CREATE INDEX links_run ON links (run_id);

CREATE TABLE link_uses (
  id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  link_id bigint NOT NULL REFERENCES links ON DELETE CASCADE,
  at      timestamptz NOT NULL DEFAULT now(),
  who     text NOT NULL,
  what    text NOT NULL
);
CREATE INDEX link_uses_link ON link_uses (link_id, id DESC);

ALTER TABLE messages
  ADD COLUMN may_leave boolean NOT NULL DEFAULT false;

-- A run that sends the correction of another one says so to the same people.
ALTER TABLE runs
  ADD COLUMN correction text NOT NULL DEFAULT '',
  ADD COLUMN part_count int NOT NULL DEFAULT 1;

CREATE INDEX messages_mail_id ON messages (message_id);

-- Addresses that mail came back from.
CREATE TABLE bounced_addresses (
  address   text PRIMARY KEY,
  times     int NOT NULL DEFAULT 1,
  last_at   timestamptz NOT NULL DEFAULT now(),
  last_word text NOT NULL DEFAULT ''
);

-- What one node at a time does every so often.
CREATE TABLE turns (
  name     text PRIMARY KEY,
  due      timestamptz NOT NULL DEFAULT now(),
  taken_at timestamptz,
  word     text NOT NULL DEFAULT ''
);

-- +goose Down
DROP TABLE turns, bounced_addresses, link_uses, links, left_jobs, posts, groups;
