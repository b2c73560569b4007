-- +goose Up
-- Who looks after a finding, and what findings are gone, with when they went.
CREATE TABLE finding_assignments (
  lane_id     bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  finding     text NOT NULL,
  assigned_to text NOT NULL,
  assigned_by text NOT NULL,
  at          timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (lane_id, finding)
);
CREATE TABLE gone_findings (
  id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  lane_id  bigint NOT NULL REFERENCES lanes ON DELETE CASCADE,
  finding  text NOT NULL,
  code     text NOT NULL,
  severity text NOT NULL,
  person   text NOT NULL,
  account  text NOT NULL,
  person_label  text NOT NULL,
  account_label text NOT NULL,
  detail   text NOT NULL,
  since    timestamptz NOT NULL,
  gone     timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON gone_findings (lane_id, id);

-- +goose Down
SELECT 'there is no way back';
