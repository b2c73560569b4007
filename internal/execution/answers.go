package execution

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"twinning/internal/connector"
	"twinning/internal/core/planning"
)

// An answer is not evidence until it fits: it is held against what was asked for before anything
// is concluded from it.

// one reads an account of the system; an answer that is about another one is broken.
func (x *run) one(ctx context.Context, id string) (connector.Record, error) {
	r, err := x.conn.One(ctx, id)
	if err == nil && !x.isAccount(r.ID, id) {
		return connector.Record{}, &connector.Error{Kind: connector.Broken, Doing: "read " + id, Target: x.system.Name, Reason: fmt.Sprintf("the answer is about another account, %q", r.ID), Next: "ask whoever runs " + x.system.Name + ": answers are mixed up"}
	}
	return r, err
}

// found are the records that a search by a value came to, where they all carry it.
func (x *run) found(ctx context.Context, native, value string) ([]connector.Record, error) {
	list, err := x.conn.Find(ctx, native, value)
	if err != nil {
		return nil, err
	}
	for _, r := range list {
		if !slices.ContainsFunc(r.Values[native], func(v string) bool { return strings.EqualFold(v, value) }) {
			return nil, &connector.Error{Kind: connector.Broken, Doing: "search by " + native, Target: x.system.Name, Reason: fmt.Sprintf("the answer is about account %q, which does not carry the value", r.ID), Next: "ask whoever runs " + x.system.Name + ": answers are mixed up"}
		}
	}
	return list, nil
}

// isAccount reports whether an id that a system answers with is the one that was asked for. A
// distinguished name has capitals as it pleases.
func (x *run) isAccount(answered, asked string) bool {
	return answered == asked || strings.EqualFold(x.shape.Attributes["id"].Native, "dn") && strings.EqualFold(answered, asked)
}

// unfit says why an answer to a change can't be about the account that was changed or made, and
// is "" where it can.
func (s *sender) unfit(after connector.Record) string {
	if s.c.Verb != planning.Create {
		moves := !s.shape.Stable && (s.c.Verb == planning.Rename || s.c.Verb == planning.Readdress || s.c.Verb == planning.Place)
		if s.isAccount(after.ID, s.c.Account) || moves {
			return ""
		}
		return fmt.Sprintf("the answer is about another account, %q", after.ID)
	}
	if after.ID == "" {
		return "the answer does not name the new account"
	}
	marks := s.shape.Attributes[s.shape.Mark].Native
	if mark, says := s.sends(marks), after.Values[marks]; mark != "" && len(says) > 0 && !slices.Contains(says, mark) {
		return fmt.Sprintf("the answer carries the mark %q, and not %q", strings.Join(says, "; "), mark)
	}
	asked := s.asked
	if asked.IsZero() {
		asked = s.r.Intended
	}
	why, err := s.Store.KnownAccount(s.ctx, s.system.ID, after.ID, s.c.ID, asked)
	if err != nil {
		return fmt.Sprintf("the answer names account %q, and whether that is new could not be looked up: %v", after.ID, err)
	}
	if why != "" {
		return fmt.Sprintf("the answer names account %q, which is not new: %s", after.ID, why)
	}
	return ""
}
