-- +goose Up

-- How often a draft was kept: who keeps one that was kept meanwhile, in another window, is told.
ALTER TABLE drafts ADD COLUMN kept bigint NOT NULL DEFAULT 1;

-- The section that a file holds alone, so that a name which a delivery gives to several
-- files of a report still tells them apart.
ALTER TABLE artifacts ADD COLUMN section text NOT NULL DEFAULT '';

-- Cells of the first rows that a task found, of which tasks behind it speak.
ALTER TABLE attempts ADD COLUMN cells jsonb NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE attempts DROP COLUMN cells;
ALTER TABLE artifacts DROP COLUMN section;
ALTER TABLE drafts DROP COLUMN kept;
