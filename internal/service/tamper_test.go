package service

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

// A seal breaks on any alteration of what was sealed, made where no rule of ours stands: in the
// database itself.
func TestSealBreaks(t *testing.T) {
	s, clock := shiftingClock(t)
	ctx := context.Background()
	for n, tampering := range []string{
		`UPDATE changes SET body = replace(body::text, 'Chef', 'Boss')::json WHERE plan_id = $1`,
		`UPDATE changes SET body = replace(body::text, '"personId":"L1"', '"personId":"L2"')::json WHERE plan_id = $1`,
		`UPDATE changes SET body = (body::jsonb - 'premises')::json WHERE plan_id = $1`,
		`UPDATE changes SET body = (body::jsonb - 'restsOn' - 'basis')::json WHERE plan_id = $1`,
		`UPDATE changes SET wave = 'another' WHERE plan_id = $1 AND number = 0`,
		`UPDATE changes SET verb = 'delete' WHERE plan_id = $1 AND number = 0`,
		`UPDATE changes SET account = 'u2' WHERE plan_id = $1 AND number = 0`,
		`UPDATE changes SET person = 'L2' WHERE plan_id = $1 AND number = 0`,
		`UPDATE changes SET change = 'c-other' WHERE plan_id = $1 AND number = 0`,
		`UPDATE changes SET label = 'Somebody Else' WHERE plan_id = $1 AND number = 0`,
		`UPDATE changes SET class = 'guest', department = 'Kitchen' WHERE plan_id = $1 AND number = 0`,
		`UPDATE changes SET set_aside = 'not this one' WHERE plan_id = $1 AND number = 0`,
		`UPDATE changes SET set_aside = '' WHERE plan_id = $1`,
		`UPDATE changes SET number = 1000 - number WHERE plan_id = $1`,
		`DELETE FROM changes WHERE plan_id = $1 AND number = 0`,
		`INSERT INTO changes (plan_id, number, change, wave, verb, person, account, label, body, words) SELECT plan_id, 99, 'c-99', wave, verb, person, account, label, body, words FROM changes WHERE plan_id = $1 AND number = 0`,
		`UPDATE plans SET origin = '{"kind": "action", "verb": "suspend"}' WHERE id = $1`,
		`UPDATE plans SET hash = 'another' WHERE id = $1`,
		`UPDATE plans SET expires = now() - interval '1 minute' WHERE id = $1`,
		`UPDATE charters SET source = source || E'\n# and more\n' WHERE lane_id = (SELECT lane_id FROM plans WHERE id = $1)`,
		`UPDATE reconciliations SET inputs = '\x00', people_roster = people_roster WHERE id = (SELECT reconciliation_id FROM plans WHERE id = $1)`,
		`UPDATE systems SET shape = E'shape: {id: id, userName: userName, title: givenName}\nmark: externalId\n' WHERE id = (SELECT downstream FROM lanes WHERE id = (SELECT lane_id FROM plans WHERE id = $1))`,
	} {
		t.Run(tampering[:min(60, len(tampering))], func(t *testing.T) {
			d := newDays(t, s, clock, n+1)
			d.begin("people hq", []string{"L1 Ana Soto Chef ana.soto@larkspur.example true", "L2 Bo Lund Chef bo.lund@larkspur.example true", "L3 Cy Moe Chef cy.moe@larkspur.example true"})
			d.begin("accounts app", []string{"u1 asoto L1 Ana Soto Cook ana.soto@larkspur.example - true", "u2 blund L2 Bo Lund Cook bo.lund@larkspur.example - true", "u3 cmoe L3 Cy Moe Cook cy.moe@larkspur.example - true"})
			d.begin("lane ops hq app", nil)
			for _, step := range []string{"take hq", "take app", "reconcile ops", "draft ops", "aside ops set u3", "seal ops"} {
				came := d.do(step)
				require.NotRegexp(t, "^! ", fmt.Sprint(came), step)
			}
			before := d.rows("app", nil)
			p := d.newest("ops")
			tag, err := clock.Exec(ctx, tampering, p.ID)
			require.NoError(t, err)
			require.NotZero(t, tag.RowsAffected())
			_, err = d.service.StartRun(ctx, tester, p.ID, p.Hash, RunOrder{})
			if err == nil { // what is not of the seal is refused when it is carried out
				d.perform()
			}
			require.Equal(t, before, d.rows("app", nil), "it was run all the same")
			require.Error(t, err)
		})
	}
}
