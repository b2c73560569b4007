-- +goose Up
-- A reading says what it covered, where a reading of changes would go on, and
-- what it left out.
ALTER TABLE rosters
  ADD COLUMN name     text NOT NULL DEFAULT '',
  ADD COLUMN scope    text NOT NULL DEFAULT '',
  ADD COLUMN cursor   text NOT NULL DEFAULT '',
  ADD COLUMN left_out int  NOT NULL DEFAULT 0,
  ADD COLUMN statistics jsonb;             -- counted when first asked for
ALTER TABLE rosters DROP CONSTRAINT rosters_state_check;
UPDATE rosters SET state = 'taken' WHERE state = 'whole';
ALTER TABLE rosters ADD CHECK (state IN ('reading','taken','failed','halted'));
CREATE TABLE left_out (
  roster_id  bigint NOT NULL REFERENCES rosters ON DELETE CASCADE,
  number     int NOT NULL,
  reason     text NOT NULL,
  what       text NOT NULL,
  PRIMARY KEY (roster_id, number)
);
ALTER TABLE rejections ADD COLUMN carried boolean NOT NULL DEFAULT false; -- from the reading before, not read again
-- Every system's records are a table of their own: a first reading fills it and
-- makes its one index afterwards, which serves both "as of a roster" and "now".
ALTER TABLE records RENAME TO records_before;
CREATE TABLE records (
  system_id  bigint NOT NULL,
  native_id  text NOT NULL COLLATE "C",
  since      bigint NOT NULL,            -- roster in which this version came
  until      bigint,                     -- roster in which it was gone; NULL: still there
  native     jsonb NOT NULL,
  digest     bytea NOT NULL,
  CONSTRAINT records_key PRIMARY KEY (system_id, native_id, since)
) PARTITION BY LIST (system_id);
-- +goose StatementBegin
DO $$
DECLARE s bigint;
BEGIN
  FOR s IN SELECT DISTINCT system_id FROM records_before LOOP
    EXECUTE format('CREATE TABLE records_of_%s PARTITION OF records FOR VALUES IN (%s)', s, s);
  END LOOP;
END $$;
-- +goose StatementEnd
INSERT INTO records (system_id, native_id, since, until, native, digest) SELECT system_id, native_id, since, until, native, digest FROM records_before;
DROP TABLE records_before;

-- How a system may be approached, and for how long its rosters are kept.
ALTER TABLE systems
  ADD COLUMN at_once    int NOT NULL DEFAULT 0,      -- requests at a time; 0 no limit
  ADD COLUMN per_second double precision NOT NULL DEFAULT 0,
  ADD COLUMN keep_days  int NOT NULL DEFAULT 0;      -- 0 for ever

-- +goose Down
SELECT 'there is no way back';
