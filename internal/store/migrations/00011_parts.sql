-- +goose Up
-- Verdicts and findings of a reconciliation are a table of their own: filled, indexed and
-- dropped as a whole, so that a nightly result of millions of rows leaves nothing to clean up.
ALTER TABLE verdicts RENAME TO verdicts_before;
ALTER INDEX verdicts_pkey RENAME TO verdicts_before_pkey;
CREATE TABLE verdicts (
  reconciliation_id bigint NOT NULL,
  side       text NOT NULL,
  native_id  text NOT NULL COLLATE "C",
  state      text NOT NULL,
  label      text NOT NULL,
  login      text NOT NULL,
  basis      text NOT NULL,
  twin       text NOT NULL,
  twin_label text NOT NULL,
  note       text NOT NULL,
  probability real NOT NULL DEFAULT 0,     -- of a twin by evidence
  PRIMARY KEY (reconciliation_id, side, native_id)
) PARTITION BY LIST (reconciliation_id);
CREATE INDEX ON verdicts (reconciliation_id, side, state, native_id);
ALTER TABLE findings RENAME TO findings_before;
ALTER INDEX findings_pkey RENAME TO findings_before_pkey;
CREATE TABLE findings (
  reconciliation_id bigint NOT NULL,
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
) PARTITION BY LIST (reconciliation_id);
CREATE INDEX ON findings (reconciliation_id, person);
CREATE INDEX ON findings (reconciliation_id, account);
CREATE INDEX ON findings (reconciliation_id, code, number);
CREATE INDEX ON findings (reconciliation_id, severity, number);
CREATE INDEX ON findings (reconciliation_id, finding);
-- +goose StatementBegin
DO $$
DECLARE r bigint;
BEGIN
  FOR r IN SELECT reconciliation_id FROM verdicts_before UNION SELECT reconciliation_id FROM findings_before LOOP
    EXECUTE format('CREATE TABLE verdicts_of_%s PARTITION OF verdicts FOR VALUES IN (%s)', r, r);
    EXECUTE format('CREATE TABLE findings_of_%s PARTITION OF findings FOR VALUES IN (%s)', r, r);
  END LOOP;
END $$;
-- +goose StatementEnd
INSERT INTO verdicts (reconciliation_id, side, native_id, state, label, login, basis, twin, twin_label, note, probability) SELECT reconciliation_id, side, native_id, state, label, login, basis, twin, twin_label, note, probability FROM verdicts_before;
INSERT INTO findings (reconciliation_id, number, finding, code, severity, person, account, person_label, account_label, detail) SELECT reconciliation_id, number, finding, code, severity, person, account, person_label, account_label, detail FROM findings_before;
DROP TABLE verdicts_before;
DROP TABLE findings_before;
ALTER TABLE proposals ADD COLUMN person_label text NOT NULL DEFAULT '', ADD COLUMN account_label text NOT NULL DEFAULT '';
UPDATE proposals p SET person_label = v.label FROM verdicts v WHERE v.reconciliation_id = p.reconciliation_id AND v.side = 'people' AND v.native_id = p.person;
UPDATE proposals p SET account_label = v.label FROM verdicts v WHERE v.reconciliation_id = p.reconciliation_id AND v.side = 'accounts' AND v.native_id = p.account;
CREATE INDEX ON changes (plan_id, label, number) WHERE plan_id IS NOT NULL;
CREATE INDEX ON changes (plan_id, verb, number) WHERE plan_id IS NOT NULL;
CREATE INDEX ON rejections (roster_id, left(native_id, 200)); -- of what could not be read, the id may be of any length
CREATE INDEX ON left_out (roster_id, left(native_id, 200));
-- Parts of words are found by PostgreSQL's own index of three letters. Where a server does
-- not have it, searching reads the list.
-- +goose StatementBegin
DO $$
BEGIN
  CREATE EXTENSION IF NOT EXISTS pg_trgm;
  CREATE INDEX changes_search ON changes USING gin ((person COLLATE "default" || ' ' || account COLLATE "default" || ' ' || label || ' ' || jsonb_path_query_array(body, '$.edits[*].new')::text || ' ' || jsonb_path_query_array(body, '$.edits[*].old')::text) gin_trgm_ops) WITH (gin_pending_list_limit = 1048576) WHERE plan_id IS NOT NULL; -- what a draft adds is merged afterwards
  CREATE INDEX proposals_search ON proposals USING gin ((person COLLATE "default" || ' ' || account COLLATE "default" || ' ' || reason || ' ' || person_label || ' ' || account_label) gin_trgm_ops);
EXCEPTION WHEN OTHERS THEN
  RAISE NOTICE 'searching long lists is slow here: %', SQLERRM;
END $$;
-- +goose StatementEnd

-- +goose Down
SELECT 'there is no way back';
