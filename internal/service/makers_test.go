package service

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/access"
	"twinning/internal/core/planning"
	"twinning/internal/store"
)

// Whoever wrote the charter, ruled, or decided in a draft has made the plan, until a human has
// sealed one that rests on it.
func TestMakers(t *testing.T) {
	ctx := context.Background()
	s, clock := shiftingClock(t)
	d := newDays(t, s, clock, 3)
	human := func(name string) access.Caller { return access.Caller{Name: name, Rights: access.All} }
	d.begin("people hq", []string{"L1 Ana Soto Chef ana@larkspur.example true", "L2 Bo Lund Chef bo@larkspur.example true", "L3 Cy Falk Chef cy@larkspur.example true"})
	d.begin("accounts app", []string{"u1 asoto L1 Ana Soto Cook ana@larkspur.example - true", "u2 blund L2 Bo Lund Cook bo@larkspur.example - true", "u3 cfalk L3 Cy Falk Cook cy@larkspur.example - true"})
	d.begin("lane ops hq app", []string{"guards: {roster-drop: 10%}", "seals: {second-person: {verbs: [set]}}"})
	lane := d.own("ops")
	all := func(steps ...string) {
		for _, step := range steps {
			told := d.do(step)
			require.False(t, len(told) > 0 && strings.HasPrefix(told[len(told)-1], "! "), "%s: %v", step, told)
		}
	}
	newest := func() PlanView { return d.newest("ops") }
	makers := func() []string {
		p := newest()
		rules, err := d.service.parse(ctx, strings.Join(d.rules["ops"], "\n"))
		require.NoError(t, err)
		a, err := d.service.agreement(ctx, p.Plan, rules)
		require.NoError(t, err)
		require.NotEmpty(t, a.Second)
		return a.Makers
	}
	seal := func(who string) error {
		p := newest()
		_, err := d.service.Seal(ctx, human(who), p.ID, p.Hash, "agreed")
		return err
	}
	writes := func(who, title string) {
		_, err := d.service.PutCharter(ctx, human(who), lane, strings.Join(d.rules["ops"], "\n")+"\n# "+title, -1, "")
		require.NoError(t, err)
	}

	all("take hq", "take app")
	writes("wilma", "by wilma")
	_, err := d.service.Rule(ctx, human("ruth"), lane, store.Ruling{Kind: "leave-alone", Account: "u3", Reason: "a guest"}, "")
	require.NoError(t, err)
	all("reconcile ops", "draft ops")
	require.ElementsMatch(t, []string{tester.Name, "wilma", "ruth"}, makers())
	p := newest()
	v, err := d.service.Decide(ctx, human("dora"), p.ID, Decision{Hash: p.Hash, Changes: []string{first(t, d, p).ID}, Aside: true, Reason: "not yet"})
	require.NoError(t, err)
	require.Equal(t, 1, v.SetAside)
	require.ElementsMatch(t, []string{tester.Name, "wilma", "ruth", "dora"}, makers())
	for _, who := range []string{"wilma", "ruth", "dora", tester.Name} {
		require.ErrorContains(t, seal(who), "second person", who)
	}
	require.NoError(t, seal("sara"))
	all("run ops", "take app", "put app u1 asoto L1 Ana Soto Cook ana@larkspur.example - true", "put app u2 blund L2 Bo Lund Cook bo@larkspur.example - true", "tick 1h", "take app", "reconcile ops", "draft ops")
	require.NotContains(t, makers(), "ruth", "a human has sealed a plan that rests on it")
	writes("olga", "by olga")
	all("reconcile ops", "draft ops")
	require.Contains(t, makers(), "olga")
	require.ErrorContains(t, seal("olga"), "second person")
}

func first(t *testing.T, d *days, p PlanView) store.Change {
	list, err := d.service.Store.AllChanges(context.Background(), p.ID)
	require.NoError(t, err)
	require.NotEmpty(t, list)
	require.Equal(t, planning.Set, list[0].Verb)
	return list[0]
}
