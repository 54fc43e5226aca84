-- +goose Up

-- What the source's own login can write, as its server said when it was last asked, in
-- words; empty when it only reads.
ALTER TABLE sources ADD COLUMN writes text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE sources DROP COLUMN writes;
