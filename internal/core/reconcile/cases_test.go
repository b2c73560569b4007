package reconcile_test

import (
	"cmp"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/internal/core/charter"
	"twinning/internal/core/finding"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
)

var write = flag.Bool("write", false, "write what came out into testdata/cases.txtar, to be read before it is committed")

// A case reads: a name, the records of both sides (cells by white space, - is
// blank, _ a space, ; between the values of a list, ,, between several where one
// is wanted), lines that replace one of
// the charter's, a memory, and everything that must come out.
type lane struct {
	name                             string
	people, accounts, rules, remarks []string
	morePeople, moreAccounts         string // further columns
	weighed                          bool   // by evidence too
	memory                           string
	taken, secrets                   string   // when rosters were taken, until when secrets are good
	asks                             []string // what humans ask for; the charter's own changes are then not looked at
	want                             []string
	noPeople, noAccounts             string              // a column that is not read
	written                          func([]byte) []byte // how its charter is written otherwise
}

const (
	peopleColumns  = "id employeeNumber givenName familyName email active endsOn userType title department"
	accountColumns = "id externalId userName givenName familyName email aliases active title department"
)

var defaults = []string{
	`lane: test`,
	`mark: person.employeeNumber`,
	`people: {from: hq, where: "person.userType != 'service'"}`,
	`accounts: {in: app, where: "!account.userName.startsWith('rig-')"}`,
	`pairing: {keys: [{name: number, person: person.employeeNumber, account: account.externalId}, {name: mail, person: person.email, account: account.emails}]}`,
	`attributes: {userName: {candidates: [slug(initial(person.givenName) + person.familyName), slug(person.givenName + '.' + person.familyName)], rule: once}, title: person.title, department: {value: person.department, rule: watch}}`,
	`emails: {primary: person.email, rule: own, former: keep}`,
	`leavers: {grace: {readings: 2, days: 3}, stages: [{after: 0d, do: [suspend]}]}`,
	`guards: {suspend: {more-than: 3}}`,
}

func (l *lane) charter(t require.TestingT) *charter.Charter {
	lines := slices.Clone(defaults)
	if l.weighed {
		i := slices.IndexFunc(lines, func(s string) bool { return strings.HasPrefix(s, "pairing:") })
		lines[i] = strings.TrimSuffix(lines[i], "}") + ", evidence: {}}"
	}
	for _, r := range l.rules {
		key, _, _ := strings.Cut(r, ":")
		i := slices.IndexFunc(lines, func(s string) bool { return strings.HasPrefix(s, key+":") })
		if i < 0 {
			lines = append(lines, r)
		} else {
			lines[i] = r
		}
	}
	source := []byte(strings.Join(lines, "\n"))
	if l.written != nil {
		source = l.written(source)
	}
	c, err := charter.Parse(source, charter.Vocabulary{})
	require.NoError(t, err, "%s", source)
	return c
}

// intention is how a memory names one: by its verb, person and account.
var intention = regexp.MustCompile(`"(\S+) of (\S+) (\S+)"`)

// roster reads rows. One that starts with "rejected" is a record that could not
// be read: its line, its id when that was readable, the names that it is known to
// hold, or "swallows". One that starts with a kind of gap is left out: its id, if
// that is known, and the reason. The column that is unread is none of the shape's.
func roster(t require.TestingT, columns, unread string, rows []string, rng *rand.Rand) *record.Roster {
	names := strings.Fields(columns)
	shape := record.Shape{Attributes: map[string]record.Source{}}
	for i, n := range names { // manager=dn: it refers by that column
		name, refers, _ := strings.Cut(n, "=")
		names[i] = name
		shape.Attributes[name] = record.Source{Native: name, Refers: refers}
	}
	delete(shape.Attributes, unread)
	b := shape.NewLoader(slices.DeleteFunc(slices.Clone(names[1:]), func(n string) bool { return n == unread }))
	rows = slices.Clone(rows)
	if rng != nil {
		rng.Shuffle(len(rows), func(i, j int) { rows[i], rows[j] = rows[j], rows[i] })
	}
	for _, row := range rows {
		cells := make([]string, len(names))
		for i, word := range strings.Fields(row) {
			require.Less(t, i, len(names), row)
			if word != "-" {
				cells[i] = strings.ReplaceAll(word, "_", " ")
			}
		}
		if cells[0] == "rejected" {
			var line int
			_, err := fmt.Sscan(cells[1], &line)
			require.NoError(t, err)
			rej := record.Rejection{Line: line, ID: cells[2], Reason: "broken", Swallows: cells[3] == "swallows"}
			if cells[3] != "" && !rej.Swallows {
				rej.Names, rej.Named = strings.Split(cells[3], ";"), true
			}
			require.NoError(t, b.Reject(rej))
			continue
		}
		if kind := record.GapKind(cells[0]); slices.Contains([]record.GapKind{record.LeftOut, record.NoRecord, record.Hidden, record.Elsewhere, record.Deletions}, kind) {
			require.NoError(t, b.LeaveOut(record.Gap{Kind: kind, ID: cells[1], Reason: cells[2], What: cells[3]}))
			continue
		}
		native := map[string][]string{}
		for i, c := range cells {
			native[names[i]] = strings.Split(c, map[bool]string{true: ";", false: ",,"}[record.KindOf(names[i]).Multi()])
		}
		require.NoError(t, b.AddNative(0, native))
	}
	r, err := b.Roster()
	require.NoError(t, err)
	return r
}

var noon = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

func (l *lane) input(t require.TestingT, rng *rand.Rand) reconcile.Input {
	in := reconcile.Input{Charter: l.charter(t), People: roster(t, peopleColumns+l.morePeople, l.noPeople, l.people, rng), Accounts: roster(t, accountColumns+l.moreAccounts, l.noAccounts, l.accounts, rng), Now: noon, Reading: "today", Mark: "externalId", Cores: 1}
	if l.memory != "" {
		text := intention.ReplaceAllStringFunc(l.memory, func(s string) string {
			of := intention.FindStringSubmatch(s)
			return fmt.Sprintf("%q", planning.IntentionID(of[1], of[2], of[3]))
		})
		require.NoError(t, json.Unmarshal([]byte(text), &in.Memory), text)
	}
	if l.taken != "" {
		require.NoError(t, json.Unmarshal([]byte(l.taken), &in.Taken), l.taken)
	}
	if l.secrets != "" {
		require.NoError(t, json.Unmarshal([]byte(l.secrets), &in.Secrets), l.secrets)
	}
	return in
}

// tell lists all that came out, a line a fact.
func tell(in reconcile.Input, out *reconcile.Output) (lines []string) {
	p := out.Pairing
	for _, row := range in.People.Order() {
		i := int(row)
		line := fmt.Sprintf("person %s %s", in.People.ID(i), p.PersonState[i])
		if p.PersonTwin[i] >= 0 {
			line += " " + in.Accounts.ID(int(p.PersonTwin[i])) + " " + p.Basis[i].String()
		}
		lines = append(lines, strings.TrimSpace(line))
	}
	for _, row := range in.Accounts.Order() {
		if i := int(row); p.AccountState[i].String() != "twinned" {
			lines = append(lines, fmt.Sprintf("account %s %s", in.Accounts.ID(i), p.AccountState[i]))
		}
	}
	for _, x := range p.Proposals {
		lines = append(lines, fmt.Sprintf("ask %s %s", in.People.ID(x.Person), in.Accounts.ID(x.Account)))
	}
	for _, f := range out.Findings {
		lines = append(lines, strings.Join(strings.Fields(fmt.Sprintf("finding %s %s %s %s", f.Code, f.Person, f.Account, f.Subject)), " "))
	}
	for _, c := range out.Changes {
		line := fmt.Sprintf("change %s %s %s", c.Verb, c.Person, c.Account)
		for _, e := range c.Edits {
			line += fmt.Sprintf(" %s:%s→%s", e.Attribute, strings.ReplaceAll(e.Old, "\x1f", ";"), strings.ReplaceAll(e.New, "\x1f", ";"))
		}
		if len(c.Needs) > 0 {
			line += fmt.Sprintf(" after %d", len(c.Needs))
		}
		lines = append(lines, strings.Join(strings.Fields(line), " "))
	}
	for _, g := range out.Guards {
		if g.Tripped {
			lines = append(lines, fmt.Sprintf("guard %s %d > %d", g.Verb, g.Count, g.Allowed))
		}
		if g.FirstLoad {
			lines = append(lines, fmt.Sprintf("first load: %s", g))
		}
	}
	for _, i := range out.Memory.Intentions {
		if i.Comes("2026-11-25") {
			continue // it is a change, or withheld
		}
		line := fmt.Sprintf("later %s %s on %s", i.Verb, strings.TrimSpace(i.Person+" "+i.Account), i.Due)
		if why := cmp.Or(i.Waits, i.Cancelled); why != "" {
			line += " (" + why + ")"
		}
		lines = append(lines, line)
	}
	for _, w := range out.Withheld {
		lines = append(lines, strings.Join(strings.Fields(fmt.Sprintf("withheld %s %s %s (%s)", w.Verb, w.Person, w.Account, w.Reason)), " "))
	}
	return lines
}

// came is all that came out.
func (l *lane) came(t require.TestingT, in reconcile.Input) (lines []string) {
	if len(l.asks) == 0 {
		return tell(in, reconcile.Run(in))
	}
	out, answers := reconcile.Asked(in, l.intents(t))
	for _, a := range answers {
		if a.Outcome != reconcile.Drafted {
			lines = append(lines, strings.TrimSpace(fmt.Sprintf("answer %d %s %s %s", a.Intent, a.Attribute, a.Outcome, a.Reason)))
		}
	}
	for _, line := range tell(in, out) {
		if strings.HasPrefix(line, "change ") || strings.HasPrefix(line, "withheld ") || strings.HasPrefix(line, "guard ") {
			lines = append(lines, line)
		}
	}
	for _, c := range out.Changes {
		for _, i := range c.KeptBy(c.Account, "run 1") {
			lines = append(lines, strings.TrimSpace(fmt.Sprintf("keep %s %s until %s %s", i.Account, i.Attribute, i.Due, strings.Join(i.Values, ";"))))
		}
	}
	return lines
}

// intents reads lines of a verb, an account (or a person, after person:) and what is wanted:
// title=New, title=Old>New, groups+observers, groups-observers, until=DAY. With undo instead of
// a verb the charter does not stand in the way.
func (l *lane) intents(t require.TestingT) (list []planning.Intent) {
	for _, line := range l.asks {
		words := strings.Fields(line)
		i := planning.Intent{Verb: words[0], Account: words[1], Reason: "asked"}
		if i.Undoes = words[0] == "undo"; i.Undoes {
			i.Verb = planning.Set
		}
		if person, is := strings.CutPrefix(words[1], "person:"); is {
			i.Account, i.Person = "", person
		}
		lists := map[string]*planning.Wanted{}
		for _, w := range words[2:] {
			at := strings.IndexAny(w, "=+-")
			require.Positive(t, at, line)
			name, value := w[:at], strings.ReplaceAll(w[at+1:], "_", " ")
			switch {
			case name == "until":
				i.Until = value
			case w[at] == '=':
				old, now, was := strings.Cut(value, ">")
				x := planning.Wanted{Attribute: name, New: old}
				if was {
					x.Old, x.New = &old, now
				}
				i.Values = append(i.Values, x)
			default:
				if lists[name] == nil {
					i.Values = append(i.Values, planning.Wanted{Attribute: name})
					lists[name] = &i.Values[len(i.Values)-1]
				}
				if x := &i.Values[len(i.Values)-1]; w[at] == '+' {
					x.Adds = append(x.Adds, value)
				} else {
					x.Takes = append(x.Takes, value)
				}
			}
		}
		list = append(list, i)
	}
	return list
}

func cases(t require.TestingT) (all []*lane) {
	text, err := os.ReadFile("testdata/cases.txtar")
	require.NoError(t, err)
	var l *lane
	into := &[]string{}
	for line := range strings.Lines(string(text)) {
		line = strings.TrimRight(line, "\n")
		word := strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(line, "== "):
			l = &lane{name: line[3:]}
			all = append(all, l)
		case l == nil || word == "":
		case strings.HasPrefix(line, "#"):
			l.remarks = append(l.remarks, line)
		case word == "people" || strings.HasPrefix(word, "people "):
			into, l.morePeople = &l.people, word[len("people"):]
		case word == "accounts" || strings.HasPrefix(word, "accounts "):
			into, l.moreAccounts = &l.accounts, word[len("accounts"):]
		case word == "weighed":
			l.weighed = true
		case word == "charter":
			into = &l.rules
		case word == "asks":
			into = &l.asks
		case word == "want":
			into = &l.want
		case strings.HasPrefix(word, "memory "):
			l.memory = word[len("memory "):]
		case strings.HasPrefix(word, "taken "):
			l.taken = word[len("taken "):]
		case strings.HasPrefix(word, "secrets "):
			l.secrets = word[len("secrets "):]
		default:
			*into = append(*into, word)
		}
	}
	return all
}

func TestCases(t *testing.T) {
	all := cases(t)
	for _, l := range all {
		t.Run(l.name, func(t *testing.T) {
			in := l.input(t, nil)
			got := l.came(t, in)
			require.Zero(t, reconcile.Compare(in, in).Differ, "a charter differs from itself in nothing")
			if *write {
				l.want = got
				return
			}
			require.Equal(t, strings.Join(l.want, "\n"), strings.Join(got, "\n"))
			for seed := range uint64(3) { // neither the order of the records nor the cores matter
				shuffled := l.input(t, rand.New(rand.NewPCG(seed, 1)))
				shuffled.Cores = 2
				require.Equal(t, got, l.came(t, shuffled))
			}
		})
	}
	if *write {
		rewrite(t, all)
	}
}

func rewrite(t *testing.T, all []*lane) {
	var b strings.Builder
	block := func(name string, lines []string) {
		if len(lines) > 0 {
			fmt.Fprintf(&b, "%s\n  %s\n", name, strings.Join(lines, "\n  "))
		}
	}
	for _, l := range all {
		fmt.Fprintf(&b, "== %s\n", l.name)
		for _, r := range l.remarks {
			fmt.Fprintln(&b, r)
		}
		if l.weighed {
			fmt.Fprintln(&b, "weighed")
		}
		block("charter", l.rules)
		block("people"+l.morePeople, l.people)
		block("accounts"+l.moreAccounts, l.accounts)
		if l.memory != "" {
			fmt.Fprintln(&b, "memory "+l.memory)
		}
		if l.taken != "" {
			fmt.Fprintln(&b, "taken "+l.taken)
		}
		if l.secrets != "" {
			fmt.Fprintln(&b, "secrets "+l.secrets)
		}
		block("asks", l.asks)
		block("want", l.want)
		fmt.Fprintln(&b)
	}
	require.NoError(t, os.WriteFile("testdata/cases.txtar", []byte(b.String()), 0o600))
}

// Every code of the catalogue has a case that is named after it and shows it.
func TestEveryFindingHasAnExample(t *testing.T) {
	for _, c := range finding.Catalogue {
		shown := slices.ContainsFunc(cases(t), func(l *lane) bool {
			return strings.HasPrefix(l.name, c.Name) && slices.ContainsFunc(l.want, func(w string) bool { return strings.HasPrefix(w, "finding "+c.Name) })
		})
		require.True(t, shown, "no case in testdata/cases.txtar is named %q and shows it", c.Name)
		require.NotEmpty(t, c.Meaning)
		require.NotEmpty(t, c.Remedy)
	}
}
