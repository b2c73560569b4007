package service

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/stretchr/testify/require"

	"twinning/internal/store"
)

// plans carries out commands about plans that humans ask for, and about what is in them.
func (d *days) plans(words []string) (told []string, known bool, err error) {
	ctx := context.Background()
	lane := d.own(words[1])
	switch words[0] {
	case "ask": // LANE VERB ACCOUNT... [person:ID] [group:NAME] [until:DAY] [finding:CODE:HOW MANY]
		a := Action{Verb: words[2], Reason: "asked for"}
		for _, w := range words[3:] {
			kind, value, _ := strings.Cut(w, ":")
			switch kind {
			case "":
			case "person":
				a.People = append(a.People, value)
			case "group":
				a.Groups = append(a.Groups, value)
			case "until":
				days, broken := strconv.Atoi(value)
				require.NoError(d.t, broken)
				a.Until = d.service.Now().AddDate(0, 0, days).Format("2006-01-02")
			case "finding":
				code, count, _ := strings.Cut(value, ":")
				n, broken := strconv.Atoi(count)
				require.NoError(d.t, broken)
				a.Findings = &FindingSelection{Which: store.FindingFilter{Code: code}, Expect: n}
			default:
				a.Accounts = append(a.Accounts, w)
			}
		}
		p, _, broken := d.service.StartAction(ctx, tester, lane, a)
		if err = broken; err == nil {
			told = append(d.drafted(p), d.refused(p)...)
		}
	case "undo": // LANE [ID...], the newest run
		u := Undoing{Reason: "it was wrong"}
		for _, w := range words[2:] {
			if w != "" {
				u.People = append(u.People, w)
			}
		}
		run := d.newest(words[1]).Run
		require.NotNil(d.t, run)
		p, _, broken := d.service.StartUndo(ctx, tester, *run, u)
		if err = broken; err == nil {
			told = append(d.drafted(p), d.refused(p)...)
		}
	case "sheet": // LANE [intent:WORD] ATTRIBUTE,... ; then rows of cells by | in further arguments, _ for a space
		sent := SheetSent{Name: "test.csv"}
		if words[2] = strings.TrimPrefix(words[2], "intent:"); words[2] == "add" || words[2] == "both" {
			sent.Intent = words[2]
		}
		var rows []string
		for _, w := range words[3:] {
			if w != "" {
				rows = append(rows, strings.ReplaceAll(strings.ReplaceAll(w, "|", ","), "_", " "))
			}
		}
		sent.Body = strings.NewReader(strings.Join(rows, "\n") + "\n")
		p, _, broken := d.service.StartSheet(ctx, tester, lane, sent)
		if err = broken; err == nil {
			told = append(d.drafted(p), d.refused(p)...)
		}
	case "export": // LANE [COLUMNS], and loaded again untouched it asks for nothing
		var columns []string
		if words[2] != "" {
			columns = strings.Split(words[2], ",")
		}
		e, broken := d.service.SheetOf(ctx, tester, lane, SheetWanted{Format: "csv", Columns: columns})
		if err = broken; err == nil {
			var b strings.Builder
			require.NoError(d.t, e.Write(&b))
			told = strings.Split(strings.TrimSpace(strings.TrimPrefix(b.String(), "\ufeff")), "\n")
			_, _, broken = d.service.StartSheet(ctx, tester, lane, SheetSent{Body: strings.NewReader(b.String())})
			require.ErrorContains(d.t, broken, "nothing of what was asked for is to be done")
		}
	case "names": // who gives what to whom
		list, broken := d.service.Moves(ctx, d.newest(words[1]).ID)
		require.NoError(d.t, broken)
		at := func(a *AtView) string {
			if a == nil {
				return "nobody"
			}
			return a.Label + " (" + a.Attribute + ")"
		}
		for _, m := range list {
			told = append(told, m.Name+": "+at(m.From)+" → "+at(m.To))
		}
	case "differ": // the newest plan from the one before
		list, _, broken := d.service.Plans(ctx, lane, store.Page{Limit: 2})
		require.NoError(d.t, broken)
		differing, _, total, broken := d.service.ComparePlans(ctx, list[0].ID, list[1].ID, store.Page{Limit: 50, Count: true})
		require.NoError(d.t, broken)
		require.Len(d.t, differing, total)
		wants := func(edits store.Wanted) (words string) {
			for _, e := range edits {
				words += " " + e.Attribute + "→" + e.New
			}
			return strings.TrimSpace(map[bool]string{true: "none"}[edits == nil] + words)
		}
		for _, x := range differing {
			told = append(told, fmt.Sprintf("%s %s %s: %s; before: %s", x.Verb, x.Person, x.Account, wants(x.Here.V), wants(x.There.V)))
		}
		slices.Sort(told)
	case "decide": // LANE FROM TO, in a sheet of the draft
		p := d.newest(words[1])
		e, broken := d.service.ExportPlan(ctx, tester, p.ID, "csv")
		require.NoError(d.t, broken)
		var b strings.Builder
		require.NoError(d.t, e.Write(&b))
		edited := strings.ReplaceAll(b.String(), `,"`+strings.ReplaceAll(words[2], "_", " ")+`","include",`, `,"`+strings.ReplaceAll(words[3], "_", " ")+`","include",`)
		v, broken := d.service.DecideBySheet(ctx, tester, p.ID, "decided.csv", strings.NewReader(edited))
		if err = broken; err == nil {
			told = []string{fmt.Sprintf("%d changes, %d set aside, %d along", v.Total, v.SetAside, len(v.Along))}
		}
	case "ordinary": // have the charter seal it
		p := d.newest(words[1])
		v, broken := d.service.SealOrdinary(ctx, tester, p.ID, p.Hash)
		if err = broken; err == nil {
			told = []string{fmt.Sprintf("%s by %s", v.State, v.SealedBy)}
		}
	case "as": // another human seals, and decides, from now on
		d.who.Name = words[1]
	case "paused": // LANE, and the outcomes
		p := d.newest(words[1])
		told = []string{strings.TrimSpace(fmt.Sprintf("%s %s", p.State, p.PausedAfter))}
	case "task": // what the newest one says, clocks aside
		list, _, broken := d.service.Tasks(ctx, store.Page{Limit: 1})
		require.NoError(d.t, broken)
		told = []string{fmt.Sprintf("%s: %s", list[0].State, list[0].Message)}
	case "aside", "include": // LANE VERB ACCOUNT-OR-PERSON
		p := d.newest(words[1])
		all, broken := d.service.Store.WholePlan(ctx, p.ID)
		require.NoError(d.t, broken)
		i := slices.IndexFunc(all, func(c store.Change) bool {
			return c.Verb == words[2] && (c.Account == words[3] || c.Person == words[3])
		})
		require.GreaterOrEqual(d.t, i, 0, "no %s of %s", words[2], words[3])
		var v Decided
		if v, err = d.service.Decide(ctx, d.who, p.ID, Decision{Hash: p.Hash, Changes: []string{all[i].ID}, Aside: words[0] == "aside", Reason: "not now"}); err == nil {
			require.NotEqual(d.t, p.Hash, v.Hash, "whoever seals it must have seen it so")
			told = []string{fmt.Sprintf("%d changes, %d set aside, %d along", v.Total, v.SetAside, len(v.Along))}
		}
	default:
		return nil, false, nil
	}
	return told, true, err
}

func (d *days) refused(p PlanView) (told []string) {
	list, _, total, err := d.service.Refusals(context.Background(), p.ID, store.Page{Limit: 50, Count: true})
	require.NoError(d.t, err)
	require.Equal(d.t, p.Refused, total)
	for _, r := range list {
		told = append(told, strings.Join(strings.Fields(fmt.Sprintf("refused %s %s %s %s: %s", r.Place, r.Person, r.Account, r.Attribute, r.Reason)), " "))
	}
	return told
}
