-- +goose Up
-- What explains the verdicts of a reconciliation beside the two records of each, so that
-- nobody has to read whole rosters to ask why.
CREATE TABLE compared (                   -- pairs that evidence compared, the likeliest of each record
  reconciliation_id bigint NOT NULL REFERENCES reconciliations ON DELETE CASCADE,
  person     text NOT NULL COLLATE "C",
  account    text NOT NULL COLLATE "C",
  pattern    bytea NOT NULL,             -- levels and shares, by comparator
  PRIMARY KEY (reconciliation_id, person, account)
);
CREATE INDEX ON compared (reconciliation_id, account);
CREATE TABLE carriers (                   -- of the values of keys that lead to more than a pair of twins
  reconciliation_id bigint NOT NULL REFERENCES reconciliations ON DELETE CASCADE,
  key        int NOT NULL,               -- its place in the charter
  value      bigint NOT NULL,            -- the first bytes of its SHA-256
  side       text NOT NULL,
  native_id  text NOT NULL COLLATE "C"
);
CREATE INDEX ON carriers (reconciliation_id, key, value);
CREATE TABLE common_words (               -- of names, that more than two records carry
  reconciliation_id bigint NOT NULL REFERENCES reconciliations ON DELETE CASCADE,
  word       bigint NOT NULL,            -- a hash
  records    int NOT NULL,
  PRIMARY KEY (reconciliation_id, word)
);

-- +goose Down
SELECT 'there is no way back';
