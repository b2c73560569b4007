-- +goose Up
-- What was sent and shows otherwise was done to a system as well.
DROP INDEX receipts_done;
CREATE INDEX receipts_done ON receipts (ended) WHERE outcome IN ('done', 'different', 'in-doubt', 'waiting');
-- Attributes that show otherwise than they were sent, and what they show.
ALTER TABLE receipts ADD COLUMN differs jsonb NOT NULL DEFAULT '{}';
-- When a deletion was first told, whatever the zone says of the day; of those there are, the end of
-- that day anywhere.
ALTER TABLE intentions ADD COLUMN told timestamptz NOT NULL DEFAULT now();
UPDATE intentions SET told = least(now(), first + interval '36 hours');

-- +goose Down
SELECT 'there is no way back';
