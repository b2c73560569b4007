package service

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"twinning/internal/access"
	"twinning/internal/core/document"
	"twinning/internal/core/lifecycle"
	"twinning/internal/core/record"
	"twinning/internal/core/sheet"
	"twinning/internal/execution"
	"twinning/internal/fault"
	"twinning/internal/format"
	"twinning/internal/format/ldif"
	"twinning/internal/store"
)

// problemsTold is of how many rows that are wrong it is said what is.
const problemsTold = 20

// Columns of a plan as a sheet.
const (
	changeColumn   = "change" + sheet.Identifies
	decisionColumn = "decision"
	whyColumn      = "why"
)

var planColumns = []string{changeColumn, "plan", "number", "wave", "verb", "whose", "person", "account", "department", "changes", "reason", "outcome", decisionColumn, sheet.Was + decisionColumn, whyColumn}

// decisions are what a cell says, and whether that sets aside.
var decisions = map[string]bool{"include": false, "set aside": true}

// ExportPlan prepares the changes of a plan as a file: for a spreadsheet, in which they are
// decided about, or a line each for machines.
func (s *Service) ExportPlan(ctx context.Context, who access.Caller, id int64, kind string) (Export, error) {
	p, err := s.Store.Plan(ctx, id)
	if err != nil {
		return Export{}, fault.About(err, "plan", fmt.Sprint(id))
	}
	if kind == "ldif" {
		return s.script(ctx, who, p)
	}
	e, err := s.tableOf(fmt.Sprintf("plan-%d", id), cmp.Or(kind, "xlsx"), planColumns, func(each func(line any, row map[string][]string) error) error {
		all, err := s.Store.WholePlan(ctx, p.ID)
		if err != nil {
			return err
		}
		for _, c := range all {
			if err := each(changeView(c), planRow(p, c)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return e, err
	}
	return e, s.act(ctx, who, "plan.export", fmt.Sprintf("plan %d", id), map[string]string{"format": kind}, onlyTold)
}

// script prepares what is left to be done of a plan as change records of LDIF (RFC 2849), for
// directories alone.
func (s *Service) script(ctx context.Context, who access.Caller, p store.Plan) (Export, error) {
	switch p.State {
	case lifecycle.Running:
		return Export{}, fault.New(fault.Conflict, fmt.Sprintf("plan %d is running", p.ID), "what is left of it would be done twice", "wait until its run is through, or halt it").Because("plan-state")
	case lifecycle.Void:
		return Export{}, fault.New(fault.Conflict, fmt.Sprintf("plan %d is void", p.ID), "nothing of it is to be done any more", "draft another, or take it as xlsx, csv or jsonl").Because("plan-state")
	}
	leave, err := s.place(ctx, s.exports, "exports")
	if err != nil {
		return Export{}, err
	}
	defer leave()
	var body bytes.Buffer
	written, left := 0, 0
	err = s.engine.Script(ctx, p.ID, func(c execution.PutDown) error {
		about := fmt.Sprintf("change %d: %s %s", c.Change.Number, c.Change.Verb, cmp.Or(c.Change.Label, c.Change.Account, c.Change.Person))
		if c.Change.Wave != "" {
			about += ", wave " + c.Change.Wave
		}
		if len(c.Records) == 0 {
			left++
			body.WriteByte('\n')
			return ldif.Comment(&body, about, "is not here: "+cmp.Or(c.Why, "there is nothing to write"))
		}
		written++
		comments := []string{about} // above its first record
		for _, rec := range c.Records {
			if err := ldif.WriteChange(&body, rec, comments...); err != nil {
				return err
			}
			comments = nil
		}
		return nil
	})
	switch {
	case errors.Is(err, execution.ErrNoScript):
		return Export{}, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("plan %d can't be given out as ldif", p.ID), Detail: err.Error(), Field: "format", Next: "take xlsx, csv or jsonl"}
	case err != nil:
		return Export{}, err
	case written+left == 0:
		return Export{}, fault.New(fault.Conflict, fmt.Sprintf("nothing is left to be done of plan %d", p.ID), "", fmt.Sprintf("see what was done: twinning plan show %d", p.ID)).Because("nothing-to-do")
	}
	e := s.exported(fmt.Sprintf("plan-%d.ldif", p.ID), func(w io.Writer) error {
		if err := ldif.Comment(w,
			fmt.Sprintf("Plan %d, %s: %d of %d changes that are left to be done.", p.ID, p.State, written, written+left),
			"To be looked at. Whoever applies it by hand passes by seal, premises, guards and receipts: Twinning hears of it by the next roster alone. What is taken away is named as the roster showed it, so that an entry which changed since refuses.",
			"What else names an entry that is renamed or deleted (groups, managers) is mended by a run, and here by the directory or not at all."); err != nil {
			return err
		}
		if _, err := io.WriteString(w, "version: 1\n"); err != nil {
			return err
		}
		_, err := w.Write(body.Bytes())
		return err
	})
	return e, s.act(ctx, who, "plan.export", fmt.Sprintf("plan %d", p.ID), map[string]string{"format": "ldif"}, onlyTold)
}

func planRow(p store.Plan, c store.Change) map[string][]string {
	var edits, reasons []string
	for _, e := range c.Body.V.Edits {
		edits = append(edits, fmt.Sprintf("%s: %s → %s", e.Attribute, cmp.Or(record.PlainList(e.Old), "—"), cmp.Or(record.PlainList(e.New), "—")))
		if !slices.Contains(reasons, e.Reason) {
			reasons = append(reasons, e.Reason)
		}
	}
	decision := "include"
	if c.SetAside != "" {
		decision = "set aside"
	}
	return map[string][]string{
		changeColumn: {c.ID}, "plan": {fmt.Sprint(p.ID)}, "number": {fmt.Sprint(c.Number)}, "wave": {c.Wave}, "verb": {c.Verb}, "whose": {c.Label}, "person": {c.Person}, "account": {c.Account}, "department": {c.Department},
		"changes": {strings.Join(edits, "; ")}, "reason": {strings.Join(reasons, "; ")}, "outcome": {c.Outcome}, decisionColumn: {decision}, sheet.Was + decisionColumn: {decision}, whyColumn: {c.SetAside},
	}
}

// DecideBySheet decides about changes of a draft as a sheet of it says that came back: rows
// whose decision is another than it was.
func (s *Service) DecideBySheet(ctx context.Context, who access.Caller, id int64, name string, body io.Reader) (v Decided, err error) {
	p, err := s.Store.Plan(ctx, id)
	if err != nil {
		return v, fault.About(err, "plan", fmt.Sprint(id))
	}
	file, err := openSheet(body)
	if err != nil {
		return v, err
	}
	for _, needed := range []string{changeColumn, "plan", decisionColumn, sheet.Was + decisionColumn} {
		if !slices.Contains(file.Natives(), needed) {
			return v, fault.New(fault.Invalid, fmt.Sprintf("the sheet has no column %q", needed), "it says which changes are meant, or what is decided about them", fmt.Sprintf("take one that has it: twinning plan export %d", id))
		}
	}
	var problems document.Problems // the first of them
	wrong := 0
	moved := map[bool][]string{}
	why := ""
	err = file.Each(func(row format.Row) error {
		cell := func(name string) string { return strings.TrimSpace(strings.Join(row.Values[name], "; ")) }
		problem := func(format string, args ...any) {
			if wrong++; wrong <= problemsTold {
				problems = append(problems, document.Problem{Line: row.Line, Column: 1, Message: fmt.Sprintf(format, args...)})
			}
		}
		change, decision, was := cell(changeColumn), strings.ToLower(cell(decisionColumn)), strings.ToLower(cell(sheet.Was+decisionColumn))
		aside, known := decisions[cmp.Or(decision, was)]
		switch {
		case row.LeftOut != "":
		case row.Fault != "":
			problem("the row can't be read: %s", row.Fault)
		case change == "" && decision == "":
		case cell("plan") != fmt.Sprint(id):
			problem("the row is of plan %s", cmp.Or(cell("plan"), "nobody knows which"))
		case !known:
			problem("%q decides nothing; expected include or set aside", decision)
		case decision != "" && decision != was:
			moved[aside] = append(moved[aside], change)
			if aside && why == "" {
				why = cell(whyColumn)
			}
		}
		return nil
	})
	if err != nil {
		return v, fault.New(fault.Invalid, "the sheet can't be read to its end", err.Error(), "save it anew, and send it again")
	}
	if len(problems) > 0 {
		return v, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("the sheet %q can't be taken: nothing of it is", name), Detail: fmt.Sprintf("%d rows are wrong; the first: %s", wrong, problems[0].Message), Problems: problems}
	}
	if len(moved) == 0 {
		return v, fault.New(fault.Conflict, "the sheet decides nothing", "every decision is as it was when it went out", "").Because("nothing-to-do")
	}
	hash := p.Hash
	for _, aside := range []bool{false, true} {
		if len(moved[aside]) == 0 {
			continue
		}
		along := v.Along
		if v, err = s.Decide(ctx, who, id, Decision{Hash: hash, Changes: moved[aside], Aside: aside, Reason: cmp.Or(why, "as the sheet "+name+" says")}); err != nil {
			return v, err
		}
		hash, v.Along = v.Hash, append(along, v.Along...)
	}
	return v, nil
}
