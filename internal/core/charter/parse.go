package charter

import (
	"cmp"
	"encoding/csv"
	"errors"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"twinning/internal/core/document"
	"twinning/internal/core/record"
)

// Vocabulary names the custom attributes that the systems' shapes declare,
// beside the canonical ones.
type Vocabulary struct{ Person, Account []string }

type reader struct {
	*Charter
	doc      *document.Document
	compiler *compiler
}

// Parse reads and checks a charter. The error, if any, is document.Problems
// with every mistake in it.
func Parse(src []byte, vocabulary Vocabulary) (*Charter, error) {
	doc, root := document.Parse(src)
	r := &reader{Charter: &Charter{Zone: time.UTC, tables: map[string]map[string]string{}}, doc: doc}
	if !root.Present() {
		return nil, doc.Err()
	}
	f := root.Declared(Keys)
	r.readTables(f["tables"])
	r.compiler = newCompiler(vocabulary, r.tables)
	r.stopped = &r.compiler.stopped
	r.readHead(root, f)
	r.readKeys(root, f["pairing"])
	r.Rules = r.readRules(f["attributes"])
	r.noLoops(f["attributes"])
	r.readNames(f["names"])
	r.Emails = r.readEmails(f["emails"])
	r.Groups = r.readGroups(f["groups"])
	r.readClasses(f["classes"])
	r.readSignIn(f["sign-in"])
	r.readLeavers(f["leavers"])
	ours := false
	r.everyEmail(func(e *EmailRule) { ours = ours || e.Ours != nil })
	if ours && r.handOver() != nil {
		f["leavers"].Problem("`emails: {ours: …}` would take away again what `hand-over:` gives to somebody; leave one of them out")
	}
	r.readOrphans(f["orphans"])
	r.readGuards(f["guards"])
	r.readWaves(f["waves"])
	r.readWindows(f["windows"])
	r.readRuns(f["runs"])
	r.readSeals(f["seals"])
	r.readSecrets(f["secrets"])
	r.readInvitations(f["invitations"])
	if err := doc.Err(); err != nil {
		return nil, err
	}
	return r.Charter, nil
}

func (r *reader) readTables(n document.Node) {
	for _, table := range n.Entries() {
		rows := map[string]string{}
		if table.Value.IsMap() {
			for _, row := range table.Value.Entries() {
				rows[row.Key] = row.Value.Text()
			}
		} else {
			rows = readRows(table.Value)
		}
		r.tables[table.Key] = rows
	}
}

// readRows reads a table that was put in as CSV (RFC 4180): a value, and what it becomes.
func readRows(n document.Node) map[string]string {
	rows := map[string]string{}
	list := csv.NewReader(strings.NewReader(n.Text()))
	list.FieldsPerRecord, list.TrimLeadingSpace = 2, true
	for {
		row, err := list.Read()
		if errors.Is(err, io.EOF) {
			return rows
		}
		var wrong *csv.ParseError
		if errors.As(err, &wrong) {
			n.ProblemAt(wrong.StartLine+1, 0, "row %d of the table is not two values with a comma between them: %v", wrong.StartLine, wrong.Err)
			return rows
		}
		if was, twice := rows[row[0]]; twice && was != row[1] {
			line, _ := list.FieldPos(0)
			n.ProblemAt(line+1, 0, "%q becomes %q and %q", row[0], was, row[1])
		}
		rows[row[0]] = row[1]
	}
}

// longestTitle is how many letters a title has at most.
const longestTitle = 100

func (r *reader) readHead(root document.Node, f map[string]document.Node) {
	r.Lane, r.Title = f["lane"].Text(), strings.TrimSpace(f["title"].Text())
	if n := utf8.RuneCountInString(r.Title); n > longestTitle {
		f["title"].Problem("a title has %d letters at most, this one has %d", longestTitle, n)
	}
	if r.Lane == "" {
		root.Problem("`lane:` must name the lane")
	}
	if n, ok := f["zone"]; ok {
		zone, err := time.LoadLocation(n.Text())
		if err != nil {
			n.Problem("%q is no time zone; expected a name such as America/Santiago", n.Text())
		} else {
			r.Zone = zone
		}
	}
	p := f["people"].Declared(Keys)
	r.From, r.OutOf = p["from"].Text(), p["out-of-scope"].Word(Keys, "people.out-of-scope")
	if r.From == "" {
		cmp.Or(f["people"], root).Problem("`people: {from: SYSTEM}` must name the authority")
	}
	if n, ok := p["where"]; ok {
		r.People = r.compiler.compile(n, wantCondition, "person")
	}
	a := f["accounts"].Declared(Keys)
	r.In = a["in"].Text()
	if r.In == "" {
		cmp.Or(f["accounts"], root).Problem("`accounts: {in: SYSTEM}` must name the downstream")
	}
	if n, ok := a["where"]; ok {
		r.Accounts = r.compiler.compile(n, wantCondition, "account")
	}
	if n, ok := a["administrators"]; ok {
		r.Admins = r.compiler.compile(n, wantCondition, "account")
	}
	if n, ok := a["owns"]; ok {
		r.Owns = r.compiler.compile(n, wantValues, "account")
	}
	if n, ok := a["seats"]; ok {
		r.Seats = n.Int(1)
	}
	if r.Pending = DefaultPending; a["pending"].Present() {
		r.Pending = a["pending"].Days()
	}
	if n, ok := a["unused"]; ok {
		r.Unused = n.Days()
	}
	if n, ok := a["most-groups"]; ok {
		r.Most = n.Int(1)
	}
	if n, ok := a["appear-within"]; ok {
		line, _ := n.Place()
		r.Appear = &Wait{Days: n.Days(), Line: line}
	}
	r.readAwaited(f["after"])
	r.Intent = f["intent"].Word(Keys, "intent")
	if n, ok := f["mark"]; ok {
		r.Mark = r.compiler.compile(n, wantText, "person")
	}
}

func (r *reader) readKeys(root, n document.Node) {
	f := n.Declared(Keys)
	if e, ok := f["evidence"]; ok {
		r.readEvidence(e)
	}
	for _, item := range f["keys"].Items() {
		k := item.Declared(Keys)
		line, _ := item.Place()
		key := Key{Name: k["name"].Text(), Line: line}
		if !k["person"].Present() || !k["account"].Present() {
			item.Problem("a key needs `person:` and `account:`, the two expressions that must agree")
			continue
		}
		key.Person = r.compiler.compile(k["person"], wantValues, "person")
		key.Account = r.compiler.compile(k["account"], wantValues, "account")
		if key.Person == nil || key.Account == nil {
			continue
		}
		key.Name = cmp.Or(key.Name, key.Person.Source+" = "+key.Account.Source)
		if slices.ContainsFunc(r.Keys, func(o Key) bool { return o.Name == key.Name }) {
			item.Problem("another key is already called %q", key.Name)
		}
		key.Kind = keyKind(key.Person, key.Account)
		r.Keys = append(r.Keys, key)
	}
	if len(f["keys"].Items()) == 0 {
		cmp.Or(n, root).Problem("`pairing: {keys: […]}` needs at least one key, or nobody is recognised")
	}
}

func keyKind(person, account *Expr) record.Kind {
	for _, e := range []*Expr{person, account} {
		if e.attribute == "" {
			continue
		}
		switch record.KindOf(e.attribute) {
		case record.Email, record.Emails:
			return record.Email
		case record.Phone, record.Phones:
			return record.Phone
		case record.Exact:
			return record.Exact
		}
	}
	return record.Text
}

// unwritable attributes have a section or a verb of their own.
var unwritable = map[string]string{
	"id":     "the id is the system's own",
	"email":  "the primary address is ruled by `emails:`",
	"emails": "addresses are ruled by `emails:`", "aliases": "addresses are ruled by `emails:`",
	"externalId": "the mark is ruled by `mark:`",
	"active":     "an account is suspended and reinstated by `leavers:`, not by an attribute",
	"groups":     "membership is ruled by `groups:`", "nestedGroups": "membership is ruled by `groups:`",
}

func (r *reader) readRules(n document.Node) (list []AttributeRule) {
	known := slices.Concat(record.CanonicalNames(), r.compiler.vocabulary.Account)
	for _, e := range n.Entries() {
		line, _ := e.Value.Place()
		if why, ok := unwritable[e.Key]; ok {
			e.Value.Problem("%s can't be set here: %s", e.Key, why)
			continue
		}
		if !slices.Contains(known, e.Key) {
			e.Value.Problem("unknown attribute %q%s; expected a canonical attribute or one that the accounts' shape declares", e.Key, nearest(e.Key, known))
			continue
		}
		rule := AttributeRule{Attribute: e.Key, Line: line, Path: e.Value.Path(), Rule: Own}
		wanted := wantText
		if record.KindOf(e.Key).Multi() {
			wanted = wantValues
		}
		if !e.Value.IsMap() {
			rule.add(r.compiler.compile(e.Value, wanted, "person", "account", twins))
			list = append(list, rule)
			continue
		}
		f := e.Value.Declared(Keys)
		rule.Rule, rule.Clear, rule.Required = f["rule"].Word(Keys, "attributes.*.rule"), f["clear"].Bool(), f["required"].Bool()
		r.readManage(&rule, e.Key, f)
		if n, ok := f["longest"]; ok {
			rule.Longest = n.Int(1)
		}
		if n, ok := f["seats"]; ok {
			rule.Seats = n.Int(1)
		}
		if rule.Seats > 0 && e.Key == "userName" {
			f["seats"].Problem("a login is nobody else's anyway; `seats:` are of licences and the like")
		}
		rule.After = r.readAfter(f["after"])
		if v, ok := f["value"]; ok {
			rule.add(r.compiler.compile(v, wanted, "person", "account", twins))
		}
		for _, c := range f["candidates"].Items() {
			rule.add(r.compiler.compile(c, wantText, "person", twins))
		}
		switch {
		case !f["value"].Present() && !f["candidates"].Present():
			e.Value.Problem("%s needs `value:` or `candidates:`", e.Key)
		case f["candidates"].Present() && e.Key != "userName":
			e.Value.Problem("`candidates:` are for userName; %s takes one `value:`", e.Key)
		}
		list = append(list, rule)
	}
	return list
}

// readAfter reads what must be there before.
func (r *reader) readAfter(n document.Node) (list []string) {
	known := slices.Concat(record.CanonicalNames(), r.compiler.vocabulary.Account)
	for _, item := range n.Items() {
		name := item.Text()
		if !slices.Contains(known, name) {
			item.Problem("unknown attribute %q%s; expected a canonical attribute or one that the accounts' shape declares", name, nearest(name, known))
		}
		list = append(list, name)
	}
	return list
}

// noLoops: no attribute is to be written before itself.
func (r *reader) noLoops(n document.Node) {
	after := map[string][]string{}
	for _, rule := range r.Rules {
		after[rule.Attribute] = rule.After
	}
	var reaches func(from, to string, seen map[string]bool) bool
	reaches = func(from, to string, seen map[string]bool) bool {
		return slices.ContainsFunc(after[from], func(next string) bool {
			if next == to {
				return true
			}
			met := seen[next]
			seen[next] = true
			return !met && reaches(next, to, seen)
		})
	}
	for _, rule := range r.Rules {
		if reaches(rule.Attribute, rule.Attribute, map[string]bool{}) {
			n.Problem("%s is to be written before itself: its `after:` comes back to it", rule.Attribute)
			return
		}
	}
}

// readManage reads what of a list may be taken away.
func (r *reader) readManage(rule *AttributeRule, attribute string, f map[string]document.Node) {
	for _, key := range []string{"manage", "ours"} {
		if f[key].Present() && !record.KindOf(attribute).Multi() {
			f[key].Problem("`%s:` is for lists; %s has one value", key, attribute)
			return
		}
	}
	rule.All = f["manage"].Word(Keys, "attributes.*.manage") == "all"
	if rule.All && f["ours"].Present() {
		f["ours"].Problem("with `manage: all` everything is ours; leave one of them out")
	}
	rule.Ours = readOurs(f["ours"])
}

// readOurs reads the pattern of values that are ours, nil where there is none.
func readOurs(n document.Node) *regexp.Regexp {
	if !n.Present() {
		return nil
	}
	pattern, err := readPattern(`^(?:` + n.Text() + `)$`)
	if err != nil {
		n.Problem("%q is no pattern: %v", n.Text(), err)
		return nil
	}
	return pattern
}

func (r *AttributeRule) add(e *Expr) {
	if e != nil {
		r.Candidates = append(r.Candidates, e)
	}
}

// Verbs lists what a guard may limit.
var Verbs = []string{"create", "mark", "set", "rename", "readdress", "place", "enrol", "withdraw", "suspend", "reinstate", "hide", "unhide", "reissue", "invite", "delete"}

func (r *reader) readGuards(n document.Node) {
	r.Drop, r.Coverage, r.Age = DefaultDrop, DefaultCoverage, DefaultAge
	for _, e := range n.Entries() {
		switch e.Key {
		case "first-load":
			r.First = e.Value.Bool()
			continue
		case "roster-drop":
			r.Drop = e.Value.Percent()
			continue
		case "coverage-drop":
			r.Coverage = e.Value.Percent()
			continue
		case "roster-age":
			r.Age = e.Value.Days()
			continue
		}
		known := append([]string{"first-load", "roster-drop", "coverage-drop", "roster-age"}, Verbs...)
		if !slices.Contains(Verbs, e.Key) {
			e.Value.Problem("unknown guard %q%s; expected one of %v", e.Key, document.Suggest(e.Key, known), known)
			continue
		}
		line, _ := e.Value.Place()
		g := Guard{Verb: e.Key, Line: line, Within: 1}
		f := e.Value.Declared(Keys)
		if v, ok := f["more-than"]; ok {
			g.MoreThan = v.Int(0)
		}
		if v, ok := f["or"]; ok {
			g.Share = v.Percent()
		}
		if v, ok := f["within"]; ok {
			g.Within = v.Days()
		}
		r.Guards = append(r.Guards, g)
	}
	for _, g := range DefaultGuards {
		if !slices.ContainsFunc(r.Guards, func(o Guard) bool { return o.Verb == g.Verb }) {
			r.Guards = append(r.Guards, g)
		}
	}
}

func (r *reader) readWaves(n document.Node) {
	items := n.Items()
	for i, item := range items {
		f := item.Declared(Keys)
		w := Wave{Name: f["name"].Text()}
		if w.Name == "" {
			item.Problem("a wave needs a name")
		}
		for _, p := range f["people"].Items() {
			if w.People == nil {
				w.People = map[string]bool{}
			}
			w.People[p.Text()] = true
		}
		if c, ok := f["when"]; ok {
			w.When = r.compiler.compile(c, wantCondition, "person", "account")
		} else if w.Takes() && i < len(items)-1 {
			item.Problem("wave %q takes everybody, so the waves below it would stay empty; give it `when:` or `people:`, or put it last", w.Name)
		}
		w.pause(f["pause"])
		r.Waves = append(r.Waves, w)
	}
	if n := len(r.Waves); n > 0 && (r.Waves[n-1].GoAhead || r.Waves[n-1].Pause > 0) {
		line, column := items[n-1].Place()
		r.Notes = append(r.Notes, document.Problem{Line: line, Column: column, Path: items[n-1].Path(), Message: "nothing comes after the last wave, so there is nothing to pause before"})
	}
	if len(items) == 0 {
		r.Waves = []Wave{{Name: "everybody"}}
	}
}

// Systems reads only which systems a charter names, from whatever of it can be
// read.
func Systems(src []byte) (from, in string) {
	_, root := document.Parse(src)
	for _, e := range root.Entries() {
		for _, f := range e.Value.Entries() {
			switch e.Key + "." + f.Key {
			case "people.from":
				from = f.Value.Text()
			case "accounts.in":
				in = f.Value.Text()
			}
		}
	}
	return from, in
}
