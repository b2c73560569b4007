package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"twinning/internal/access"
	"twinning/internal/core/finding"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// FindingAct is what is to be done about findings: all that the filter, the text and the ids
// mean together.
type FindingAct struct {
	Act    string // accept, unaccept or assign
	Which  store.FindingFilter
	Text   string
	IDs    []string
	Expect int // how many there are, as whoever acts has seen them; -1 where ids name them
	Until  *string
	Reason string
	To     string // whom they are assigned to; "" nobody
}

// ActOnFindings does one thing about many findings, and says about how many. When there are
// not as many as whoever acts has seen, nothing is done.
func (s *Service) ActOnFindings(ctx context.Context, who access.Caller, lane string, act FindingAct) (n int, err error) {
	l, r, err := s.latest(ctx, lane)
	if err != nil {
		return 0, err
	}
	if act.Act == "assign" && act.To != "" {
		users, err := s.Store.Users(ctx)
		if err != nil {
			return 0, err
		}
		if !slices.ContainsFunc(users, func(u store.User) bool { return u.Name == act.To }) {
			return 0, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("there is no user %q to assign to", act.To), Detail: "list them: twinning user list", Field: "to"}
		}
	}
	detail := map[string]string{"code": act.Which.Code, "severity": act.Which.Severity, "text": act.Text, "reason": act.Reason, "to": act.To}
	err = s.act(ctx, who, "finding."+act.Act, lane, detail, func(tx *store.Store) error {
		list, err := tx.Meant(ctx, r.ID, act.Which, act.Text, act.IDs)
		if err != nil {
			return err
		}
		n = len(list)
		detail["count"] = fmt.Sprint(n)
		switch {
		case n == 0:
			return fault.New(fault.NotFound, "no finding of the newest reconciliation of "+lane+" is meant by that", "", "look at what there is: twinning finding list "+lane)
		case act.Expect >= 0 && act.Expect != n:
			return fault.New(fault.Conflict, fmt.Sprintf("%d findings are meant by that, not %d", n, act.Expect), "nothing was done about any", "look at them again: twinning finding list "+lane+", with the same filters, and say how many there are").Because("moved-on")
		}
		switch act.Act {
		case "accept":
			return tx.AcceptAll(ctx, l.ID, list, act.Until, act.Reason, who.Name)
		case "unaccept":
			return tx.UnacceptAll(ctx, l.ID, list)
		}
		return tx.Assign(ctx, l.ID, list, act.To, who.Name)
	})
	return n, err
}

// GoneFindings lists what was wrong in a lane and is not any more, the newest first.
func (s *Service) GoneFindings(ctx context.Context, lane, code string, p store.Page) ([]store.GoneFinding, string, int, error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return nil, "", 0, err
	}
	return s.Store.GoneFindings(ctx, l.ID, code, p)
}

// Findings lists those of the newest result, with counts by code.
func (s *Service) Findings(ctx context.Context, lane string, which store.FindingFilter, p store.Page) (list []store.Finding, next string, total int, counts map[string]int, err error) {
	_, r, err := s.latest(ctx, lane)
	if err != nil {
		return nil, "", 0, nil, err
	}
	if err := json.Unmarshal(r.Findings, &counts); err != nil {
		return nil, "", 0, nil, err
	}
	known := 0
	for c, n := range counts {
		told, _ := finding.Lookup(c)
		if (which.Code == "" || c == which.Code) && (which.Severity == "" || string(told.Severity) == which.Severity) {
			known += n
		}
	}
	if !which.Known() {
		list, next, total, err = s.Store.Findings(ctx, r.ID, which, p.Within(r.ID))
		return list, next, total, counts, err
	}
	list, next, total, err = s.Store.Findings(ctx, r.ID, which, uncounted(p).Within(r.ID))
	return list, next, counted(p, total, known), counts, err
}
