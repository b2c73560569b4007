package service

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"twinning/internal/access"
	"twinning/internal/core/budget"
	"twinning/internal/core/charter"
	"twinning/internal/core/document"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
	"twinning/internal/core/sheet"
	"twinning/internal/fault"
	"twinning/internal/format"
	"twinning/internal/format/anyfile"
	"twinning/internal/store"
)

// sheetFormats are those that a spreadsheet takes.
var sheetFormats = []string{"xlsx", "csv"}

// SheetWanted says what goes out to a spreadsheet.
type SheetWanted struct {
	Format  string   // "": xlsx
	Columns []string // attributes to be edited; nil: those that the charter does not rule
	State   string   // only accounts that stand so; "": all of the lane
}

// SheetOf prepares the accounts of a lane as a sheet, to be edited and loaded again.
func (s *Service) SheetOf(ctx context.Context, who access.Caller, lane string, wanted SheetWanted) (Export, error) {
	l, r, err := s.latest(ctx, lane)
	if err != nil {
		return Export{}, err
	}
	if wanted.Format = cmp.Or(wanted.Format, sheetFormats[0]); !slices.Contains(sheetFormats, wanted.Format) {
		return Export{}, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("a sheet can't be %q", wanted.Format), Detail: "expected xlsx or csv", Field: "format"}
	}
	rules, err := s.charterOf(ctx, l, r)
	if err != nil {
		return Export{}, err
	}
	x, roster, shape, err := s.accountsOf(ctx, l, r)
	if err != nil {
		return Export{}, err
	}
	offered := reconcile.Editable(rules, shape.Canonical(), shape.Mark)
	columns := wanted.Columns
	if len(columns) == 0 {
		columns = offered
	}
	for _, c := range columns {
		if !slices.Contains(offered, c) {
			return Export{}, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("%s can't be edited in a sheet%s", c, document.Suggest(c, offered)), Detail: cmp.Or(reconcile.Fixed(rules, c), x.Name+" has no such attribute") + "; what can be: " + strings.Join(offered, ", "), Field: "columns"}
		}
	}
	e := s.exported(fmt.Sprintf("%s-accounts.%s", lane, wanted.Format), func(w io.Writer) error {
		return s.writeSheet(ctx, w, r, x, roster, rules, columns, wanted)
	})
	return e, s.act(ctx, who, "sheet.export", lane, map[string]string{"format": wanted.Format, "columns": strings.Join(columns, " "), "state": wanted.State}, onlyTold)
}

// accountsOf is the roster of accounts that a result was made of, and the shape by which it is
// read.
func (s *Service) accountsOf(ctx context.Context, l store.Lane, r store.Reconciliation) (x store.System, roster store.Roster, shape record.Shape, err error) {
	if x, err = s.Store.SystemByID(ctx, l.DownstreamID); err != nil {
		return x, roster, shape, err
	}
	if roster, err = s.Store.Roster(ctx, r.AccountsRoster); err != nil {
		return x, roster, shape, err
	}
	shape, err = s.reach.ShapeOf(x, roster.Shape)
	return x, roster, shape, err
}

func (s *Service) writeSheet(ctx context.Context, w io.Writer, r store.Reconciliation, x store.System, roster store.Roster, rules *charter.Charter, columns []string, wanted SheetWanted) error {
	list, _, err := s.intake.Load(ctx, x, roster, append([]string{"id", "displayName", "givenName", "familyName", "userName"}, columns...), rules.Zone)
	if err != nil {
		return err
	}
	header := sheet.Header(columns)
	out, err := anyfile.NewWriter(w, wanted.Format, header, format.Writing{People: true, BOM: true})
	if err != nil {
		return err
	}
	var failed error
	err = s.Store.EachAccount(ctx, r.ID, func(id, state string) {
		row, there := list.Find(id)
		if failed != nil || !there || wanted.State != "" && state != wanted.State {
			return
		}
		if _, unread := list.Present(row); unread {
			return
		}
		values := map[string][]string{header[0]: {id}, sheet.Lane: {rules.Lane}, sheet.Whose: {record.Label(list, row)}}
		for _, c := range columns {
			cell := sheet.Cell(list.All(row, c))
			values[c], values[sheet.Was+c] = []string{cell}, []string{cell}
		}
		failed = out.Write(values)
	})
	return cmp.Or(err, failed, out.Close())
}

// SheetSent is a sheet that came back.
type SheetSent struct {
	Name   string // of its file
	Intent string // add, update or both; "": update
	Reason string
	Body   io.Reader
}

// StartSheet drafts what a sheet asks for: as a plan, or, in a large lane, by a task.
func (s *Service) StartSheet(ctx context.Context, who access.Caller, lane string, sent SheetSent) (v PlanView, t *store.Task, err error) {
	l, r, err := s.latest(ctx, lane)
	if err != nil {
		return v, nil, err
	}
	sent.Intent, sent.Name = cmp.Or(sent.Intent, "update"), cmp.Or(strings.TrimSpace(sent.Name), "sheet")
	if !slices.Contains([]string{"add", "update", "both"}, sent.Intent) {
		return v, nil, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("%q is no intent", sent.Intent), Detail: "expected add, update or both", Field: "intent"}
	}
	file, err := openSheet(sent.Body)
	if err != nil {
		return v, nil, err
	}
	x, roster, shape, err := s.accountsOf(ctx, l, r)
	if err != nil {
		return v, nil, err
	}
	layout, problems := sheet.Read(file.Natives(), shape.Canonical())
	if len(problems) > 0 {
		return v, nil, &fault.Error{Kind: fault.Invalid, Title: fmt.Sprintf("the sheet %q can't be understood", sent.Name), Detail: problems[0].Message, Problems: problems, Next: fmt.Sprintf("take one that has the right columns: twinning sheet export %s", lane)}
	}
	rows := &rowsOf{layout: layout, name: sent.Name, by: who.Name, reason: strings.TrimSpace(sent.Reason), intent: sent.Intent}
	if err := file.Each(rows.add); err != nil {
		return v, nil, fault.New(fault.Invalid, fmt.Sprintf("the sheet %q can't be read to its end", sent.Name), err.Error(), "save it anew, and send it again")
	}
	rules, err := s.charterOf(ctx, l, r)
	if err != nil {
		return v, nil, err
	}
	list, _, err := s.intake.Load(ctx, x, roster, []string{"id", layout.Identifies, "displayName", "givenName", "familyName", "userName"}, rules.Zone)
	if err != nil {
		return v, nil, err
	}
	asked := Asked{Origin: store.Origin{Kind: store.OfSheet, Sheet: sent.Name, Reason: rows.reason}}
	if asked.Origin.Until, err = s.until(l, "", true); err != nil {
		return v, nil, err
	}
	rows.lane = lane
	rows.ask(list, &asked)
	if len(asked.Intents) == 0 {
		return v, nil, nothingDrafted(l, rows.unchanged, asked.Beforehand)
	}
	return s.startAsked(ctx, who, l, r, asked)
}

// openSheet opens what was sent, of whatever kind a spreadsheet writes.
func openSheet(body io.Reader) (format.File, error) {
	if body == nil {
		body = strings.NewReader("")
	}
	most := budget.Sheet.Value()
	raw, err := io.ReadAll(io.LimitReader(body, most+1))
	switch {
	case err != nil:
		return nil, fault.New(fault.Malformed, "the sheet did not come to its end", err.Error(), "send it again")
	case int64(len(raw)) > most:
		return nil, fault.New(fault.Invalid, fmt.Sprintf("the sheet is larger than %s", budget.Sheet), "", "send it in parts")
	case len(raw) == 0:
		return nil, fault.New(fault.Invalid, "the sheet is empty", "", "send the file as the body of the request").Because("list-empty")
	}
	file, err := anyfile.OpenText(raw, false, anyfile.Options{Restore: true})
	if err != nil {
		return nil, fault.New(fault.Invalid, "the sheet can't be read", err.Error(), "save it as xlsx, or as CSV in UTF-8")
	}
	if kind := file.About().Format; !slices.Contains(sheetFormats, kind) {
		return nil, fault.New(fault.Invalid, fmt.Sprintf("a sheet is xlsx or csv, and this is %s", kind), "", "save it as one of these")
	}
	return file, nil
}

// rowsOf gathers what the rows of a sheet ask for.
type rowsOf struct {
	lane             string
	layout           sheet.Layout
	name, by, reason string
	intent           string
	rows             []rowAt
	refused          []store.Refusal
	unchanged        int
}

type rowAt struct {
	line int
	sheet.Row
}

func (x *rowsOf) place(line int) string { return fmt.Sprintf("row %d", line) }

func (x *rowsOf) add(row format.Row) error {
	if row.LeftOut != "" {
		return nil
	}
	if row.Fault != "" {
		x.refused = append(x.refused, store.Refusal{Place: x.place(row.Line), Attribute: row.At, Reason: "the row can't be read: " + row.Fault})
		return nil
	}
	cells := make(map[string]string, len(row.Values))
	for name, v := range row.Values {
		cells[name] = strings.Join(v, sheet.ListSeparator)
	}
	r := rowAt{row.Line, x.layout.Row(cells)}
	if r.Key == "" && len(r.Refused) == 0 {
		if !r.Asks() {
			return nil // a blank line
		}
		r.Refused = append(r.Refused, sheet.Refused{Attribute: x.layout.Identifies, Reason: "the row does not say whose it is"})
		r.Verbs, r.Values = nil, nil
	}
	x.rows = append(x.rows, r)
	return nil
}

// ask states the intents of all rows.
func (x *rowsOf) ask(accounts *record.Roster, asked *Asked) {
	byKey := keysOf(accounts, x.layout.Identifies)
	find := func(r rowAt) (account, person, why string) {
		if x.layout.Identifies == sheet.Person {
			return "", r.Key, ""
		}
		account, why = byKey.find(r.Key)
		return account, "", why
	}
	about := map[string]*firstFew{} // account or person -> the rows that ask for something
	for _, r := range x.rows {
		if account, person, why := find(r); why == "" && r.Asks() {
			if about[account+person] == nil {
				about[account+person] = &firstFew{}
			}
			about[account+person].add(r.line)
		}
	}
	asked.Beforehand = x.refused
	for _, r := range x.rows {
		account, person, why := find(r)
		refuse := func(attribute, reason string) {
			asked.Beforehand = append(asked.Beforehand, store.Refusal{Place: x.place(r.line), Account: account, Person: person, Attribute: attribute, Reason: reason})
		}
		for _, f := range r.Refused {
			refuse(f.Attribute, f.Reason)
		}
		switch all := about[account+person]; {
		case !r.Asks():
			x.unchanged++
			continue
		case why != "":
			refuse(x.layout.Identifies, why)
			continue
		case r.Lane != "" && r.Lane != x.lane:
			refuse(sheet.Lane, fmt.Sprintf("the row is of lane %q", r.Lane))
			continue
		case r.Whose != "" && account != "" && !called(accounts, account, r.Whose):
			row, _ := accounts.Find(account)
			refuse(sheet.Whose, fmt.Sprintf("the row is of %q, and the account is %q by now", r.Whose, record.Label(accounts, row)))
			continue
		case all.count > 1:
			refuse(x.layout.Identifies, fmt.Sprintf("rows %s are about the same one: which of them is meant can't be told", all))
			continue
		}
		reason := fmt.Sprintf("sheet %s, %s (%s)", x.name, x.place(r.line), x.by)
		if x.reason != "" {
			reason = x.reason + ": " + reason
		}
		state := func(i planning.Intent) {
			i.Account, i.Person, i.Reason = account, person, reason
			asked.Intents, asked.Places = append(asked.Intents, i), append(asked.Places, x.place(r.line))
		}
		switch {
		case person != "" && x.intent != "update":
			state(planning.Intent{Verb: planning.Create, Values: r.Values, Updates: x.intent == "both", Until: asked.Origin.Until})
			continue
		case x.intent == "add":
			refuse(x.layout.Identifies, "the account is there already, and the sheet only adds")
			continue
		}
		for _, verb := range r.Verbs {
			state(planning.Intent{Verb: verb, Until: asked.Origin.Until})
		}
		if len(r.Values) > 0 {
			state(planning.Intent{Verb: planning.Set, Values: r.Values, Until: asked.Origin.Until})
		}
	}
}

// firstFew are lines of which the first are told, and how many more there are.
type firstFew struct {
	lines [3]int
	count int
}

func (f *firstFew) add(line int) {
	if f.count < len(f.lines) {
		f.lines[f.count] = line
	}
	f.count++
}

func (f *firstFew) String() string {
	var words []string
	for _, line := range f.lines[:min(f.count, len(f.lines))] {
		words = append(words, fmt.Sprint(line))
	}
	if more := f.count - len(f.lines); more > 0 {
		return strings.Join(words, ", ") + fmt.Sprintf(" and %d more", more)
	}
	return strings.Join(words, " and ")
}

// called reports whether an account is shown by a name.
func called(accounts *record.Roster, account, name string) bool {
	row, there := accounts.Find(account)
	return there && record.Same(record.Text, record.Label(accounts, row), name)
}

// keys are the accounts of a roster by the values of one attribute.
type keys struct {
	attribute string
	by        map[string][]string // normalised value -> ids
	lost      map[string]string   // what a value becomes that loses its zeros -> the value
	kind      record.Kind
}

func keysOf(accounts *record.Roster, attribute string) keys {
	k := keys{attribute, map[string][]string{}, map[string]string{}, record.KindOf(attribute)}
	if attribute == sheet.Person {
		return k
	}
	for _, row := range accounts.Order() {
		v := accounts.Column(attribute).Cell(int(row))
		if attribute == "id" {
			v = accounts.ID(int(row))
		}
		if v == "" {
			continue
		}
		n := record.Normal(k.kind, v)
		k.by[n] = append(k.by[n], accounts.ID(int(row)))
		if short := strings.TrimLeft(n, "0"); short != n {
			k.lost[short] = v
		}
	}
	return k
}

// find is the account of a key, or why there is none.
func (k keys) find(key string) (id, why string) {
	switch ids := k.by[record.Normal(k.kind, key)]; len(ids) {
	case 1:
		return ids[0], ""
	case 0:
		if full, is := k.lost[record.Normal(k.kind, key)]; is {
			return "", fmt.Sprintf("no account has %s %q; it looks like %q with its zeros lost: format the column as text", k.attribute, key, full)
		}
		return "", fmt.Sprintf("no account has %s %q", k.attribute, key)
	default:
		return "", fmt.Sprintf("%d accounts have %s %q: whose the row is can't be told", len(ids), k.attribute, key)
	}
}
