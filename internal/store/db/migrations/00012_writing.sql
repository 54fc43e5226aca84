-- +goose Up

-- How often a draft was kept: who keeps one that was kept meanwhile, in another window, is told.
ALTER TABLE drafts ADD COLUMN kept bigint NOT NULL DEFAULT 1;

-- The section that a file holds alone, so that a name which a delivery gives to several
-- files of a report still tells them apart.
ALTER TABLE artifacts ADD COLUMN section text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE artifacts DROP COLUMN section;
ALTER TABLE drafts DROP COLUMN kept;
