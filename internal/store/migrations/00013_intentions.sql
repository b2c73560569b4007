-- +goose Up
-- What is to come of leavers, as the newest reconciliation found it; a cancellation is a
-- human's, and goes when what it cancels is no longer meant.
CREATE TABLE intentions (
  lane_id bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  intention text NOT NULL,
  verb text NOT NULL,
  person text NOT NULL,
  account text NOT NULL,
  label text NOT NULL DEFAULT '',
  due date NOT NULL,
  first date NOT NULL,
  waits text NOT NULL DEFAULT '',
  reason text NOT NULL,
  cancelled text NOT NULL DEFAULT '',
  cancelled_by text NOT NULL DEFAULT '',
  cancelled_at timestamptz,
  PRIMARY KEY (lane_id, intention)
);
-- Changes that were done and taken back are few, and asked for by every reconciliation.
CREATE INDEX receipts_taken_back ON receipts (change) WHERE outcome = 'taken-back';

-- +goose Down
SELECT 'there is no way back';
