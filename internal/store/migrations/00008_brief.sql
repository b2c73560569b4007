-- +goose Up
-- Why somebody is asked, without what evidence said of it, which stands beside it;
-- blank where the reason is all there is.
ALTER TABLE proposals ADD COLUMN brief text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE proposals DROP COLUMN brief;
