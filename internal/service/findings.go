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

// FindingSelection is the findings that a filter, a text and ids select together.
type FindingSelection struct {
	Which    store.FindingFilter
	Text     string
	IDs      []string
	Expect   int    // how many there are, as the caller has seen them; -1 where ids name them
	Snapshot string // of them, as the caller has seen them; "": not given
}

// of returns the ids of the selected findings of a reconciliation, or an error where they are
// not those that the caller has seen.
func (f FindingSelection) of(ctx context.Context, db *store.Store, lane string, reconciliation int64) ([]string, error) {
	list, err := db.Meant(ctx, reconciliation, f.Which, f.Text, f.IDs)
	if err != nil {
		return nil, err
	}
	title := ""
	if f.Snapshot != "" {
		if now, err := db.FindingSnapshot(ctx, reconciliation, f.Which, f.Text); err != nil {
			return nil, err
		} else if now != f.Snapshot {
			title = "these findings have changed since they were listed"
		}
	}
	if f.Expect >= 0 && f.Expect != len(list) {
		title = fmt.Sprintf("%d findings are selected, not %d", len(list), f.Expect)
	}
	if title != "" {
		return nil, fault.New(fault.Conflict, title, "nothing was done", "list them again with the same filters, then decide: twinning finding list "+lane).Because("moved-on")
	}
	return list, nil
}

// FindingAct is what is to be done about findings.
type FindingAct struct {
	Act string // accept, unaccept or assign
	FindingSelection
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
		list, err := act.of(ctx, tx, lane, r.ID)
		if err != nil {
			return err
		}
		n = len(list)
		detail["count"] = fmt.Sprint(n)
		if n == 0 {
			return fault.New(fault.NotFound, "no finding of the newest reconciliation of "+lane+" is selected", "", "list what there is: twinning finding list "+lane)
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

// FindingList is a page of findings.
type FindingList struct {
	Items    []store.Finding
	Next     string
	Total    int
	Snapshot string         // of all that are meant, where they are counted
	Counts   map[string]int // of the lane, by code
}

// Findings lists those of the newest result, with counts by code.
func (s *Service) Findings(ctx context.Context, lane string, which store.FindingFilter, p store.Page) (v FindingList, err error) {
	_, r, err := s.latest(ctx, lane)
	if err != nil {
		return v, err
	}
	if err := json.Unmarshal(r.Findings, &v.Counts); err != nil {
		return v, err
	}
	if p.Count {
		if v.Snapshot, err = s.Store.FindingSnapshot(ctx, r.ID, which, p.Text); err != nil {
			return v, err
		}
	}
	known := 0
	for c, n := range v.Counts {
		told, _ := finding.Lookup(c)
		if (which.Code == "" || c == which.Code) && (which.Severity == "" || string(told.Severity) == which.Severity) {
			known += n
		}
	}
	if !which.Known() {
		v.Items, v.Next, v.Total, err = s.Store.Findings(ctx, r.ID, which, p.Within(r.ID))
		return v, err
	}
	v.Items, v.Next, v.Total, err = s.Store.Findings(ctx, r.ID, which, uncounted(p).Within(r.ID))
	v.Total = counted(p, v.Total, known)
	return v, err
}
