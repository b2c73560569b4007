-- +goose Up
-- What came of having evidence find twins that are known. The weights are those that the
-- trial would have kept; kept names their version where somebody did.
CREATE TABLE trials (
  id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  lane_id  bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  charter_version bigint NOT NULL,
  people_roster   bigint NOT NULL,
  accounts_roster bigint NOT NULL,
  report   jsonb NOT NULL,
  digest   text NOT NULL, -- of the weights
  weights  jsonb NOT NULL,
  learnt_from bigint NOT NULL,
  kept     bigint,
  at       timestamptz NOT NULL DEFAULT now(),
  by       text NOT NULL
);
CREATE INDEX ON trials (lane_id, id);

-- +goose Down
DROP TABLE trials;
