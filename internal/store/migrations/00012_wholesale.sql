-- +goose Up
-- What a reconciliation compared is a part of its own too: its indexes are made at once,
-- from what is there, and it is dropped as a whole.
ALTER TABLE compared RENAME TO compared_before;
ALTER INDEX compared_pkey RENAME TO compared_before_pkey;
CREATE TABLE compared (                   -- pairs that evidence compared, the likeliest of each record
  reconciliation_id bigint NOT NULL,
  person     text NOT NULL COLLATE "C",
  account    text NOT NULL COLLATE "C",
  pattern    bytea NOT NULL,             -- levels and shares, by comparator
  PRIMARY KEY (reconciliation_id, person, account)
) PARTITION BY LIST (reconciliation_id);
CREATE INDEX ON compared (reconciliation_id, account);
-- +goose StatementBegin
DO $$
DECLARE r bigint;
BEGIN
  FOR r IN SELECT DISTINCT reconciliation_id FROM compared_before LOOP
    EXECUTE format('CREATE TABLE compared_of_%s PARTITION OF compared FOR VALUES IN (%s)', r, r);
  END LOOP;
END $$;
-- +goose StatementEnd
INSERT INTO compared (reconciliation_id, person, account, pattern) SELECT reconciliation_id, person, account, pattern FROM compared_before;
DROP TABLE compared_before;
-- A change is kept as it was written, beside the words that it is searched by: taking it
-- apart costs more than keeping it.
DROP INDEX IF EXISTS changes_search;
ALTER TABLE changes ADD COLUMN words text NOT NULL DEFAULT '';
UPDATE changes SET words = person || ' ' || account || ' ' || label || ' ' || jsonb_path_query_array(body, '$.edits[*].new')::text || ' ' || jsonb_path_query_array(body, '$.edits[*].old')::text;
ALTER TABLE changes ALTER COLUMN body TYPE json USING body::json, ALTER COLUMN words DROP DEFAULT;
-- +goose StatementBegin
DO $$
BEGIN
  CREATE INDEX changes_search ON changes USING gin (words gin_trgm_ops) WITH (gin_pending_list_limit = 1048576) WHERE plan_id IS NOT NULL; -- what a draft adds is merged afterwards
EXCEPTION WHEN OTHERS THEN
  RAISE NOTICE 'searching long lists is slow here: %', SQLERRM;
END $$;
-- +goose StatementEnd
-- Of accounts that runs made it is known now: they teach nothing of how lists differ.
UPDATE bonds b SET basis = 'created' FROM receipts x JOIN runs r ON r.id = x.run_id JOIN changes c ON c.plan_id = r.plan_id AND c.number = x.number
  WHERE c.verb = 'create' AND x.outcome IN ('done', 'unchanged') AND b.made_by = 'run ' || x.run_id AND b.person = c.person AND b.account = x.account AND b.basis = 'keyed';

-- +goose Down
SELECT 'there is no way back';
