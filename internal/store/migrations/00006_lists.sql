-- +goose Up
CREATE TABLE added (                      -- values of lists that our receipts put there, and may take away
  lane_id   bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  account   text NOT NULL COLLATE "C",
  attribute text NOT NULL,
  value     text NOT NULL,
  at        timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (lane_id, account, attribute, value)
);

-- +goose Down
SELECT 'there is no way back';
