-- +goose Up
-- What the holders of accounts were sent: secrets and invitations. A row is made in the
-- transaction that records the intent, and nothing is sent twice by it.
CREATE TABLE deliveries (
  run_id     bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
  number     int NOT NULL,               -- of the change
  lane_id    bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  verb       text NOT NULL,              -- reissue or invite
  person     text NOT NULL COLLATE "C",
  account    text NOT NULL COLLATE "C",
  label      text NOT NULL,
  login      text NOT NULL,
  by_way     text NOT NULL,              -- mail or file
  address    text NOT NULL,              -- '' where it is not mailed
  sponsor    text NOT NULL,
  state      text NOT NULL DEFAULT 'meant',
  secret     bytea,                      -- encrypted; gone as soon as it is handed over, or can't be any more
  at         timestamptz NOT NULL DEFAULT now(),
  until      timestamptz,                -- of a file: when it is gone; of an invitation: from when it is stale
  by_whom    text NOT NULL DEFAULT '',   -- who took the file
  PRIMARY KEY (run_id, number)
);
CREATE INDEX ON deliveries (lane_id, account, at);
CREATE INDEX ON deliveries (until) WHERE secret IS NOT NULL;

-- +goose Down
SELECT 'there is no way back';
