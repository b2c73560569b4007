// Package reconcile walks the whole way from two rosters to twins, findings
// and changes. It is one pure function: the same input gives the same output,
// whatever the order of the records or the number of cores, and no clock, file
// or network is looked at.
//
// Everybody is paired first; the lane's scope is applied afterwards. What was
// not read, left out, not understood, contested, exempt or claimed is never in a
// change. Three questions are asked of what the rosters do not know (run.askGaps):
// may somebody be created, may an absence be concluded from, may a name be called
// free. What is withheld for it is told with the reason.
//
// A twin that evidence alone has made is asked about before its account is
// suspended or renamed, or a name of it given to another.
package reconcile

import (
	"time"

	"twinning/internal/core/charter"
	"twinning/internal/core/finding"
	"twinning/internal/core/naming"
	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// Input is all that a reconciliation looks at.
type Input struct {
	Charter  *charter.Charter
	People   *record.Roster
	Accounts *record.Roster
	Memory   Memory
	Now      time.Time
	Reading  string                       // names the newest whole reading of the people; the same one is not counted twice as an absence
	Mark     string                       // canonical attribute that carries our mark downstream, "" when there is none
	Deferred bool                         // what is written shows in a later roster alone: nothing can stand in between for a moment
	Lanes    map[string]charter.Elsewhere // the other lanes that the charter asks for
	Shared   []naming.Shared              // other systems in which a name is taken as well
	Unshared string                       // why names of such a system are not known, "" when they are
	Taken    map[string]time.Time         // when the rosters were taken, by side; a side that is missing is of no known age
	Secrets  map[string]string            // last day of the systems' secrets, by system; only those that are known
	Rest     int                          // days for which a name of the namespace rests, where another charter says more; 0: as this one says
	Cores    int                          // goroutines to use; 0: one
	Premises bool                         // changes tell what they rest on, for whoever carries them out
	Tell     bool                         // what explains the verdicts is told as well
}

// Output is what came of it.
type Output struct {
	Pairing  *pairing.Result
	Findings []finding.Finding
	Changes  []planning.Change
	Guards   []planning.Reading
	Balance  Balance
	Withheld []planning.Withheld // changes not planned because something was not read
	Notes    []string            // rules that could not be checked, and why
	Memory   Memory              // the lane's memory from now on
}

// Side counts one side of the balance.
type Side struct {
	Total     int `json:"total"`
	Twinned   int `json:"twinned"`
	Missing   int `json:"missing"`
	Orphan    int `json:"orphan"`
	Duplicate int `json:"duplicate"`
	Contested int `json:"contested"`
	Exempt    int `json:"exempt"`
}

func (s *Side) add(state pairing.State) {
	s.Total++
	switch state {
	case pairing.Twinned:
		s.Twinned++
	case pairing.Missing:
		s.Missing++
	case pairing.Orphan:
		s.Orphan++
	case pairing.Duplicate:
		s.Duplicate++
	case pairing.Contested:
		s.Contested++
	default:
		s.Exempt++
	}
}

// Balance has every record of both rosters in exactly one column.
type Balance struct{ People, Accounts Side }

// Stopped reports whether a guard stands in the way.
func (o *Output) Stopped() bool {
	for _, g := range o.Guards {
		if g.Tripped {
			return true
		}
	}
	return false
}

// ToDo reports whether there is anything to do: a change, one that is withheld,
// or somebody to ask about.
func (o *Output) ToDo() bool {
	return len(o.Changes) > 0 || len(o.Withheld) > 0 || o.Balance.People.Contested > 0 || o.Balance.Accounts.Contested > 0
}

// Run reconciles.
func Run(in Input) *Output {
	if in.Cores < 1 {
		in.Cores = 1
	}
	r := newRun(in)
	r.pair()
	r.scope()
	r.checkRosters()
	r.desire()
	r.sharedNames()
	r.unlisted()
	r.unseen()
	r.unreadAttributes()
	r.undecided()
	r.rehearse()
	r.count()
	r.finish()
	return r.out
}

// Trial has evidence find twins that are known, on the lists as they are: nothing of it is
// kept. A charter that weighs no evidence is tried with what would be its thresholds.
func Trial(in Input) (*pairing.Trial, error) {
	in.Cores = max(in.Cores, 1)
	x := newRun(in).pairingInput()
	if in.Charter.Evidence == nil {
		x.Evidence = &pairing.Evidence{Accept: charter.DefaultAccept, Review: charter.DefaultReview}
		return pairing.Try(x, false)
	}
	return pairing.Try(x, in.Charter.Evidence.Weights != nil)
}

// Undecided reports whether nothing can be said of a person or an account by this result: they
// are in doubt, left alone, or their record could not be read. "" stands for none.
func (o *Output) Undecided(in Input, person, account string) bool {
	if row, here := in.People.Find(person); here && person != "" {
		if _, unread := in.People.Present(row); unread || o.Pairing.PersonState[row] == pairing.Contested || o.Pairing.PersonState[row] == pairing.Exempt {
			return true
		}
	}
	if row, there := in.Accounts.Find(account); there && account != "" {
		if _, unread := in.Accounts.Present(row); unread || o.Pairing.AccountState[row] == pairing.Contested || o.Pairing.AccountState[row] == pairing.Exempt {
			return true
		}
	}
	return false
}
