// Package naming gives out names: logins and e-mail addresses of one
// namespace, in which a name is taken when any account (ours, exempt, claimed,
// hidden) carries it as login, primary address or alias.
//
// Requests are granted in the order given (callers sort them), each the first candidate
// that is free, or that another request of the same plan frees first (A takes
// what B frees: B's change must come before A's). Names that move in a circle
// are refused: that needs a spare name, which is not done yet.
package naming

import (
	"slices"
	"strings"
	"sync"

	"twinning/internal/core/record"
)

// Request asks for one name.
type Request struct {
	Owner      string   // whose request it is; two requests of one owner may share a name
	Account    int      // row that asks, -1 for an account yet to be created
	Candidates []string // real spellings, best first
	Frees      string   // name that the account gives up if this is granted
}

// Grant answers a request. An empty Name means that all candidates are taken.
type Grant struct {
	Name   string
	After  []int // indexes of requests that must be carried out first
	Holder int   // when refused: an account that holds a candidate, -1 none
	Rival  int   // when refused: the request that was granted it, -1 none
}

// Ledger knows who holds which of the names that matter to a plan.
type Ledger struct {
	holders map[string][]int32
}

// Fold is the form under which two names are one.
func Fold(name string) string { return record.Normal(record.Email, name) }

// NewLedger looks up the holders of all names that the requests mention.
// Names nobody asks for need no entry: at a million accounts that is nearly
// all of them.
//
// The look-up is shared between so many goroutines.
func NewLedger(accounts *record.Roster, requests []Request, cores int) *Ledger {
	l := &Ledger{holders: map[string][]int32{}}
	for _, r := range requests {
		for _, c := range r.Candidates {
			l.holders[Fold(c)] = nil
		}
	}
	if len(l.holders) == 0 {
		return l
	}
	parts := make([][]holding, max(cores, 1))
	var wg sync.WaitGroup
	for i := range parts {
		wg.Go(func() { parts[i] = l.scan(accounts, accounts.Len()*i/len(parts), accounts.Len()*(i+1)/len(parts)) })
	}
	wg.Wait()
	for _, part := range parts {
		for _, h := range part {
			if held := l.holders[h.name]; !slices.Contains(held, h.row) {
				l.holders[h.name] = append(held, h.row)
			}
		}
	}
	return l
}

type holding struct {
	name string
	row  int32
}

// scan finds who among the rows holds an asked name; it only reads the ledger.
func (l *Ledger) scan(accounts *record.Roster, from, to int) (found []holding) {
	columns := []*record.Column{accounts.Column("userName"), accounts.Column("email"), accounts.Column("aliases")}
	var folded []byte
	for row := from; row < to; row++ {
		for _, c := range columns {
			for cell := c.Cell(row); cell != ""; {
				value, rest, _ := strings.Cut(cell, string(record.ListSep))
				folded = record.AppendNormal(folded[:0], record.Email, value)
				if _, asked := l.holders[string(folded)]; asked {
					found = append(found, holding{string(folded), int32(row)}) // rows fit
				}
				cell = rest
			}
		}
	}
	return found
}

// Allocate grants what can be granted.
func (l *Ledger) Allocate(requests []Request) []Grant {
	grants := make([]Grant, len(requests))
	given := map[string]int{} // name -> request that got it
	mover := map[string]int{} // name -> request that frees it
	waiting := make([]int, 0, len(requests))
	for i, r := range requests {
		grants[i] = Grant{Holder: -1, Rival: -1}
		if r.Frees != "" {
			mover[Fold(r.Frees)] = i
		}
		waiting = append(waiting, i)
	}
	done := map[int]bool{}
	// Patient rounds wait for names that may yet be freed; when nothing moves any
	// more, one request takes its next best name and the others get their chance.
	for patient := true; len(waiting) > 0; {
		before := len(waiting)
		rest := make([]int, 0, before)
		for _, i := range waiting {
			name, after, state := l.try(requests, done, mover, given, i, patient)
			if state != granted {
				rest = append(rest, i)
				continue
			}
			grants[i].Name, grants[i].After = name, after
			given[Fold(name)], done[i] = i, true
		}
		waiting = rest
		if moved := len(rest) < before; !moved && !patient {
			break
		} else {
			patient = moved
		}
	}
	for _, i := range waiting {
		for _, c := range requests[i].Candidates {
			if rival, ok := given[Fold(c)]; ok {
				grants[i].Rival = rival
			}
			for _, h := range l.holders[Fold(c)] {
				if int(h) != requests[i].Account {
					grants[i].Holder = int(h)
				}
			}
		}
	}
	return grants
}

type outcome uint8

const (
	refused outcome = iota
	granted
	later // a candidate is held by somebody who may yet move away
)

func (l *Ledger) try(requests []Request, done map[int]bool, mover map[string]int, given map[string]int, i int, patient bool) (string, []int, outcome) {
	for _, c := range requests[i].Candidates {
		name := Fold(c)
		if rival, ok := given[name]; name == "" || ok && requests[rival].Owner != requests[i].Owner {
			continue
		}
		var after []int
		free, pending := true, false
		for _, h := range l.holders[name] {
			if int(h) == requests[i].Account {
				continue
			}
			m, moves := mover[name]
			switch {
			case !moves || requests[m].Account != int(h):
				free = false
			case done[m]:
				after = append(after, m)
			default:
				pending = true
			}
		}
		switch {
		case free && !pending:
			return c, after, granted
		case free && pending && patient:
			return "", nil, later // wait rather than take a worse name
		}
	}
	return "", nil, refused
}
