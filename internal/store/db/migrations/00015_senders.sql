-- +goose Up

-- Programs outside that report events.
CREATE TABLE senders (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name        text NOT NULL UNIQUE,
  definition  jsonb NOT NULL,
  updated_at  timestamptz NOT NULL DEFAULT bell_now(),
  -- What was not taken of it, since it was saved.
  refused     bigint NOT NULL DEFAULT 0,
  refused_at  timestamptz,
  refused_why text NOT NULL DEFAULT '',
  removed_at  timestamptz,
  removed_by  text NOT NULL DEFAULT '',
  gone        boolean NOT NULL DEFAULT false
);
CREATE UNIQUE INDEX senders_alike ON senders (name_key(name));
CREATE INDEX senders_removed ON senders (removed_at) WHERE removed_at IS NOT NULL AND NOT gone;

-- What a sender is known by: a token, of which only the hash is kept, or a key that it signs with.
CREATE TABLE sender_keys (
  id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  sender_id bigint NOT NULL REFERENCES senders ON DELETE CASCADE,
  kind      text NOT NULL CHECK (kind IN ('token', 'key')),
  hash      bytea UNIQUE,               -- of a token
  sealed    bytea NOT NULL DEFAULT '',  -- of a key
  made_at   timestamptz NOT NULL DEFAULT bell_now(),
  made_by   text NOT NULL DEFAULT '',
  ends_at   timestamptz
);
CREATE INDEX sender_keys_sender ON sender_keys (sender_id);

-- Tokens that only report events were a person's; each is a sender now. The rows before stay
-- until they end, for nodes of the version before.
-- +goose StatementBegin
DO $$
DECLARE token record; made bigint;
BEGIN
  FOR token IN SELECT s.*, p.login FROM sign_ins s JOIN people p ON p.id = s.person_id WHERE s.sends IS NOT NULL
    AND s.kind = 'token' AND (s.ends_at IS NULL OR s.ends_at > bell_now()) ORDER BY s.id LOOP
    INSERT INTO senders (name, definition) VALUES (
      left(coalesce(nullif(regexp_replace(token.name, '[/[:cntrl:]]', ' ', 'g'), ''), 'Program'), 150) || ' (token ' || token.id || ')',
      jsonb_build_object('note', 'of ' || token.login, 'sends', token.sends)) RETURNING id INTO made;
    INSERT INTO sender_keys (sender_id, kind, hash, made_at, made_by, ends_at)
      VALUES (made, 'token', token.hash, token.began_at, token.login, token.ends_at);
  END LOOP;
END $$;
-- +goose StatementEnd

ALTER TABLE events ADD COLUMN sender_id bigint, ADD COLUMN extensions jsonb, ADD COLUMN media text NOT NULL DEFAULT '',
  ADD COLUMN note text NOT NULL DEFAULT 'whether it counted for something else was not kept then', ADD COLUMN played_from bigint;
ALTER TABLE events ALTER COLUMN note SET DEFAULT '';
CREATE INDEX events_sender ON events (sender_id, id DESC) WHERE sender_id IS NOT NULL;

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
      WHEN 'group' THEN (SELECT id FROM groups WHERE lower(name) = lower(named))
      WHEN 'post' THEN (SELECT id FROM posts WHERE lower(name) = lower(named))
      WHEN 'person' THEN (SELECT id FROM people WHERE lower(login) = lower(named))
    END,
    (SELECT f.record_id FROM former_names f WHERE f.kind = of_kind AND NOT f.freed AND name_key(f.name) = name_key(named)
      AND (f.name = named OR of_kind IN ('group', 'post', 'person') AND lower(f.name) = lower(named))))
$$;
-- +goose StatementEnd
DROP INDEX events_sender;
ALTER TABLE events DROP COLUMN played_from, DROP COLUMN note, DROP COLUMN media, DROP COLUMN extensions, DROP COLUMN sender_id;
DROP TABLE sender_keys;
DROP TABLE senders;
