-- +goose Up
-- Systems of one namespace share their logins and addresses: what is taken in one of them is
-- taken in all. '' is a namespace of the system's own.
ALTER TABLE systems ADD COLUMN namespace text NOT NULL DEFAULT '';
CREATE INDEX systems_namespace ON systems (namespace) WHERE namespace <> '';

-- +goose Down
SELECT 'there is no way back';
