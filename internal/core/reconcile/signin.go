package reconcile

import (
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/finding"
	"twinning/internal/core/pairing"
	"twinning/internal/core/parallel"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// rehearsal looks whose account everybody opens who signs in through the identity provider:
// what it says of them, held against what the downstream knows accounts by.
type rehearsal struct {
	*run
	opens   map[string][]record.Row // normalised value -> the accounts that carry it
	becomes map[string]string       // account -> the value that the plan gives it
	created map[string]string       // person -> the value that the plan gives to their new account
	takes   map[string]string       // normalised value -> the person whose account the plan gives it to
	unread  string                  // what can't be known, for whoever opens nothing
}

// rehearse tells who would open no account by signing in, and who somebody else's.
func (r *run) rehearse() {
	s := r.Charter.SignIn
	if s == nil {
		return
	}
	h := &rehearsal{run: r, opens: map[string][]record.Row{}, becomes: map[string]string{}, created: map[string]string{}, takes: map[string]string{}}
	account := r.bind(s.Account)
	for a := range r.Accounts.Len() {
		record.EachValue(account.Eval(-1, a).Cell(), func(v string) {
			n := record.Normal(record.Text, v)
			if list := h.opens[n]; len(list) == 0 || list[len(list)-1] != record.Row(a) {
				h.opens[n] = append(list, record.Row(a))
			}
		})
	}
	r.Accounts.EachUnread(func(int, record.Rejection) { h.unread = "; accounts could not be read that may be known by it" })
	h.afterThePlan(s.Account.Attribute())
	subject, classes, order := r.bind(s.Subject), r.desirer(), r.People.Order()
	pieces := make([]rehearsed, (len(order)+chunk-1)/chunk)
	parallel.Each(r.Cores, len(pieces), func(i int) {
		x := &pieces[i]
		x.rehearsal = h
		for _, row := range order[i*chunk : min((i+1)*chunk, len(order))] {
			p := int(row)
			if _, unread := r.People.Present(p); unread || !r.inScope[p] {
				continue
			}
			if _, left := r.left(p); left {
				continue
			}
			if class, _ := classes.classIndex(p); !classes.classes[class].SignsIn {
				continue
			}
			v := subject.Eval(p, -1)
			x.person(p, strings.TrimSpace(v.Cell()), v.Fault())
		}
	})
	for _, x := range pieces {
		r.out.Findings = append(r.out.Findings, x.found...)
	}
}

// rehearsed is what one goroutine found out about its share of the people.
type rehearsed struct {
	*rehearsal
	found []finding.Finding
}

func (h *rehearsed) tell(code string, p, own int, format string, args ...any) {
	h.found = append(h.found, h.find(code, p, own, "", format, args...))
}

// afterThePlan notes what accounts will be known by; an expression that computes something is
// looked at as things are.
func (h *rehearsal) afterThePlan(attribute string) {
	if attribute == "" {
		return
	}
	for i := range h.out.Changes {
		c := &h.out.Changes[i]
		for _, e := range c.Edits {
			if e.Attribute != attribute {
				continue
			}
			if c.Verb == planning.Create {
				h.created[c.Person] = e.New
			} else {
				h.becomes[c.Account] = e.New
			}
			h.takes[record.Normal(record.Text, e.New)] = c.Person
		}
	}
}

func (h *rehearsed) person(p int, subject, fault string) {
	res := h.out.Pairing
	own := -1
	switch res.PersonState[p] {
	case pairing.Twinned:
		own = int(res.PersonTwin[p])
	case pairing.Missing:
	default:
		return // whose account it is must be said first
	}
	if subject == "" {
		if own >= 0 {
			h.tell("sign-in-stray", p, own, "the identity provider would send nothing of them: %s", orBlank(fault))
		}
		return
	}
	normal := record.Normal(record.Text, subject)
	rows := h.opens[normal] // in order, and perhaps those of everybody: none is walked
	at, theirs := slices.BinarySearch(rows, record.Row(own))
	others := len(rows)
	if theirs {
		others--
	}
	switch {
	case others > 0:
		other := rows[0]
		if theirs && at == 0 {
			other = rows[1]
		}
		words := fmt.Sprintf("account %q", h.accountID(int(other)))
		if owner := res.AccountTwin[other]; owner >= 0 {
			words += fmt.Sprintf(" of person %q", h.personID(int(owner)))
		}
		if others > 1 {
			words += fmt.Sprintf(" and %d more", others-1)
		}
		switch {
		case theirs:
			words = "their own account and " + words
		case own < 0:
			words += ", and they have none"
		}
		h.tell("sign-in-crossed", p, own, "signs in as %q, which opens %s", subject, words)
	case h.takes[normal] != "" && h.takes[normal] != h.personID(p):
		h.tell("sign-in-crossed", p, own, "signs in as %q, which the plan gives to the account of person %q", subject, h.takes[normal])
	case len(rows) > 0:
	case own >= 0:
		mended := ""
		if record.Normal(record.Text, h.becomes[h.accountID(own)]) == normal {
			mended = "; the plan mends it"
		}
		h.tell("sign-in-stray", p, own, "signs in as %q, which opens no account%s%s", subject, h.unread, mended)
	default:
		if name, made := h.created[h.personID(p)]; made && record.Normal(record.Text, name) != normal {
			h.tell("sign-in-stray", p, -1, "will sign in as %q, and the new account is to be known as %q", subject, name)
		}
	}
}

func orBlank(fault string) string {
	if fault == "" {
		return "it comes out blank"
	}
	return fault
}
