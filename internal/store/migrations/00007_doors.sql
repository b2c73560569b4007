-- +goose Up
-- A task that ends its process again and again must end itself.
ALTER TABLE tasks
  ADD COLUMN boot      text NOT NULL DEFAULT '',   -- the process that is at it; '' when it was left in order
  ADD COLUMN deaths    int NOT NULL DEFAULT 0,     -- processes that ended over it since it last got further
  ADD COLUMN died_done int NOT NULL DEFAULT -1;    -- how far it was at the last of them

-- Names are compared in one form; rights may be limited to lanes.
ALTER TABLE users
  ADD COLUMN key   text,                           -- the name in the form that is compared
  ADD COLUMN lanes jsonb NOT NULL DEFAULT '{}' CHECK (jsonb_typeof(lanes) = 'object');  -- rights that are held in some lanes only, by lane
UPDATE users SET name = name || '-' || id WHERE EXISTS (SELECT FROM users o WHERE o.id < users.id AND lower(normalize(o.name, NFKC)) = lower(normalize(users.name, NFKC))); -- two that are one now
UPDATE users SET key = lower(normalize(name, NFKC));
ALTER TABLE users ALTER COLUMN key SET NOT NULL;
CREATE UNIQUE INDEX ON users (key);

-- Tokens can be told apart without their secret, and end.
ALTER TABLE tokens ADD COLUMN id bigint GENERATED ALWAYS AS IDENTITY;
UPDATE tokens SET expires = now() + interval '366 days' WHERE expires IS NULL OR expires > now() + interval '366 days';
ALTER TABLE tokens ALTER COLUMN expires SET NOT NULL;
CREATE UNIQUE INDEX ON tokens (id);

-- An attempt to sign in is counted before the password is looked at.
DROP TABLE sign_in_failures;
CREATE TABLE sign_ins (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  key        text NOT NULL,                        -- of the name that was given
  source     text NOT NULL,                        -- the address it came from
  device     text NOT NULL,                        -- a device that signed in by this name before; '' when it can't tell
  at         timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON sign_ins (key, at);
CREATE INDEX ON sign_ins (source, at);

-- A request that names itself is carried out once: its row commits with its act.
CREATE TABLE requests (
  caller     text NOT NULL,
  key        text NOT NULL,
  digest     bytea NOT NULL,                       -- of what was asked
  nonce      text NOT NULL,                        -- of the one request that did it
  status     int,                                  -- NULL: no answer is kept
  answer     bytea,
  at         timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (caller, key)
);
CREATE INDEX ON requests (at);

-- The trail is keyed by the master key; entries from before are keyed at the next start.
ALTER TABLE audit ADD COLUMN keyed boolean NOT NULL DEFAULT false;

-- Which master key the house is kept under, without telling it.
CREATE TABLE house (
  name       text PRIMARY KEY,
  value      bytea NOT NULL
);

-- +goose Down
SELECT 'there is no way back';
