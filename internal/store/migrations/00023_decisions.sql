-- +goose Up
-- What a human has said of an intention belongs to its verb, person and account, and to no day:
-- the ids are those of planning.IntentionID. Of two that are one by now, the one that a human has
-- said something of stays.
DELETE FROM intentions i USING intentions o WHERE i.lane_id = o.lane_id AND i.verb = o.verb AND i.person = o.person AND i.account = o.account AND i.verb IN ('suspend', 'hide', 'hand-over', 'delete')
  AND i.intention <> o.intention AND (i.cancelled = '' AND o.cancelled <> '' OR (i.cancelled = '') = (o.cancelled = '') AND i.intention > o.intention);
UPDATE intentions SET intention = 'i-' || substr(encode(sha256(convert_to(verb, 'UTF8') || '\x00'::bytea || convert_to(person, 'UTF8') || '\x00'::bytea || convert_to(account, 'UTF8') || '\x00'::bytea), 'hex'), 1, 12)
  WHERE verb IN ('suspend', 'hide', 'hand-over', 'delete');
-- A decision to set a change aside is about the stage and the attributes that it names, whatever
-- values they are given; {}: about the change as it was.
ALTER TABLE set_asides ADD COLUMN covers text[] NOT NULL DEFAULT '{}', ADD COLUMN verb text NOT NULL DEFAULT '', ADD COLUMN person text NOT NULL DEFAULT '', ADD COLUMN account text NOT NULL DEFAULT '';
UPDATE set_asides s SET verb = c.verb, person = c.person, account = c.account FROM changes c WHERE c.change = s.change;
ALTER TABLE set_asides DROP COLUMN digest;
-- Which changes were about an account is asked of each that says it has made one.
CREATE INDEX receipts_account ON receipts (account) WHERE account <> '';
-- Since when a value is what a receipt of ours wrote.
ALTER TABLE written ADD COLUMN at timestamptz NOT NULL DEFAULT now();
-- Who decided about a lane is asked before each seal.
CREATE INDEX audit_decisions ON audit (action, subject, seq);

-- +goose Down
SELECT 'there is no way back';
