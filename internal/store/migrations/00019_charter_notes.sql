-- +goose Up
-- What whoever gave a charter said of it.
ALTER TABLE charters ADD COLUMN note text NOT NULL DEFAULT '';

-- +goose Down
SELECT 'there is no way back';
