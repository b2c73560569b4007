-- +goose Up
CREATE TABLE users (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL UNIQUE,
  rights     text[] NOT NULL,
  password   text NOT NULL,              -- argon2id, with its parameters; '' when the user has tokens only
  created    timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE tokens (
  hash       bytea PRIMARY KEY,          -- SHA-256 of the secret; the secret itself is shown once
  user_id    bigint NOT NULL REFERENCES users ON DELETE CASCADE,
  name       text NOT NULL,
  created    timestamptz NOT NULL DEFAULT now(),
  expires    timestamptz
);
CREATE TABLE sessions (
  hash       bytea PRIMARY KEY,
  user_id    bigint NOT NULL REFERENCES users ON DELETE CASCADE,
  created    timestamptz NOT NULL DEFAULT now(),
  expires    timestamptz NOT NULL
);
CREATE TABLE sign_in_failures (
  name       text NOT NULL,
  at         timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON sign_in_failures (name, at);

CREATE TABLE systems (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL UNIQUE,
  kind       text NOT NULL,
  settings   jsonb NOT NULL DEFAULT '{}',
  shape      text NOT NULL DEFAULT '',   -- YAML; '' lets the connector's own stand
  secret     bytea,                      -- encrypted, bound to the system's name
  writable   boolean NOT NULL DEFAULT false,
  version    bigint NOT NULL DEFAULT 1
);

CREATE TABLE tasks (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  kind       text NOT NULL,
  name       text NOT NULL,
  state      text NOT NULL DEFAULT 'queued' CHECK (state IN ('queued','running','finished','failed','halted')),
  params     jsonb NOT NULL DEFAULT '{}',
  created    timestamptz NOT NULL DEFAULT now(),
  started    timestamptz,
  ended      timestamptz,
  created_by text NOT NULL,
  done       int NOT NULL DEFAULT 0,
  total      int NOT NULL DEFAULT 0,
  good       int NOT NULL DEFAULT 0,
  bad        int NOT NULL DEFAULT 0,
  message    text NOT NULL DEFAULT '',
  node       text NOT NULL DEFAULT '',
  fence      bigint NOT NULL DEFAULT 0,  -- grows with every take-over; an older holder can no longer write
  lease      timestamptz,
  halt       boolean NOT NULL DEFAULT false,
  roster_id  bigint,
  reconciliation_id bigint,
  plan_id    bigint,
  run_id     bigint
);
CREATE INDEX ON tasks (state) WHERE state IN ('queued','running');
CREATE TABLE task_log (
  task_id    bigint NOT NULL REFERENCES tasks ON DELETE CASCADE,
  number     bigint GENERATED ALWAYS AS IDENTITY,
  at         timestamptz NOT NULL DEFAULT now(),
  level      text NOT NULL,
  subject    text NOT NULL,
  message    text NOT NULL,
  PRIMARY KEY (task_id, number)
);

-- A roster is a dated reading; records are intervals between rosters, so that
-- a second reading costs what has changed.
CREATE TABLE rosters (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  system_id  bigint NOT NULL REFERENCES systems ON DELETE CASCADE,
  extent     text NOT NULL CHECK (extent IN ('whole','changes','sample')),
  state      text NOT NULL CHECK (state IN ('reading','whole','failed')),
  started    timestamptz NOT NULL DEFAULT now(),
  ended      timestamptz,
  records    int NOT NULL DEFAULT 0,
  rejected   int NOT NULL DEFAULT 0,
  came       int NOT NULL DEFAULT 0,
  went       int NOT NULL DEFAULT 0,
  changed    int NOT NULL DEFAULT 0,
  shape      text NOT NULL,              -- as it was used
  error      text NOT NULL DEFAULT '',
  task_id    bigint
);
CREATE INDEX ON rosters (system_id, id DESC);
CREATE TABLE records (
  system_id  bigint NOT NULL REFERENCES systems ON DELETE CASCADE,
  native_id  text NOT NULL COLLATE "C",
  since      bigint NOT NULL,            -- roster in which this version came
  until      bigint,                     -- roster in which it was gone; NULL: still there
  native     jsonb NOT NULL,
  digest     bytea NOT NULL,
  PRIMARY KEY (system_id, native_id, since)
);
CREATE INDEX records_current ON records (system_id, native_id) WHERE until IS NULL;
CREATE TABLE rejections (
  roster_id  bigint NOT NULL REFERENCES rosters ON DELETE CASCADE,
  number     int NOT NULL,
  line       int NOT NULL,
  native_column text NOT NULL,
  native_id  text NOT NULL COLLATE "C",
  reason     text NOT NULL,
  PRIMARY KEY (roster_id, number)
);

CREATE TABLE lanes (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL UNIQUE,
  authority  bigint NOT NULL REFERENCES systems,
  downstream bigint NOT NULL REFERENCES systems,
  observing  boolean NOT NULL DEFAULT false,
  memory     jsonb NOT NULL DEFAULT '{}'
);
CREATE TABLE charters (
  lane_id    bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  version    bigint NOT NULL,
  source     text NOT NULL,
  created_by text NOT NULL,
  at         timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (lane_id, version)
);
CREATE TABLE rulings (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  lane_id    bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  kind       text NOT NULL CHECK (kind IN ('same','different','leave-alone')),
  person     text NOT NULL COLLATE "C",
  account    text NOT NULL COLLATE "C",
  reason     text NOT NULL,
  until      date,
  created_by text NOT NULL,
  at         timestamptz NOT NULL DEFAULT now(),
  cleared    timestamptz
);
CREATE TABLE bonds (
  lane_id    bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  person     text NOT NULL COLLATE "C",
  account    text NOT NULL COLLATE "C",
  made_by    text NOT NULL,              -- "run 12" or "ruling 3"
  at         timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (lane_id, account)
);
CREATE UNIQUE INDEX ON bonds (lane_id, person);
CREATE TABLE acceptances (
  lane_id    bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  finding    text NOT NULL,
  until      date,
  reason     text NOT NULL,
  created_by text NOT NULL,
  at         timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (lane_id, finding)
);

CREATE TABLE reconciliations (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  lane_id    bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  at         timestamptz NOT NULL DEFAULT now(),
  charter_version bigint NOT NULL,
  people_roster   bigint NOT NULL,
  accounts_roster bigint NOT NULL,
  inputs     bytea NOT NULL,             -- digest of charter, rosters, rulings and bonds
  balance    jsonb NOT NULL,
  findings   jsonb NOT NULL,
  changes    jsonb NOT NULL,
  withheld   jsonb NOT NULL,
  guards     jsonb NOT NULL,
  notes      jsonb NOT NULL
);
CREATE INDEX ON reconciliations (lane_id, id DESC);
CREATE TABLE verdicts (
  reconciliation_id bigint NOT NULL REFERENCES reconciliations ON DELETE CASCADE,
  side       text NOT NULL,
  native_id  text NOT NULL COLLATE "C",
  state      text NOT NULL,
  label      text NOT NULL,
  login      text NOT NULL,
  basis      text NOT NULL,
  twin       text NOT NULL,
  twin_label text NOT NULL,
  note       text NOT NULL,
  PRIMARY KEY (reconciliation_id, side, native_id)
);
CREATE INDEX ON verdicts (reconciliation_id, side, state, native_id);
CREATE TABLE proposals (
  reconciliation_id bigint NOT NULL REFERENCES reconciliations ON DELETE CASCADE,
  number     int NOT NULL,
  person     text NOT NULL,
  account    text NOT NULL,
  reason     text NOT NULL,
  PRIMARY KEY (reconciliation_id, number)
);
CREATE TABLE findings (
  reconciliation_id bigint NOT NULL REFERENCES reconciliations ON DELETE CASCADE,
  number     int NOT NULL,
  finding    text NOT NULL,
  code       text NOT NULL,
  severity   text NOT NULL,
  person     text NOT NULL,
  account    text NOT NULL,
  person_label  text NOT NULL,
  account_label text NOT NULL,
  detail     text NOT NULL,
  PRIMARY KEY (reconciliation_id, number)
);
CREATE TABLE finding_dates (
  lane_id    bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  finding    text NOT NULL,
  since      timestamptz NOT NULL,
  PRIMARY KEY (lane_id, finding)
);

CREATE TABLE plans (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  lane_id    bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  reconciliation_id bigint NOT NULL REFERENCES reconciliations,
  state      text NOT NULL CHECK (state IN ('draft','sealed','running','finished','halted','void')),
  created    timestamptz NOT NULL DEFAULT now(),
  created_by text NOT NULL,
  hash       text NOT NULL,
  verbs      jsonb NOT NULL,
  waves      jsonb NOT NULL,
  guards     jsonb NOT NULL,
  sealed_by  text NOT NULL DEFAULT '',
  sealed_at  timestamptz,
  expires    timestamptz,
  overruled  text NOT NULL DEFAULT ''
);
CREATE INDEX ON plans (lane_id, id DESC);
-- The changes of a reconciliation belong to no plan yet; a plan copies its own.
CREATE TABLE changes (
  reconciliation_id bigint REFERENCES reconciliations ON DELETE CASCADE,
  plan_id    bigint REFERENCES plans ON DELETE CASCADE,
  number     int NOT NULL,
  change     text NOT NULL,
  wave       text NOT NULL,
  verb       text NOT NULL,
  person     text NOT NULL COLLATE "C",
  account    text NOT NULL COLLATE "C",
  label      text NOT NULL,
  body       jsonb NOT NULL,
  CHECK ((reconciliation_id IS NULL) <> (plan_id IS NULL))
);
CREATE UNIQUE INDEX ON changes (plan_id, number) WHERE plan_id IS NOT NULL;
CREATE UNIQUE INDEX ON changes (reconciliation_id, number) WHERE reconciliation_id IS NOT NULL;
-- Names that a sealed plan has reserved, one holder each.
CREATE TABLE reservations (
  system_id  bigint NOT NULL REFERENCES systems ON DELETE CASCADE,
  name       text NOT NULL COLLATE "C",
  plan_id    bigint NOT NULL REFERENCES plans ON DELETE CASCADE,
  person     text NOT NULL,
  PRIMARY KEY (system_id, name)
);

CREATE TABLE runs (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  plan_id    bigint NOT NULL REFERENCES plans ON DELETE CASCADE,
  task_id    bigint NOT NULL REFERENCES tasks,
  wave       text NOT NULL DEFAULT '',   -- '' all waves
  started    timestamptz NOT NULL DEFAULT now(),
  created_by text NOT NULL
);
CREATE TABLE receipts (
  run_id     bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
  number     int NOT NULL,               -- of the change in its plan
  change     text NOT NULL,
  account    text NOT NULL,              -- native id, known after a create
  outcome    text NOT NULL DEFAULT '',   -- '' while only the intent is recorded
  detail     text NOT NULL DEFAULT '',
  intended   timestamptz NOT NULL DEFAULT now(),
  ended      timestamptz,
  before     jsonb NOT NULL DEFAULT '{}',
  sent       jsonb NOT NULL DEFAULT '{}',
  after      jsonb NOT NULL DEFAULT '{}',
  trace      jsonb NOT NULL DEFAULT '[]',
  attempts   int NOT NULL DEFAULT 0,
  verified   text NOT NULL DEFAULT '',
  PRIMARY KEY (run_id, number)
);

CREATE TABLE switches (
  name       text PRIMARY KEY,
  is_on      boolean NOT NULL,
  changed_by text NOT NULL,
  at         timestamptz NOT NULL DEFAULT now(),
  reason     text NOT NULL DEFAULT ''
);

-- The chain covers salted digests; the personal text stands beside it and can
-- be erased without breaking the chain.
CREATE TABLE audit (
  seq        bigint PRIMARY KEY,
  at         timestamptz NOT NULL,
  actor      text NOT NULL,
  action     text NOT NULL,
  subject    text NOT NULL,
  salt       bytea NOT NULL,
  digest     bytea NOT NULL,
  hash       bytea NOT NULL,
  detail     jsonb NOT NULL
);

-- +goose Down
SELECT 'there is no way back from the first schema';
