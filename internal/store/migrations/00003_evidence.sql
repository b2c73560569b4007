-- +goose Up
ALTER TABLE verdicts ADD COLUMN probability real NOT NULL DEFAULT 0; -- of a twin by evidence
ALTER TABLE proposals ADD COLUMN code text NOT NULL DEFAULT '', ADD COLUMN probability real NOT NULL DEFAULT 0, ADD COLUMN bits real NOT NULL DEFAULT 0,
  ADD COLUMN said jsonb NOT NULL DEFAULT '[]'; -- comparator, level, bits
CREATE INDEX ON proposals (reconciliation_id, person);
CREATE INDEX ON proposals (reconciliation_id, account);
ALTER TABLE reconciliations ADD COLUMN weights_version bigint, -- null: keys alone
  ADD COLUMN prior double precision NOT NULL DEFAULT 0;
CREATE TABLE weights (
  lane_id bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  version bigint NOT NULL,
  digest  text NOT NULL,
  weights jsonb NOT NULL,
  learnt_from bigint NOT NULL DEFAULT 0, -- people that were paired by other means then
  at      timestamptz NOT NULL DEFAULT now(),
  by      text NOT NULL,
  PRIMARY KEY (lane_id, version)
);
UPDATE rulings r SET cleared = now() WHERE cleared IS NULL AND EXISTS (SELECT FROM rulings n WHERE n.lane_id = r.lane_id AND n.person = r.person AND n.account = r.account AND n.cleared IS NULL AND n.id > r.id);
-- one ruling a pair: two engineers at once must not overwrite each other
CREATE UNIQUE INDEX rulings_once ON rulings (lane_id, person, account) WHERE cleared IS NULL;
-- +goose Down
DROP INDEX rulings_once;
DROP TABLE weights;
ALTER TABLE reconciliations DROP COLUMN weights_version, DROP COLUMN prior;
ALTER TABLE proposals DROP COLUMN code, DROP COLUMN probability, DROP COLUMN bits, DROP COLUMN said;
ALTER TABLE verdicts DROP COLUMN probability;
