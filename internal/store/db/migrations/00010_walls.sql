-- +goose Up

-- What the source's own login can write, as its server said when it was last asked, in
-- words; empty when it only reads.
ALTER TABLE sources ADD COLUMN writes text NOT NULL DEFAULT '';

-- The ways in that people have open: sessions of browsers, which name their row here, and
-- tokens of programs, of which only the hash is kept. A row that is gone lets nobody in.
CREATE TABLE sign_ins (
  id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  person_id bigint NOT NULL REFERENCES people ON DELETE CASCADE,
  kind      text NOT NULL DEFAULT 'token' CHECK (kind IN ('session', 'token')),
  name      text NOT NULL,             -- what the token is for, or what browser it is
  hash      bytea UNIQUE,              -- of a token
  address   text NOT NULL DEFAULT '',  -- from which it was made
  sends     jsonb,                     -- the events that the token may report, and then nothing else
  began_at  timestamptz NOT NULL DEFAULT bell_now(),
  used_at   timestamptz,
  ends_at   timestamptz
);
CREATE INDEX sign_ins_person ON sign_ins (person_id);
CREATE INDEX sign_ins_ends ON sign_ins (ends_at) WHERE ends_at IS NOT NULL;
INSERT INTO sign_ins (person_id, kind, name, hash, began_at, ends_at) SELECT person_id, 'token', name, hash, created_at, ends_at FROM tokens;
DROP TABLE tokens;
DELETE FROM sessions;
-- The version before reads and writes tokens where they stood, and counts what it ends.
CREATE VIEW tokens AS SELECT hash, person_id, name, began_at AS created_at, ends_at FROM sign_ins WHERE kind = 'token' AND sends IS NULL;

-- A link for named people is bound to them, not to addresses, which people set themselves.
ALTER TABLE people ADD COLUMN mail_own boolean NOT NULL DEFAULT false; -- the address is the person's own word
ALTER TABLE links ADD COLUMN people bigint[] NOT NULL DEFAULT '{}';
UPDATE links SET people = ARRAY(SELECT id FROM people WHERE lower(mail) = ANY(named)) WHERE audience = 'named';

-- Two names that people cannot tell apart are one: they may not differ only by case, or by
-- how a letter is written (Unicode Standard Annex 15, NFKC), or by the signs that only join or
-- part letters and choose their form. Where two stood already, the
-- younger is called by its number, too.
CREATE FUNCTION name_key(name text) RETURNS text LANGUAGE sql IMMUTABLE STRICT PARALLEL SAFE RETURN lower(normalize(translate(name, U&'\200C\200D\FE0E\FE0F', ''), NFKC));
-- +goose StatementBegin
DO $$
DECLARE kept text;
BEGIN
  FOREACH kept IN ARRAY ARRAY['sources', 'destinations', 'reports', 'jobs', 'calendars', 'groups', 'posts'] LOOP
    EXECUTE format('UPDATE %1$I t SET name = t.name || '' ('' || t.id || '')'' WHERE EXISTS (SELECT 1 FROM %1$I o WHERE o.id < t.id AND name_key(o.name) = name_key(t.name))', kept);
    EXECUTE format('CREATE UNIQUE INDEX %1$I ON %2$I (name_key(name))', kept || '_alike', kept);
  END LOOP;
END $$;
-- +goose StatementEnd
UPDATE identities t SET name = t.name || ' (' || t.id || ')' WHERE EXISTS (SELECT 1 FROM identities o WHERE o.id < t.id AND o.source_id = t.source_id AND name_key(o.name) = name_key(t.name));
CREATE UNIQUE INDEX identities_alike ON identities (source_id, name_key(name));
UPDATE people t SET login = t.login || '.' || t.id WHERE EXISTS (SELECT 1 FROM people o WHERE o.id < t.id AND name_key(o.login) = name_key(t.login));
CREATE UNIQUE INDEX people_alike ON people (name_key(login));

-- +goose Down
DROP INDEX people_alike, identities_alike, posts_alike, groups_alike, calendars_alike, jobs_alike, reports_alike, destinations_alike, sources_alike;
DROP FUNCTION name_key;
ALTER TABLE links DROP COLUMN people;
ALTER TABLE people DROP COLUMN mail_own;
DROP VIEW tokens;
CREATE TABLE tokens (
  hash       bytea PRIMARY KEY,
  person_id  bigint NOT NULL REFERENCES people ON DELETE CASCADE,
  name       text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT bell_now(),
  ends_at    timestamptz
);
CREATE INDEX tokens_person ON tokens (person_id);
INSERT INTO tokens (hash, person_id, name, created_at, ends_at) SELECT hash, person_id, name, began_at, ends_at FROM sign_ins WHERE kind = 'token' AND sends IS NULL;
DELETE FROM sessions;
DROP TABLE sign_ins;
ALTER TABLE sources DROP COLUMN writes;
