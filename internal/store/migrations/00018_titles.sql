-- +goose Up
-- What people call a system, or a lane; it may change, and the name stays.
ALTER TABLE systems ADD COLUMN title text NOT NULL DEFAULT '';
ALTER TABLE lanes ADD COLUMN title text NOT NULL DEFAULT '';

-- +goose Down
SELECT 'there is no way back';
