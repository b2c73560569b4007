-- +goose Up
-- The last day on which a system's secret is good, as whoever set it knows; '' when they do not.
ALTER TABLE systems ADD COLUMN secret_until text NOT NULL DEFAULT '';

-- +goose Down
SELECT 'there is no way back';
