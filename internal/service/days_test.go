package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"twinning/internal/access"
	"twinning/internal/connector"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
	"twinning/internal/explain"
	"twinning/internal/fault"
	"twinning/internal/store"
)

// days are the lanes of one scenario on a database whose clock the scenario moves:
// what happens to them is told in testdata/days.txtar, a command a line and below
// it what came of it.
type days struct {
	who     access.Caller // whoever seals, and decides what is in a plan
	t       *testing.T
	service *Service
	books   map[string]*book
	rules   map[string][]string // by lane
	fill    map[string]*strings.Replacer
	n       int          // of the scenario: what it names is its own
	shift   atomic.Int64 // nanoseconds
	clock   *pgx.Conn
	deaths  int // processes that end over the next task
	post    post
	// lettersOf is the system that is told when a letter is opened
	lettersOf string
}

// book is a system of a scenario: records as lines, in columns.
type book struct {
	d         *days
	people    bool
	columns   []string
	rows      map[string]string // by id; faults of the next readings beside them, by themselves
	meanwhile map[string][]string
	answers   []string // how the next writes are answered
	deferred  bool     // it speaks in files: what is written shows later
	groups    bool     // its roles are groups
	sent      []string // and has not come about
	made      int
	blind     bool   // it does not answer when it is asked for something
	busy      int    // how many more readings of a record it is too busy for
	confused  int    // how many more readings of a record are answered with another one
	dies      bool   // once it has written next
	ignores   string // the column that its next write leaves as it is
	pretends  string // whom its next answer is about, where that is somebody else
	secrets   map[string]string
	given     []string // all secrets that were ever set
	effects   []string // what its writes have changed, in order: id column value
}

var bookColumns = map[bool]string{true: "id given family title email active roles boss home", false: "id login mark given family title email aliases active roles boss hidden pending seen"}

var dayRules = []string{
	`lane: LANE`,
	`people: {from: PEOPLE}`,
	`accounts: {in: ACCOUNTS}`,
	`mark: person.id`,
	`pairing: {keys: [{name: number, person: person.id, account: account.externalId}, {name: mail, person: person.email, account: account.emails}]}`,
	`attributes: {userName: {candidates: [slug(initial(person.givenName) + person.familyName), slug(person.givenName + '.' + person.familyName)], rule: once}, givenName: person.givenName, familyName: person.familyName, title: person.title}`,
	`emails: {primary: person.email, rule: own, former: keep}`,
	`leavers: {grace: {readings: 1, days: 0}, stages: [{after: 0d, do: [suspend]}]}`,
	`guards: {suspend: {more-than: 5}, roster-drop: 90%, coverage-drop: 90%}`,
}

// noon is when every scenario begins, a year after the one before.
var noon = time.Date(2030, 1, 1, 12, 0, 0, 0, time.UTC)

func newDays(t *testing.T, s *store.Store, clock *pgx.Conn, n int) *days {
	d := &days{t: t, who: tester, clock: clock, books: map[string]*book{}, rules: map[string][]string{}, fill: map[string]*strings.Replacer{}, n: n}
	d.shift.Store(int64(time.Until(noon.AddDate(n, 0, 0))))
	cfg := stage.Config
	cfg.Store, cfg.Now = s, func() time.Time { return time.Now().Add(time.Duration(d.shift.Load())) }
	cfg.Post = d.openLetter
	cfg.Connectors = map[string]connector.Factory{"book": func(c connector.Config) (connector.Connector, error) { return d.books[c.Settings["name"]], nil }}
	d.service = New(cfg)
	d.later(0)
	return d
}

func (d *days) later(by time.Duration) {
	d.shift.Add(int64(by))
	_, err := d.clock.Exec(context.Background(), `UPDATE clock.shift SET by = $1 * interval '1 millisecond'`, time.Duration(d.shift.Load()).Milliseconds())
	require.NoError(d.t, err)
}

// agreed seals, if need be with the reason that the first plan of a lane needs whose guards allow
// more than the defaults do; nothing else that stands in the way is overruled by it.
func agreed(reason string, seal func(reason string) (PlanView, error)) (PlanView, error) {
	p, err := seal(reason)
	var told *fault.Error
	if reason != "" || !errors.As(err, &told) || told.Cause != "guard-exceeded" {
		return p, err
	}
	for _, why := range strings.Split(told.Detail, "; ") {
		if !strings.HasSuffix(why, " by default") {
			return p, err
		}
	}
	return seal("agreed on before the first plan")
}

// own is a name as the service has it.
func (d *days) own(name string) string { return fmt.Sprintf("%s-%d", name, d.n) }

// numbers are other ones when a scenario is played by itself.
var numbers = regexp.MustCompile(`\b(plan show|plan|ruling|void|run|settle N|settle|roster|collect) \d+`)

// logged is where the log has more.
var logged = regexp.MustCompile(`under [\w-]{12}$`)

// others are the lanes of other scenarios, one of which may be meant.
var others = regexp.MustCompile(`(there is no lane "[^"]*").*`)

func (d *days) plain(text string) string {
	for later := range 2 { // and every scenario is told as if it were the first
		text = strings.ReplaceAll(text, fmt.Sprintf("%d-", noon.Year()+d.n+later), fmt.Sprintf("%d-", noon.Year()+later))
	}
	text = logged.ReplaceAllString(text, "under N")
	text = others.ReplaceAllString(numbers.ReplaceAllString(text, "$1 N"), "$1")
	return numbers.ReplaceAllString(strings.ReplaceAll(text, fmt.Sprintf("-%d", d.n), ""), "$1 N")
}

func (d *days) newest(lane string) PlanView {
	list, _, err := d.service.Plans(context.Background(), d.own(lane), store.Page{Limit: 1})
	require.NoError(d.t, err)
	if len(list) == 0 {
		return PlanView{}
	}
	return list[0]
}

// perform does what is queued, and tells what went wrong with it.
func (d *days) perform() (told []string) {
	for ; d.deaths > 0; d.deaths-- {
		_, err := d.service.Store.ClaimTask(context.Background(), "elsewhere", fmt.Sprint("process ", d.deaths), -time.Second, nil)
		require.NoError(d.t, err)
	}
	for range 20 {
		did, err := d.service.Perform(context.Background())
		if err != nil {
			told = append(told, "! "+err.Error())
		}
		if !did {
			return told
		}
	}
	return told
}

// do carries a command out and tells what came of it.
func (d *days) do(line string) (told []string) {
	ctx := context.Background()
	words := append(strings.Fields(line), "", "", "", "", "")
	verb, name := words[0], d.own(words[1])
	var err error
	switch verb {
	case "put": // a record, or a fault of the next readings
		d.books[words[1]].put(strings.Join(words[2:], " "))
	case "drop":
		for _, what := range []string{words[2], strings.TrimSpace(strings.Join(words[2:], " "))} {
			delete(d.books[words[1]].rows, what)
		}
	case "list":
		b := d.books[words[1]]
		for _, id := range slices.Sorted(maps.Keys(b.rows)) {
			told = append(told, b.rows[id])
		}
	case "answer": // how the next writes are answered
		d.books[words[1]].answers = append(d.books[words[1]].answers, strings.Fields(line)[2:]...)
	case "meanwhile": // something happens while a system is asked
		b := d.books[words[1]]
		b.meanwhile[words[2]] = append(b.meanwhile[words[2]], strings.Join(words[3:], " "))
	case "see":
		d.books[words[1]].blind = false
	case "confused": // the next so many that ask for one record are given the one behind it
		d.books[words[1]].confused, err = strconv.Atoi(words[2])
		require.NoError(d.t, err)
	case "busy": // for the next so many that ask for one record
		d.books[words[1]].busy, err = strconv.Atoi(words[2])
		require.NoError(d.t, err)
	case "later":
		by, bad := time.ParseDuration(words[1])
		require.NoError(d.t, bad)
		d.later(by)
	case "tick": // of the service's clock alone: what it has in hand stays its own
		by, bad := time.ParseDuration(words[1])
		require.NoError(d.t, bad)
		d.shift.Add(int64(by))
		return nil
	case "take":
		if _, err = d.service.TakeRoster(ctx, tester, name, Taking{}); err == nil {
			told = d.perform()
			x, broken := d.service.System(ctx, name)
			require.NoError(d.t, broken)
			list, _, broken := d.service.Rosters(ctx, name, store.Page{Limit: 1})
			require.NoError(d.t, broken)
			if len(list) == 0 {
				tasks, _, broken := d.service.Tasks(ctx, store.Page{Limit: 1})
				require.NoError(d.t, broken)
				told = append(told, fmt.Sprintf("! %s: %s", tasks[0].State, tasks[0].Message))
			} else if x.Latest == nil || list[0].ID != x.Latest.ID {
				told = append(told, "! not kept: "+list[0].Error)
			}
		}
	case "reconcile":
		if _, err = d.service.Reconcile(ctx, tester, name, false); err == nil {
			told = append(d.perform(), d.withheld(name)...)
		}
	case "draft":
		var p PlanView
		if p, err = d.service.Draft(ctx, tester, name, Selection{}); err == nil {
			told = d.drafted(p)
		}
	case "seal":
		p := d.newest(words[1])
		if p, err = agreed(strings.TrimSpace(strings.Join(words[2:], " ")), func(reason string) (PlanView, error) { return d.service.Seal(ctx, d.who, p.ID, p.Hash, reason) }); err == nil {
			told = []string{string(p.State)}
		}
	case "start": // without doing it yet
		p := d.newest(words[1])
		_, err = d.service.StartRun(ctx, tester, p.ID, p.Hash, RunOrder{Wave: words[2]})
	case "perform":
		told = append(d.perform(), d.ran(words[1])...)
	case "run":
		p := d.newest(words[1])
		if _, err = d.service.StartRun(ctx, tester, p.ID, p.Hash, RunOrder{Wave: words[2]}); err == nil {
			told = append(d.perform(), d.ran(words[1])...)
		}
	case "work": // a working day
		l, broken := d.service.Lane(ctx, name)
		require.NoError(d.t, broken)
		for _, step := range []string{"take " + d.plain(l.Authority), "take " + d.plain(l.Downstream), "reconcile " + words[1], "draft " + words[1], "seal " + words[1] + " " + words[2], "run " + words[1]} {
			part := d.do(step)
			if told = append(told, part...); len(part) > 0 && strings.HasPrefix(part[len(part)-1], "! ") {
				break
			}
		}
	case "deaths": // so many processes end over the next task
		d.deaths, err = strconv.Atoi(words[1])
		require.NoError(d.t, err)
	case "void":
		_, err = d.service.Void(ctx, tester, d.newest(words[1]).ID, "")
	case "halt":
		if p := d.newest(words[1]); p.Run != nil {
			_, err = d.service.Halt(ctx, tester, *p.Run)
		}
	case "verify":
		if _, err = d.service.Verify(ctx, tester, *d.newest(words[1]).Run); err == nil {
			told = append(d.perform(), d.ran(words[1])...)
		}
	case "rule":
		blank := func(s string) string { return strings.TrimPrefix(s, "-") }
		r := store.Ruling{Kind: words[2], Person: blank(words[3]), Account: blank(words[4]), Reason: "looked at"}
		if words[5] != "" { // +N days from now
			days, bad := strconv.Atoi(words[5])
			require.NoError(d.t, bad)
			until := d.service.Now().AddDate(0, 0, days).Format(time.DateOnly)
			r.Until = &until
		}
		_, err = d.service.Rule(ctx, tester, name, r, "")
	case "clear":
		list, broken := d.service.Rulings(ctx, name)
		require.NoError(d.t, broken)
		for _, r := range list {
			require.NoError(d.t, d.service.ClearRuling(ctx, tester, name, r.ID))
		}
	case "freeze", "thaw":
		_, err = d.service.SetFreeze(ctx, tester, verb == "freeze", "asked")
	case "open", "close":
		_, err = d.service.SetWriting(ctx, tester, name, verb == "open", 0)
	case "share": // its names, with the others of a namespace
		var x store.System
		if x, err = d.service.Store.SystemByName(ctx, name); err == nil {
			x.Namespace = d.own("names")
			_, err = d.service.PutSystem(ctx, tester, x, Putting{})
		}
	case "observe", "act":
		_, err = d.service.SetObserving(ctx, tester, name, verb == "observe")
	case "charter": // one of its lines becomes another
		err = d.charter(words[1], strings.TrimSpace(strings.TrimPrefix(line, "charter "+words[1])))
	case "settle": // LANE VERB done|not-done ACCOUNT, of the newest that is open
		l, broken := d.service.Store.LaneByName(ctx, name)
		require.NoError(d.t, broken)
		open, broken := d.service.Store.Opened(ctx, l.ID)
		require.NoError(d.t, broken)
		i := slices.IndexFunc(open, func(o store.OpenChange) bool { return o.Verb == words[2] })
		if i < 0 {
			return []string{"nothing of that is open"}
		}
		var r store.Receipt
		if r, err = d.service.Settle(ctx, tester, open[i].RunID, open[i].Number, words[3] == "done", words[4], "looked at"); err == nil {
			told = []string{r.Outcome + " " + r.Verb + ": " + r.Detail}
		}
	case "arrive": // what a system that speaks in files was sent comes about
		b := d.books[words[1]]
		for _, row := range b.sent {
			if id, gone := strings.CutPrefix(row, "gone "); gone {
				delete(b.rows, id)
				continue
			}
			b.put(row)
		}
		b.sent = nil
	case "lose": // or never does
		d.books[words[1]].sent = nil
	case "accept", "unaccept", "assign", "release": // LANE CODE [HOW MANY], all of the code at once
		act := FindingAct{Act: verb, FindingSelection: FindingSelection{Which: store.FindingFilter{Code: words[2]}, Expect: -1}, Reason: "looked at"}
		if len(words) > 3 {
			if n, broken := strconv.Atoi(words[3]); broken == nil {
				act.Expect = n
			}
		}
		if verb == "assign" {
			act.To = tester.Name
			if _, broken := d.service.Store.AddUser(ctx, store.User{Name: act.To, Key: act.To, Rights: store.Array[string]{"work"}}); broken != nil {
				require.ErrorIs(d.t, broken, store.ErrTaken)
			}
		}
		if verb == "release" {
			act.Act = "assign"
		}
		_, err = d.service.ActOnFindings(ctx, tester, name, act)
	case "findings": // LANE [new|mine]
		which := store.FindingFilter{New: slices.Contains(words, "new")}
		if slices.Contains(words, "mine") {
			which.AssignedTo = tester.Name
		}
		found, broken := d.service.Findings(ctx, name, which, store.Page{Limit: 50, Count: true})
		require.NoError(d.t, broken)
		require.Len(d.t, found.Items, found.Total)
		for _, f := range found.Items {
			told = append(told, strings.Join(strings.Fields(fmt.Sprintf("%s %s %s %s", f.Code, f.Person, f.Account, map[bool]string{true: "accepted"}[f.Accepted])), " "))
		}
	case "gone":
		list, _, _, broken := d.service.GoneFindings(ctx, name, "", store.Page{Limit: 50})
		require.NoError(d.t, broken)
		for _, f := range list {
			told = append(told, strings.Join(strings.Fields(fmt.Sprintf("%s %s %s", f.Code, f.Person, f.Account)), " "))
		}
	case "intentions":
		list, _, _, broken := d.service.Intentions(ctx, name, "", "", store.Page{Limit: 50})
		require.NoError(d.t, broken)
		for _, i := range list {
			told = append(told, strings.Join(strings.Fields(fmt.Sprintf("%s %s %s %s %s %s", i.Due, i.Verb, i.Person, i.Account, i.Waits, i.Cancelled)), " "))
		}
	case "cancel", "restore": // LANE VERB ACCOUNT
		list, _, _, broken := d.service.Intentions(ctx, name, words[2], "", store.Page{Limit: 50, Text: words[3]})
		require.NoError(d.t, broken)
		require.Len(d.t, list, 1)
		if verb == "cancel" {
			err = d.service.CancelIntention(ctx, tester, name, list[0].ID, "kept for now")
		} else {
			err = d.service.RestoreIntention(ctx, tester, name, list[0].ID)
		}
	case "remove":
		err = d.service.RemoveLane(ctx, tester, name)
	case "why":
		var w *explain.Why
		if w, err = d.service.Why(ctx, name, strings.TrimPrefix(words[2], "-"), words[3]); err == nil {
			told = whyWords(w)
		}
	case "offer": // LANE OTHER [PERSON-BY [ACCOUNT-BY]]
		list, broken := d.service.OfferBonds(ctx, name, d.own(words[2]), Offering{PersonBy: words[3], AccountBy: words[4]})
		for err = broken; len(list) > 0; list = list[1:] {
			b := list[0]
			told = append(told, strings.TrimSuffix(fmt.Sprintf("%s=%s is %s=%s; %s", b.Person, b.Account, b.ToPerson, b.ToAccount, b.Misfit), "; "))
		}
	case "bonds":
		list, broken := d.service.Bonds(ctx, name)
		require.NoError(d.t, broken)
		for _, b := range list {
			told = append(told, b.Person+" "+b.Account)
		}
	default:
		var known bool
		if told, known, err = d.deliveries(words); known {
			break
		}
		if told, known, err = d.plans(words); !known {
			d.t.Fatalf("%q is no command", line)
		}
	}
	if err != nil {
		told = append(told, "! "+err.Error())
	}
	for i := range told {
		told[i] = d.plain(told[i])
	}
	return told
}

// whyWords tells the verdict, what made it, and what to do.
func whyWords(w *explain.Why) (told []string) {
	told = append(told, strings.TrimSuffix(strings.Join(strings.Fields(w.State+" "+w.Basis+" "+w.Note), " "), " "))
	for _, k := range w.Keys {
		told = append(told, fmt.Sprintf("key %s %q %q: %s", k.Key, k.Person, k.Account, k.Verdict))
	}
	for _, a := range w.Attributes {
		if !a.Equal && a.Person != "" && a.Account != "" {
			told = append(told, strings.TrimSuffix(fmt.Sprintf("%s %q %q: %s", a.Attribute, a.Person, a.Account, a.Said), ": "))
		}
	}
	for _, p := range w.Proposals {
		told = append(told, fmt.Sprintf("proposal %s %s: %s", p.Person, p.Account, p.Reason))
	}
	for _, r := range w.Rulings {
		told = append(told, strings.Join(strings.Fields(fmt.Sprintf("ruled %s %s %s", r.Kind, r.Person, r.Account)), " "))
	}
	for _, n := range w.Next {
		told = append(told, "next: "+n)
	}
	return told
}

var otherLane = regexp.MustCompile(`(accountIn\('|after: \{lane: )(\w+)`)

func (d *days) charter(lane, line string) error {
	d.rule(lane, line)
	_, err := d.service.PutCharter(context.Background(), tester, d.own(lane), strings.Join(d.rules[lane], "\n"), -1, "")
	return err
}

// rule is one of a lane's, in place of that of the same key.
func (d *days) rule(lane, line string) {
	line = otherLane.ReplaceAllStringFunc(d.fill[lane].Replace(line), func(ask string) string {
		parts := otherLane.FindStringSubmatch(ask)
		return parts[1] + d.own(parts[2])
	})
	key, _, _ := strings.Cut(line, ":")
	i := slices.IndexFunc(d.rules[lane], func(s string) bool { return strings.HasPrefix(s, key+":") })
	if i < 0 {
		d.rules[lane] = append(d.rules[lane], line)
	} else {
		d.rules[lane][i] = line
	}
}

func (d *days) withheld(lane string) (told []string) {
	list, _, _, err := d.service.Withheld(context.Background(), lane, "", store.Page{Limit: 50})
	require.NoError(d.t, err)
	for _, w := range list {
		told = append(told, fmt.Sprintf("withheld %s %s: %s", w.Verb, strings.TrimSpace(w.Person+" "+w.Account), w.Reason))
	}
	found, err := d.service.Findings(context.Background(), lane, store.FindingFilter{}, store.Page{Limit: 50})
	require.NoError(d.t, err)
	for _, f := range found.Items {
		told = append(told, strings.Join(strings.Fields(fmt.Sprintf("finding %s %s %s %s", f.Code, f.Person, f.Account, map[bool]string{true: f.Detail}[f.Code == "leaver-active"])), " "))
	}
	questions, err := d.service.Questions(context.Background(), lane, store.QuestionFilter{Most: 1}, store.Page{Limit: 50})
	require.NoError(d.t, err)
	for _, q := range questions.Items {
		told = append(told, fmt.Sprintf("ask %s %s", q.Person, q.Account))
	}
	return told
}

func (d *days) drafted(p PlanView) (told []string) {
	list, _, _, err := d.service.Changes(context.Background(), p.ID, "", "", store.Page{Limit: 50})
	require.NoError(d.t, err)
	for _, c := range list {
		line := strings.Join(strings.Fields(fmt.Sprintf("%s %s %s", c.Verb, c.Person, c.Account)), " ")
		for _, e := range c.Edits {
			line += fmt.Sprintf(" %s:%s→%s", e.Attribute, strings.Join(e.Old, ";"), strings.Join(e.New, ";"))
		}
		told = append(told, line)
	}
	for _, f := range p.Fallen {
		told = append(told, fmt.Sprintf("fell %s of %s: %s", f.Verb, f.Label, f.Reason))
	}
	lowered := slices.DeleteFunc(slices.Clone(p.Lowered.V), func(l string) bool { return strings.HasSuffix(l, " by default") }) // as in every scenario
	for _, l := range lowered {
		told = append(told, "lowered "+l)
	}
	var guards []planning.Reading
	require.NoError(d.t, json.Unmarshal(p.Guards, &guards))
	if p.Stopped && (len(lowered) > 0 || slices.ContainsFunc(guards, func(g planning.Reading) bool { return g.Tripped })) {
		told = append(told, "stopped by a guard")
	}
	return told
}

func (d *days) ran(lane string) (told []string) {
	p := d.newest(lane)
	list, _, _, err := d.service.Changes(context.Background(), p.ID, "", "", store.Page{Limit: 50})
	require.NoError(d.t, err)
	for _, c := range list {
		line := strings.Join(strings.Fields(fmt.Sprintf("%s %s %s %s %s", c.Outcome, c.Verb, c.Person, c.Account, c.Verified)), " ")
		if c.Outcome == "" {
			line = "not yet " + line
		}
		if c.Detail != "" {
			line += ": " + c.Detail
		}
		told = append(told, line)
	}
	if p.Run != nil {
		if r, err := d.service.Run(context.Background(), *p.Run); err == nil && r.Message != "" {
			told = append(told, fmt.Sprintf("%s: %s", r.State, r.Message))
		}
	}
	return told
}

// put takes a record in, or a fault: its place among the rows is its own text.
func (b *book) put(line string) {
	line = strings.TrimSpace(line)
	first, _, _ := strings.Cut(line, " ")
	if slices.Contains([]string{"!", "~", "-", "fail"}, first) {
		first = line
	}
	b.rows[first] = line
}

// value reads a cell of a row.
func (b *book) value(row, column string) string {
	cells := strings.Fields(row)
	if i := slices.Index(b.columns, column); i < len(cells) && cells[i] != "-" {
		return cells[i]
	}
	return ""
}

func (b *book) record(row string) connector.Record {
	r := connector.Record{Values: map[string][]string{}, Version: row}
	for _, c := range b.columns {
		if v := b.value(row, c); v != "" {
			r.Values[c] = strings.Split(v, ";")
		}
	}
	r.ID = b.value(row, "id")
	return r
}

func (b *book) Declare() connector.Declaration {
	shape := record.Shape{Stable: true, Attributes: map[string]record.Source{}}
	for attribute, native := range map[string]string{"id": "id", "givenName": "given", "familyName": "family", "title": "title", "email": "email", "active": "active", "roles": "roles", "manager": "boss", "personalEmail": "home"} {
		shape.Attributes[attribute] = record.Source{Native: native}
	}
	d := connector.Declaration{Kind: "book", Scope: "all", Extents: []string{connector.Whole, connector.Sample}}
	if !b.people {
		for attribute, native := range map[string]string{"userName": "login", "externalId": "mark", "aliases": "aliases", "hidden": "hidden", "pending": "pending", "lastSignIn": "seen"} {
			shape.Attributes[attribute] = record.Source{Native: native}
		}
		shape.Attributes["manager"] = record.Source{Native: "boss", Refers: "login"}
		if b.groups {
			delete(shape.Attributes, "roles")
			shape.Attributes["groups"] = record.Source{Native: "roles"}
		}
		shape.Mark = "externalId"
		d.Writes, d.ReadsOne, d.Finds, d.Deferred = true, !b.deferred, "mark", b.deferred
		d.Verbs = []string{"create", "mark", "set", "rename", "readdress", "suspend", "reinstate", "hide", "unhide", "enrol", "withdraw", "reissue", "delete"}
	}
	d.Shape = shape
	return d
}

func (b *book) happens(call string) {
	if list := b.meanwhile[call]; len(list) > 0 {
		b.meanwhile[call] = list[1:]
		for _, told := range b.d.do(list[0]) {
			b.d.t.Logf("meanwhile %s: %s", list[0], told)
		}
	}
}

func (b *book) Read(ctx context.Context, _ connector.Reading, sink connector.Sink) (string, error) {
	b.happens("read")
	for _, id := range slices.Sorted(maps.Keys(b.rows)) {
		row := b.rows[id]
		if id != row { // else a fault, or what is left out
			for i, c := range strings.Fields(row) {
				row = map[bool]string{true: c, false: row + " " + b.columns[i] + "=" + c}[i == 0]
			}
			row = strings.NewReplacer("=- ", "= ", ";", "|").Replace(row + " ")
		}
		if err := (&script{}).play(ctx, row, sink); err != nil {
			return "", err
		}
	}
	return "", nil
}

func (b *book) One(_ context.Context, id string) (connector.Record, error) {
	b.happens("one")
	if err := b.unseen(); err != nil {
		return connector.Record{}, err
	}
	if b.busy > 0 {
		b.busy--
		return connector.Record{}, &connector.Error{Kind: []connector.Kind{connector.Throttled, connector.Unanswered, connector.Unreachable}[b.busy%3], Doing: "read", Target: "the book", Reason: "it is busy"}
	}
	if b.confused > 0 {
		b.confused--
		ids := slices.Sorted(maps.Keys(b.rows))
		id = ids[(slices.Index(ids, id)+1)%len(ids)]
	}
	if row, ok := b.rows[id]; ok {
		return b.record(row), nil
	}
	return connector.Record{}, &connector.Error{Kind: connector.NotFound, Doing: "read", Target: id, Reason: "it is not there"}
}

// unseen is the answer of a system that can't be asked.
func (b *book) unseen() error {
	if !b.blind {
		return nil
	}
	return &connector.Error{Kind: connector.Refused, Doing: "read", Target: "the book", Reason: "reading is closed for now"}
}

func (b *book) matching(test func(row string) bool) (list []connector.Record) {
	for _, id := range slices.Sorted(maps.Keys(b.rows)) {
		if row := b.rows[id]; row != id && test(row) {
			list = append(list, b.record(row))
		}
	}
	return list
}

func (b *book) Find(_ context.Context, native, value string) ([]connector.Record, error) {
	b.happens("find")
	if err := b.unseen(); err != nil {
		return nil, err
	}
	return b.matching(func(row string) bool { return b.value(row, native) == value }), nil
}

func (b *book) Holders(_ context.Context, name string) (ids []string, _ error) {
	b.happens("holders")
	holds := func(row string) bool {
		return strings.EqualFold(b.value(row, "login"), name) || strings.EqualFold(b.value(row, "email"), name) || slices.Contains(strings.Split(b.value(row, "aliases"), ";"), name)
	}
	for _, r := range b.matching(holds) {
		ids = append(ids, r.ID)
	}
	return ids, nil
}

// answer is how the next write is answered: before it is done, or after.
func (b *book) answer() (before, after error) {
	b.happens("write")
	answer := "done"
	if len(b.answers) > 0 {
		answer, b.answers = b.answers[0], b.answers[1:]
	}
	failed := &connector.Error{Kind: connector.Unanswered, Doing: "write", Target: "the book", Reason: "no answer", Answered: true}
	switch answer {
	case "refused":
		failed.Kind, failed.Reason = connector.Refused, "the value is not liked"
		return failed, nil
	case "blind": // it is done, nobody hears of it, and looking it up does not tell
		b.blind = true
		return nil, failed
	case "blind-not-done":
		b.blind = true
		return failed, nil
	case "not-done":
		return failed, nil
	case "dies":
		panic("the process ends while it writes")
	case "dies-after":
		b.dies = true
	case "doubled", "doubled-stale": // it comes twice, and the second answer is heard
		return nil, &connector.Error{Kind: map[string]connector.Kind{"doubled": connector.Conflict, "doubled-stale": connector.Stale}[answer], Doing: "write", Target: "the book", Reason: "it exists", Answered: true}
	case "lost":
		return nil, failed
	}
	if strings.HasPrefix(answer, "as:") || strings.HasPrefix(answer, "marked:") { // it is done, and the answer is about somebody else
		b.pretends = answer
	}
	if column, is := strings.CutPrefix(answer, "ignores:"); is { // all but that is done
		b.ignores = column
	}
	if kind, is := strings.CutPrefix(answer, "kind:"); is { // one of the connector's own, and nothing is done
		failed.Kind, failed.Reason, failed.Answered = kindsOfErrors[kind], "it says so", false
		return failed, nil
	}
	return nil, nil
}

func (b *book) Delete(_ context.Context, r connector.Record) error {
	before, after := b.answer()
	switch {
	case before != nil:
		return before
	case b.deferred:
		b.sent = append(b.sent, "gone "+r.ID)
	default:
		delete(b.rows, r.ID)
	}
	return after
}

func (b *book) Write(_ context.Context, w connector.Write) (connector.Record, error) {
	before, after := b.answer()
	if before != nil {
		return connector.Record{}, before
	}
	values := map[string][]string{"active": {"true"}}
	if w.Record != nil {
		values = maps.Clone(w.Record.Values)
	} else {
		b.made++
		values["id"] = []string{fmt.Sprintf("n%d", b.made)}
	}
	for _, e := range w.Edits {
		if e.Native == b.ignores {
			continue
		}
		if was := strings.Join(values[e.Native], ";"); was != strings.Join(e.New, ";") {
			b.effects = append(b.effects, fmt.Sprintf("%s %s %s", strings.Join(values["id"], ""), e.Native, cmp.Or(strings.Join(e.New, ";"), "-")))
		}
		values[e.Native] = e.New
	}
	b.ignores = ""
	row := ""
	for _, c := range b.columns {
		cell := strings.Join(values[c], ";")
		row += " " + map[bool]string{true: "-", false: cell}[cell == ""]
	}
	for range 5 { // most have neither roles nor a manager, and show
		row = strings.TrimSuffix(row, " -")
	}
	if b.deferred {
		b.sent = append(b.sent, row)
		return b.record(strings.TrimSpace(row)), nil
	}
	b.put(row)
	if b.dies {
		b.dies = false
		panic("the process ends when it has written")
	}
	if after != nil {
		return connector.Record{}, after
	}
	said := b.record(strings.TrimSpace(row))
	if id, is := strings.CutPrefix(b.pretends, "as:"); is {
		said.ID = id
	}
	if mark, is := strings.CutPrefix(b.pretends, "marked:"); is {
		said.Values = maps.Clone(said.Values)
		said.Values["mark"] = []string{mark}
	}
	b.pretends = ""
	return said, nil
}

// begin makes the systems and lanes of a scenario's head.
func (d *days) begin(line string, below []string) {
	ctx := context.Background()
	words := strings.Fields(line)
	if words[0] == "lane" {
		d.rules[words[1]] = slices.Clone(dayRules)
		fill := strings.NewReplacer("LANE", d.own(words[1]), "PEOPLE", d.own(words[2]), "ACCOUNTS", d.own(words[3]))
		d.fill[words[1]] = fill
		for i, r := range d.rules[words[1]] {
			d.rules[words[1]][i] = fill.Replace(r)
		}
		for _, r := range below {
			d.rule(words[1], r)
		}
		require.NoError(d.t, d.charter(words[1], d.rules[words[1]][0]))
		_, err := d.service.SetObserving(ctx, tester, d.own(words[1]), false)
		require.NoError(d.t, err)
		return
	}
	b := &book{d: d, people: words[0] == "people", rows: map[string]string{}, secrets: map[string]string{}, meanwhile: map[string][]string{}, deferred: slices.Contains(words, "deferred"), groups: slices.Contains(words, "groups")}
	b.columns = strings.Fields(bookColumns[b.people])
	d.books[words[1]] = b
	if !b.people {
		d.lettersOf = words[1]
	}
	for _, row := range below {
		b.put(row)
	}
	_, err := d.service.PutSystem(ctx, tester, store.System{Name: d.own(words[1]), Kind: "book", AtOnce: 1, Settings: store.JSON[map[string]string]{V: map[string]string{"name": words[1]}}}, Putting{})
	require.NoError(d.t, err)
	if !b.people {
		_, err = d.service.SetWriting(ctx, tester, d.own(words[1]), true, 0)
		require.NoError(d.t, err)
	}
}

// shiftingClock makes a database whose now() a scenario can move.
func shiftingClock(t *testing.T) (*store.Store, *pgx.Conn) {
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, stageURL)
	require.NoError(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, `DROP DATABASE IF EXISTS days WITH (FORCE)`)
	require.NoError(t, err)
	_, err = conn.Exec(ctx, `CREATE DATABASE days`)
	require.NoError(t, err)
	at, err := url.Parse(stageURL)
	require.NoError(t, err)
	at.Path = "/days"
	clock, err := pgx.Connect(ctx, at.String())
	require.NoError(t, err)
	t.Cleanup(func() { _ = clock.Close(ctx) })
	_, err = clock.Exec(ctx, `
		CREATE SCHEMA clock;
		CREATE TABLE clock.shift (by interval NOT NULL);
		INSERT INTO clock.shift VALUES ('0');
		CREATE FUNCTION clock.now() RETURNS timestamptz LANGUAGE sql STABLE AS 'SELECT pg_catalog.now() + by FROM clock.shift';
		ALTER DATABASE days SET search_path = public, clock, pg_catalog`)
	require.NoError(t, err)
	s, err := store.Open(ctx, at.String())
	require.NoError(t, err)
	require.NoError(t, s.KeyTrail(context.Background(), []byte("a key for tests"), false))
	t.Cleanup(s.Close)
	return s, clock
}

func TestDays(t *testing.T) {
	text, err := os.ReadFile("testdata/days.txtar")
	require.NoError(t, err)
	s, clock := shiftingClock(t)
	var mu sync.Mutex // one clock
	scenarios := strings.Split(string(text), "\n== ")
	rewritten := scenarios[:1]
	for n, scenario := range scenarios[1:] {
		title, body, _ := strings.Cut(scenario, "\n")
		out, ran := []string{title}, false
		t.Run(title, func(t *testing.T) {
			ran = true
			mu.Lock()
			defer mu.Unlock()
			d := newDays(t, s, clock, n+1)
			var got, want []string
			head, below := "", []string{}
			settle := func() {
				if head != "" {
					d.begin(head, below)
				}
				head, below = "", nil
				if !*write {
					require.Equal(t, strings.Join(want, "\n"), strings.Join(got, "\n"), "after %s", out[len(out)-1])
				}
				for _, l := range got {
					out = append(out, "    "+l)
				}
				got, want = nil, nil
			}
			for line := range strings.Lines(body) {
				line = strings.TrimRight(line, "\n")
				switch trimmed := strings.TrimSpace(line); {
				case trimmed == "":
				case strings.HasPrefix(line, "#"):
					settle()
					out = append(out, line)
				case strings.HasPrefix(line, "> "):
					settle()
					out = append(out, line)
					got = d.do(line[2:])
				case !strings.HasPrefix(line, " "):
					settle()
					out, head = append(out, line), line
				case head != "":
					out, below = append(out, line), append(below, trimmed)
				default:
					want = append(want, trimmed)
				}
			}
			settle()
		})
		if t.Failed() {
			return
		}
		if ran {
			scenario = strings.Join(out, "\n") + "\n"
		}
		rewritten = append(rewritten, scenario)
	}
	if *write {
		require.NoError(t, os.WriteFile("testdata/days.txtar", []byte(strings.Join(rewritten, "\n== ")), 0o600))
	}
}
