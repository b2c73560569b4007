-- +goose Up
-- What is open of a change is looked for with each receipt: of few, however many there are.
CREATE INDEX receipts_open_of ON receipts (change) WHERE outcome IN ('waiting', 'in-doubt');

-- +goose Down
DROP INDEX receipts_open_of;
