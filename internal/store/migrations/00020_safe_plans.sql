-- +goose Up
-- A plan can be made of what a human asked for, beside what the charter wants.
ALTER TABLE plans
  ADD COLUMN origin jsonb NOT NULL DEFAULT '{}',         -- what asked for it; {}: the lane's newest result
  ADD COLUMN ordinary boolean NOT NULL DEFAULT false,    -- sealed by the charter, without a human
  ADD COLUMN paused_after text NOT NULL DEFAULT '',      -- the wave after which a human says whether it goes on
  ADD COLUMN set_aside int NOT NULL DEFAULT 0,           -- changes that a human set aside
  ADD COLUMN summary jsonb NOT NULL DEFAULT '{}',        -- as a whole, beside what is usual
  ADD COLUMN edited_by jsonb NOT NULL DEFAULT '[]';      -- who else decided what stands in it
-- What was asked for and could not be drafted.
CREATE TABLE plan_refusals (
  plan_id    bigint NOT NULL REFERENCES plans ON DELETE CASCADE,
  number     int NOT NULL,
  place      text NOT NULL,              -- where it was asked for: a row of a sheet, say
  person     text NOT NULL COLLATE "C",
  account    text NOT NULL COLLATE "C",
  label      text NOT NULL,
  attribute  text NOT NULL,
  reason     text NOT NULL,
  PRIMARY KEY (plan_id, number)
);
-- A change that a human set aside stands in its plan, and is not carried out; it is proposed
-- so in later drafts of the lane too, until it wants something else.
ALTER TABLE changes
  ADD COLUMN set_aside text NOT NULL DEFAULT '',         -- why; '': it is not
  ADD COLUMN class text NOT NULL DEFAULT '',             -- of whose it is
  ADD COLUMN department text NOT NULL DEFAULT '';
CREATE TABLE set_asides (
  lane_id    bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  change     text NOT NULL,
  digest     bytea NOT NULL,             -- of what it wants
  reason     text NOT NULL,
  created_by text NOT NULL,
  at         timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (lane_id, change)
);
CREATE TABLE plan_comments (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  plan_id    bigint NOT NULL REFERENCES plans ON DELETE CASCADE,
  change     text NOT NULL DEFAULT '',   -- '': of the plan as a whole
  text       text NOT NULL,
  created_by text NOT NULL,
  at         timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON plan_comments (plan_id, id);
-- What a human asked for, or undid, is left as it is until a day: an intention to keep it.
ALTER TABLE intentions
  ADD COLUMN attribute text NOT NULL DEFAULT '',
  ADD COLUMN kept jsonb NOT NULL DEFAULT '[]';           -- of a list: which values

-- +goose Down
SELECT 'there is no way back';
