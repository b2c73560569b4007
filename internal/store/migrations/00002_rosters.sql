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
-- One index serves both "as of a roster" and "now": a first reading writes
-- every record once into the table and once into this.
DROP INDEX records_current;

-- How a system may be approached, and for how long its rosters are kept.
ALTER TABLE systems
  ADD COLUMN at_once    int NOT NULL DEFAULT 0,      -- requests at a time; 0 no limit
  ADD COLUMN per_second double precision NOT NULL DEFAULT 0,
  ADD COLUMN keep_days  int NOT NULL DEFAULT 0;      -- 0 for ever

-- +goose Down
SELECT 'there is no way back';
