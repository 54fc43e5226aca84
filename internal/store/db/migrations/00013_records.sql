-- +goose Up

-- A record that was removed can be brought back for thirty days. Then it is gone: what was
-- secret in it is erased and its name is free, and its row stays for history alone.
-- +goose StatementBegin
DO $$
DECLARE kept text;
BEGIN
  FOREACH kept IN ARRAY ARRAY['jobs', 'reports', 'groups', 'posts', 'destinations', 'calendars', 'sources', 'people'] LOOP
    EXECUTE format('ALTER TABLE %I ADD COLUMN removed_at timestamptz, ADD COLUMN removed_by text NOT NULL DEFAULT '''',
      ADD COLUMN gone boolean NOT NULL DEFAULT false', kept);
    EXECUTE format('CREATE INDEX %I ON %I (removed_at) WHERE removed_at IS NOT NULL AND NOT gone', kept || '_removed', kept);
  END LOOP;
END $$;
-- +goose StatementEnd
ALTER TABLE jobs ADD COLUMN was_on boolean NOT NULL DEFAULT false;

-- The names that records had before. One that was not freed still finds its record.
CREATE TABLE former_names (
  kind      text NOT NULL,
  name      text NOT NULL,
  record_id bigint NOT NULL,
  since     timestamptz NOT NULL DEFAULT bell_now(),
  freed     boolean NOT NULL DEFAULT false,
  PRIMARY KEY (kind, record_id, name)
);
CREATE UNIQUE INDEX former_names_taken ON former_names (kind, name_key(name)) WHERE NOT freed;

-- The record of a name, or of a name that one had; whether it was removed is not asked.
-- +goose StatementBegin
CREATE FUNCTION record_id(of_kind text, named text) RETURNS bigint LANGUAGE sql STABLE AS $$
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

-- The nearest post that is there, from one upwards: what stands under a removed one stands
-- under the one above it until it comes back.
-- +goose StatementBegin
CREATE FUNCTION above(post bigint) RETURNS bigint LANGUAGE sql STABLE AS $$
  WITH RECURSIVE up AS (
    SELECT id, under_id, removed_at, 1 AS step FROM posts WHERE id = post
    UNION ALL SELECT p.id, p.under_id, p.removed_at, u.step + 1 FROM posts p JOIN up u ON p.id = u.under_id
      WHERE u.removed_at IS NOT NULL AND u.step < 100)
  SELECT id FROM up WHERE removed_at IS NULL ORDER BY step LIMIT 1
$$;
-- +goose StatementEnd

-- The names of records with all that they had before, as the record of changes has them.
-- +goose StatementBegin
CREATE FUNCTION all_names(of_kind text, names text[]) RETURNS text[] LANGUAGE sql STABLE AS $$
  SELECT names || ARRAY(SELECT CASE WHEN of_kind IN ('group', 'post', 'person') THEN lower(f.name) ELSE f.name END
    FROM former_names f WHERE f.kind = of_kind AND f.record_id IN (SELECT record_id(of_kind, n) FROM unnest(names) n))
$$;
-- +goose StatementEnd

-- +goose Down
DROP FUNCTION all_names(text, text[]);
DROP FUNCTION above(bigint);
DROP FUNCTION record_id(text, text);
DROP TABLE former_names;
ALTER TABLE jobs DROP COLUMN was_on;
-- +goose StatementBegin
DO $$
DECLARE kept text;
BEGIN
  FOREACH kept IN ARRAY ARRAY['jobs', 'reports', 'groups', 'posts', 'destinations', 'calendars', 'sources', 'people'] LOOP
    EXECUTE format('ALTER TABLE %I DROP COLUMN removed_at, DROP COLUMN removed_by, DROP COLUMN gone', kept);
  END LOOP;
END $$;
-- +goose StatementEnd
