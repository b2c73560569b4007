package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"twinning/internal/access"
	"twinning/internal/core/lifecycle"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// asideAsBefore sets aside what a human has set aside in an earlier draft of the lane, and
// what needs it.
func (s *Service) asideAsBefore(ctx context.Context, l store.Lane, changes []store.Change) error {
	before, err := s.Store.SetAsides(ctx, l.ID)
	if err != nil || len(before) == 0 {
		return err
	}
	by := map[decidedOf][]store.SetAside{}
	for _, b := range before {
		of := decisionOf(b.Verb, b.Account, b.Person)
		by[of] = append(by[of], b)
	}
	decided := make(map[string]store.SetAside) // change -> what is decided about it
	for _, c := range changes {
		for _, b := range by[decisionOf(c.Verb, c.Account, c.Person)] {
			if b.Decision().IsAbout(&c.Body.V) {
				decided[c.ID] = b
				break
			}
		}
	}
	aside := func(c store.Change) bool { _, is := decided[c.ID]; return is }
	for i, out := range along(changes, aside, true) {
		if !out {
			continue
		}
		changes[i].SetAside = withAnother
		if b, is := decided[changes[i].ID]; is {
			changes[i].SetAside = fmt.Sprintf("%s (%s)", b.Reason, b.By)
		}
	}
	return nil
}

// decidedOf is what a decision about a change, and a change, have in common where the one is about
// the other: planning.Decision.IsAbout says whether it is.
type decidedOf struct{ verb, account, person string }

func decisionOf(verb, account, person string) decidedOf {
	if account != "" {
		person = "" // it may be gone from its list
	}
	return decidedOf{verb, account, person}
}

// asidesEnded are the decisions to set changes aside whose reason is over: a result wants nothing
// of it any more. Where a record can't be read, is in doubt or left alone, or the change is
// withheld for now, nothing is known.
func (s *Service) asidesEnded(ctx context.Context, in laneInput, out *reconcile.Output) (ended []string, err error) {
	before, err := s.Store.SetAsides(ctx, in.lane.ID)
	if err != nil || len(before) == 0 {
		return nil, err
	}
	changes, withheld := map[decidedOf][]*planning.Change{}, map[decidedOf]bool{}
	for i := range out.Changes {
		c := &out.Changes[i]
		of := decisionOf(c.Verb, c.Account, c.Person)
		changes[of] = append(changes[of], c)
	}
	for _, w := range out.Withheld {
		withheld[decisionOf(w.Verb, w.Account, w.Person)] = true
	}
	for _, b := range before {
		d := b.Decision()
		of := decisionOf(d.Verb, d.Account, d.Person)
		if !withheld[of] && !slices.ContainsFunc(changes[of], d.IsAbout) && !out.Undecided(in.Input, d.Person, d.Account) {
			ended = append(ended, b.Change)
		}
	}
	return ended, nil
}

const withAnother = "it goes with another change that is set aside"

// Decision is what a human decides about changes of a draft.
type Decision struct {
	Hash    string   // of the plan that they looked at
	Changes []string // ids
	Aside   bool     // set aside; false: include again
	Reason  string
}

// Decided is the plan as it is from then on, and what went along.
type Decided struct {
	PlanView
	Along []string `json:"along"` // ids of further changes that went the same way
}

// Decide sets changes of a draft aside, with all that needs them, or includes them again with
// all that they need. The plan's hash is another then: whoever seals it must have seen it so.
func (s *Service) Decide(ctx context.Context, who access.Caller, id int64, d Decision) (v Decided, err error) {
	if d.Reason = strings.TrimSpace(d.Reason); d.Aside && d.Reason == "" {
		return v, &fault.Error{Kind: fault.Invalid, Title: "why is it set aside?", Detail: "it stays so in later drafts, and somebody will ask", Field: "reason"}
	}
	p, err := s.Store.Plan(ctx, id)
	if err != nil {
		return v, fault.About(err, "plan", fmt.Sprint(id))
	}
	l, err := s.Store.LaneByID(ctx, p.LaneID)
	if err != nil {
		return v, err
	}
	err = s.Store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.HoldLane(ctx, l.ID); err != nil {
			return err
		}
		if p, err = tx.Plan(ctx, id); err != nil {
			return err
		}
		if p.State != lifecycle.Draft {
			return fault.New(fault.Conflict, fmt.Sprintf("plan %d is %s: what is in it is decided in a draft", id, p.State), "", "give it up and draft anew, or seal what is there").Because("plan-state")
		}
		if d.Hash != p.Hash {
			return fault.New(fault.Conflict, "the hash is not this plan's", "somebody has decided about it meanwhile", "show the plan again").Because("hash-differs")
		}
		all, err := tx.WholePlan(ctx, id)
		if err != nil {
			return err
		}
		if err := d.apply(all, &v.Along); err != nil {
			return err
		}
		r, err := s.Store.Reconciliation(ctx, p.Reconciliation)
		if err != nil {
			return err
		}
		rules, err := s.charterOf(ctx, l, r)
		if err != nil {
			return err
		}
		if err := s.fill(ctx, l, r, rules, &p, all); err != nil {
			return err
		}
		if who.Name != p.By && !slices.Contains(p.EditedBy.V, who.Name) {
			p.EditedBy.V = append(p.EditedBy.V, who.Name)
		}
		var moved []store.SetAside
		named, along := setOf(d.Changes), setOf(v.Along)
		for _, c := range all {
			if named[c.ID] || along[c.ID] {
				moved = append(moved, store.SetAside{Change: c.ID, Number: c.Number, Verb: c.Verb, Person: c.Person, Account: c.Account, Covers: c.Body.V.Covers(), Reason: c.SetAside, Said: d.Reason, By: who.Name, Along: !named[c.ID]})
			}
		}
		if err := tx.SetChangesAside(ctx, p, moved); errors.Is(err, store.ErrChanged) {
			return fault.New(fault.Conflict, fmt.Sprintf("plan %d is no draft any more", id), "a newer draft has taken its place", "decide about that").Because("plan-state")
		} else if err != nil {
			return err
		}
		act := map[bool]string{true: "plan.set-aside", false: "plan.include"}[d.Aside]
		return tx.Audit(ctx, who.Name, act, fmt.Sprintf("plan %d", id), map[string]string{"changes": strings.Join(d.Changes, " "), "along": strings.Join(v.Along, " "), "reason": d.Reason, "hash": p.Hash})
	})
	if err != nil {
		return v, err
	}
	v.PlanView, err = s.Plan(ctx, id)
	v.Along = append([]string{}, v.Along...)
	return v, err
}

func setOf(ids []string) map[string]bool {
	set := make(map[string]bool, len(ids))
	for _, id := range ids {
		set[id] = true
	}
	return set
}

// apply decides about the changes, and tells which others went along.
func (d Decision) apply(all []store.Change, others *[]string) error {
	wanted := setOf(d.Changes)
	moved := 0
	for i, along := range along(all, func(c store.Change) bool { return wanted[c.ID] }, d.Aside) {
		c := &all[i]
		if !along || (c.SetAside != "") == d.Aside {
			delete(wanted, c.ID)
			continue
		}
		moved++
		switch {
		case !d.Aside:
			c.SetAside = ""
		case wanted[c.ID]:
			c.SetAside = d.Reason
		default:
			c.SetAside = withAnother
		}
		if !wanted[c.ID] {
			*others = append(*others, c.ID)
		}
		delete(wanted, c.ID)
	}
	for id := range wanted {
		return fault.New(fault.NotFound, fmt.Sprintf("the plan has no change %q", id), "", "their ids stand in the list of its changes")
	}
	if moved == 0 {
		return fault.New(fault.Conflict, "nothing is to be decided by that", "the changes are as it says already", "").Because("nothing-to-do")
	}
	left := 0
	for _, c := range all {
		if c.SetAside == "" {
			left++
		}
	}
	if left == 0 {
		return fault.New(fault.Conflict, "no change would be left", "a plan of nothing is not sealed", "give it up instead: twinning plan void").Because("nothing-to-do")
	}
	return nil
}

// Comment says something about a plan, or about one of its changes.
func (s *Service) Comment(ctx context.Context, who access.Caller, plan int64, change, text string) (c store.Comment, err error) {
	text = strings.TrimSpace(text)
	switch {
	case text == "":
		return c, &fault.Error{Kind: fault.Invalid, Title: "a comment needs words", Field: "text"}
	case len(text) > longestComment:
		return c, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("a comment has at most %d bytes", longestComment), Field: "text"}
	}
	if _, err := s.Store.Plan(ctx, plan); err != nil {
		return c, fault.About(err, "plan", fmt.Sprint(plan))
	}
	if change != "" {
		if there, err := s.Store.HasChange(ctx, plan, change); err != nil {
			return c, err
		} else if !there {
			return c, fault.New(fault.NotFound, fmt.Sprintf("plan %d has no change %q", plan, change), "", "their ids stand in the list of its changes")
		}
	}
	err = s.act(ctx, who, "plan.comment", fmt.Sprintf("plan %d", plan), map[string]string{"change": change}, func(tx *store.Store) error {
		c, err = tx.AddComment(ctx, plan, change, text, who.Name)
		return err
	})
	return c, err
}

// longestComment is for a paragraph or two.
const longestComment = 4000

// Comments lists what was said about a plan and its changes, oldest first.
func (s *Service) Comments(ctx context.Context, plan int64, p store.Page) ([]store.Comment, string, error) {
	if _, err := s.Store.Plan(ctx, plan); err != nil {
		return nil, "", fault.About(err, "plan", fmt.Sprint(plan))
	}
	return s.Store.Comments(ctx, plan, p)
}
