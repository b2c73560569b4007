-- +goose Up
-- How a reconciliation would differ by a charter that was not kept, as a task found it; kept for a day.
CREATE TABLE comparisons (
  task_id  bigint PRIMARY KEY REFERENCES tasks ON DELETE CASCADE,
  lane_id  bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  report   jsonb NOT NULL,
  at       timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
SELECT 'there is no way back';
