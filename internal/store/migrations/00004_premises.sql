-- +goose Up
-- What a roster does not know, beside what it could not read.
ALTER TABLE rosters
  ADD COLUMN origin           text NOT NULL DEFAULT '', -- address it was read from
  ADD COLUMN deletions_unseen timestamptz;              -- since when a deletion would not show
ALTER TABLE rejections
  ADD COLUMN swallows boolean NOT NULL DEFAULT false,   -- it may have eaten other rows
  ADD COLUMN names    text[]  NOT NULL DEFAULT '{}',    -- logins and addresses that it is known to hold
  ADD COLUMN named    boolean NOT NULL DEFAULT false;   -- and these are all of them
ALTER TABLE left_out
  ADD COLUMN kind      text NOT NULL DEFAULT 'hidden',
  ADD COLUMN native_id text NOT NULL DEFAULT '' COLLATE "C";
UPDATE left_out SET kind = 'elsewhere' WHERE reason = 'lives in another server';

-- What a lane remembers stands in rows, so that it can be asked in the
-- transaction that rests on it.
CREATE TABLE absences (
  lane_id  bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  person   text NOT NULL COLLATE "C",
  since    date NOT NULL,
  readings int  NOT NULL,
  last     text NOT NULL,                -- the last reading that was counted
  PRIMARY KEY (lane_id, person)
);
CREATE TABLE former_counts (
  lane_id  bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  side     text NOT NULL,
  records  int  NOT NULL,
  PRIMARY KEY (lane_id, side)
);
CREATE TABLE former_coverage (
  lane_id   bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  attribute text NOT NULL,               -- side.attribute
  share     double precision NOT NULL,
  PRIMARY KEY (lane_id, attribute)
);
CREATE TABLE suspensions (               -- made by our receipts, and still ours
  lane_id  bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  account  text NOT NULL COLLATE "C",
  receipt  text NOT NULL,                -- run and number
  at       timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (lane_id, account)
);
CREATE TABLE written (                   -- the last value that a receipt of ours wrote
  lane_id   bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  account   text NOT NULL COLLATE "C",
  attribute text NOT NULL,
  value     text NOT NULL,
  rounds    int  NOT NULL,
  PRIMARY KEY (lane_id, account, attribute)
);
CREATE TABLE partings (                  -- bonded until ruled different, and no plan sealed since that knew
  id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  lane_id  bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  person   text NOT NULL COLLATE "C",
  account  text NOT NULL COLLATE "C",
  basis    text NOT NULL DEFAULT '',     -- of the bond that was given up
  at       timestamptz NOT NULL DEFAULT now(),
  UNIQUE (lane_id, person, account)
);
INSERT INTO absences SELECT l.id, e.key, (e.value->>'since')::date, (e.value->>'readings')::int, coalesce(e.value->>'last', '') FROM lanes l, jsonb_each(coalesce(l.memory->'absent', '{}')) e;
INSERT INTO former_counts SELECT l.id, e.key, e.value::int FROM lanes l, jsonb_each_text(coalesce(l.memory->'counts', '{}')) e;
INSERT INTO former_coverage SELECT l.id, e.key, e.value::double precision FROM lanes l, jsonb_each_text(coalesce(l.memory->'filled', '{}')) e;
INSERT INTO suspensions SELECT l.id, e.key, 'before' FROM lanes l, jsonb_each_text(coalesce(l.memory->'suspended', '{}')) e WHERE e.value = 'true';
INSERT INTO written SELECT l.id, a.key, e.key, e.value->>'value', (e.value->>'rounds')::int FROM lanes l, jsonb_each(coalesce(l.memory->'written', '{}')) a, jsonb_each(a.value) e;
INSERT INTO partings (lane_id, person, account) SELECT l.id, e->>'person', e->>'account' FROM lanes l, jsonb_array_elements(coalesce(l.memory->'parted', '[]')) e ON CONFLICT DO NOTHING;
UPDATE lanes SET memory = '{}';

-- A bond keeps what first held the two to be one. Where that is no longer known
-- and evidence was weighed, it may have been evidence alone: somebody is asked.
ALTER TABLE bonds ADD COLUMN basis text NOT NULL DEFAULT '';
UPDATE bonds SET basis = 'ruled' WHERE made_by LIKE 'ruling%';
UPDATE bonds b SET basis = v.basis FROM verdicts v JOIN reconciliations r ON r.id = v.reconciliation_id
  WHERE b.basis = '' AND r.lane_id = b.lane_id AND v.side = 'people' AND v.native_id = b.person AND v.twin = b.account AND v.basis IN ('keyed', 'weighed');
UPDATE bonds b SET basis = CASE WHEN EXISTS (SELECT FROM weights w WHERE w.lane_id = b.lane_id) THEN 'weighed' ELSE 'keyed' END WHERE basis = '';

-- What is not drafted, and why.
CREATE TABLE withheld (
  reconciliation_id bigint NOT NULL REFERENCES reconciliations ON DELETE CASCADE,
  number   int  NOT NULL,
  verb     text NOT NULL,
  person   text NOT NULL COLLATE "C",
  account  text NOT NULL COLLATE "C",
  label    text NOT NULL,
  reason   text NOT NULL,
  PRIMARY KEY (reconciliation_id, number)
);
ALTER TABLE reconciliations ADD COLUMN partings_seen bigint NOT NULL DEFAULT 0; -- the last parting that it knew

-- What a plan's hash is made of, part by part, so that it can be told which of
-- them is another now. Seals of before rest on less: they are given up.
ALTER TABLE plans
  ADD COLUMN parts    jsonb NOT NULL DEFAULT '[]',
  ADD COLUMN lowered  jsonb NOT NULL DEFAULT '[]';      -- guards that allow more than those of the last sealed plan
UPDATE plans SET state = 'void' WHERE state IN ('draft', 'sealed');
DELETE FROM reservations r USING plans p WHERE p.id = r.plan_id AND p.state = 'void';

-- One run writes to a system at a time; who wants it next is let in between two
-- changes.
CREATE TABLE writers (
  system_id bigint PRIMARY KEY REFERENCES systems ON DELETE CASCADE,
  task_id   bigint REFERENCES tasks ON DELETE SET NULL,
  fence     bigint NOT NULL DEFAULT 0
);
ALTER TABLE tasks
  ADD COLUMN lane_id   bigint,           -- of a pass over a lane: one at a time, in order
  ADD COLUMN system_id bigint,           -- that a run writes to
  ADD COLUMN size      int NOT NULL DEFAULT 0;          -- changes left: a small run overtakes a large one
CREATE INDEX tasks_writing ON tasks (system_id) WHERE system_id IS NOT NULL AND state IN ('queued', 'running');
ALTER TABLE receipts ADD COLUMN done_by bigint;         -- fence of the task that settled it
CREATE INDEX receipts_done ON receipts (ended) WHERE outcome IN ('done', 'in-doubt', 'waiting');
CREATE INDEX receipts_open ON receipts (run_id) WHERE outcome = '';
CREATE INDEX rulings_person ON rulings (lane_id, person) WHERE cleared IS NULL;
CREATE INDEX rulings_account ON rulings (lane_id, account) WHERE cleared IS NULL;
CREATE INDEX bonds_account ON bonds (account);

-- +goose Down
SELECT 'there is no way back';
