-- +goose Up

-- Rises when all that a person signed in with is ended: sessions name the number under
-- which they began.
ALTER TABLE people ADD COLUMN access_no bigint NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE people DROP COLUMN access_no;
