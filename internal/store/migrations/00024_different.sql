-- +goose Up
-- What was sent and shows otherwise was done to a system as well.
DROP INDEX receipts_done;
CREATE INDEX receipts_done ON receipts (ended) WHERE outcome IN ('done', 'different', 'in-doubt', 'waiting');
-- Attributes that show otherwise than they were sent, and what they show.
ALTER TABLE receipts ADD COLUMN differs jsonb NOT NULL DEFAULT '{}';

-- +goose Down
SELECT 'there is no way back';
