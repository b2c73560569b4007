-- +goose Up
-- Days are counted in the lane's zone, also where the store is asked what is due.
ALTER TABLE lanes ADD COLUMN zone text NOT NULL DEFAULT 'UTC';
UPDATE lanes l SET zone = z.name FROM charters c, pg_timezone_names z
  WHERE c.lane_id = l.id AND c.version = (SELECT max(version) FROM charters WHERE lane_id = l.id) AND z.name = substring(c.source FROM '(?n)^zone: *[''"]?([A-Za-z0-9_/+-]+)');
CREATE TABLE inactivities (               -- twinned people who are inactive and have no end date that is past
  lane_id bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  person  text NOT NULL COLLATE "C",
  since   date NOT NULL,                  -- the day on which they were first seen so
  PRIMARY KEY (lane_id, person)
);
-- Absences are counted by readings of the people alone.
UPDATE absences SET last = split_part(last, '/', 1);

-- +goose Down
SELECT 'there is no way back';
