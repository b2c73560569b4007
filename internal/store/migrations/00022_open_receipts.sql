-- +goose Up
-- What is open of a change is looked for with each receipt: of few, however many there are.
CREATE INDEX receipts_open_of ON receipts (change) WHERE outcome IN ('waiting', 'in-doubt');
-- Whoever settles a change holds its task until that is kept; else nothing of it is.
-- +goose StatementBegin
CREATE FUNCTION hold_task(task bigint, held bigint) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
  PERFORM FROM tasks WHERE id = task AND fence = held FOR SHARE;
  IF NOT FOUND THEN
    RAISE EXCEPTION 'the lease was lost to another node' USING ERRCODE = 'TW001';
  END IF;
END $$;
-- +goose StatementEnd

-- +goose Down
SELECT 'there is no way back';
