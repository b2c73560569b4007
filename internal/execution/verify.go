package execution

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"twinning/internal/connector"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
	"twinning/internal/reach"
	"twinning/internal/store"
	"twinning/internal/work"
)

// Verify reads again and says of each account: confirmed, not yet visible or
// different.
func (e *Engine) Verify(ctx context.Context, w *work.Work) error {
	var p Params
	if err := json.Unmarshal(w.Params, &p); err != nil {
		return err
	}
	x, err := e.open(ctx, w, p)
	if err != nil {
		return err
	}
	defer reach.Closed(x.conn)
	receipts, err := e.Store.AllReceipts(ctx, p.Run)
	if err != nil {
		return err
	}
	asking, cancel := w.Until(ctx)
	defer cancel()
	good, bad, unseen := 0, 0, 0
	passed := x.passedThrough()
	for i, r := range receipts {
		if !planning.IsAccepted(r.Outcome) || passed[r.Number] {
			continue
		}
		if c := x.changes[r.Number]; c.Body.V.Delivers != nil && len(x.writes(c)) == 0 {
			unseen++
			continue
		}
		verdict, detail := x.check(asking, x.changes[r.Number], r)
		if w.Halted() {
			return work.ErrHalted
		}
		if r.Verified == "confirmed" && verdict != "confirmed" { // it did take; what somebody did since is another matter
			if err := w.Log(ctx, "info", r.Account, fmt.Sprintf("%s %s was confirmed, and is otherwise since: %s", r.Verb, r.Label, detail)); err != nil {
				return err
			}
			verdict = "confirmed"
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if verdict == "confirmed" {
			good++
		} else {
			bad++
			if err := w.Log(ctx, "warning", r.Account, fmt.Sprintf("%s %s: %s %s", r.Verb, r.Label, verdict, detail)); err != nil {
				return err
			}
		}
		if err := e.Store.SetVerified(ctx, p.Run, r.Number, verdict); err != nil {
			return err
		}
		if err := w.Progress(i+1, len(receipts), good, bad); err != nil {
			return err
		}
	}
	said := fmt.Sprintf("%d confirmed, %d not", good, bad)
	if unseen > 0 {
		said += fmt.Sprintf("; %d secrets and letters, which no reading shows", unseen)
	}
	w.Say("%s", said)
	return w.Progress(len(receipts), len(receipts), good, bad)
}

// passedThrough are the receipts of values in between that their accounts have left behind:
// what shows by now is the change's that followed.
func (x *run) passedThrough() map[int]bool {
	reached, passed := map[[3]string]bool{}, map[int]bool{}
	key := func(c store.Change) [3]string { return [3]string{c.Body.V.Unit, c.Verb, c.Account} }
	for _, c := range x.order { // whichever run has done it
		if !c.Body.V.Between && (c.Outcome == "done" || c.Outcome == "unchanged" || c.Outcome == "different" && !c.Hinders) {
			reached[key(c)] = true
		}
	}
	for _, c := range x.order {
		passed[c.Number] = c.Body.V.Between && reached[key(c)]
	}
	return passed
}

// shown reads an account as it shows: in the system itself, or, where that can't be
// asked, in its newest roster.
func (x *run) shown(ctx context.Context, id string) (connector.Record, error) {
	if x.declared.ReadsOne {
		return x.one(ctx, id)
	}
	return x.rostered(ctx, id)
}

// checkGone says whether a deleted account shows no more.
func (x *run) checkGone(r store.Receipt, err error) (verdict, detail string) {
	switch {
	case connector.KindOf(err) == connector.NotFound:
		return "confirmed", ""
	case err != nil:
		return "not-yet-visible", err.Error()
	case x.declared.Lag > 0 && time.Since(r.SettledAt()) < x.declared.Lag:
		return "not-yet-visible", "the account shows still"
	}
	return "different", "the account is there"
}

// checkGroups says whether the groups show what a change of memberships wanted.
func (x *run) checkGroups(ctx context.Context, c store.Change, r store.Receipt) (verdict, detail string) {
	not, err := x.enrolled(ctx, c, r.Account, false)
	switch {
	case err != nil:
		return "not-yet-visible", err.Error()
	case not == "":
		return "confirmed", ""
	case x.declared.Lag > 0 && time.Since(r.SettledAt()) < x.declared.Lag:
		return "not-yet-visible", "group " + not
	}
	return "different", "group " + not
}

// check compares an account as it is now with what its change wanted.
func (x *run) check(ctx context.Context, c store.Change, r store.Receipt) (verdict, detail string) {
	rec, err := x.shown(ctx, r.Account)
	if c.Verb == planning.Delete {
		return x.checkGone(r, err)
	}
	if connector.KindOf(err) == connector.NotFound {
		return "different", "the account is gone"
	}
	if err != nil {
		return "not-yet-visible", err.Error()
	}
	if x.byGroups(c) {
		return x.checkGroups(ctx, c, r)
	}
	for _, e := range x.writes(c) {
		if src := x.shape.Attributes[e.Attribute]; src.Refers != "" {
			if now := rec.Values[src.Native]; !record.SameReferences(now, r.Sent.V[src.Native]) {
				return "different", fmt.Sprintf("%s refers to %q", e.Attribute, strings.Join(now, "; "))
			}
			continue
		}
		now, bad := x.cell(rec, e.Attribute)
		if bad != nil {
			return "different", bad.Error()
		}
		if record.Same(record.KindOf(e.Attribute), now, e.New) {
			continue
		}
		if record.Same(record.KindOf(e.Attribute), now, e.Old) && x.declared.Lag > 0 && time.Since(r.SettledAt()) < x.declared.Lag {
			return "not-yet-visible", e.Attribute
		}
		return "different", fmt.Sprintf("%s is %q", e.Attribute, record.PlainList(now))
	}
	return "confirmed", ""
}
