package reconcile

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"twinning/internal/core/charter"
	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
)

// Where names move in a circle, one account goes through a value in between. A plan that did not
// come to its end may leave it there: a name by which nobody knows the account, and which no rule
// may want changed. Each such account is told, and is led out of it where the receipts of its
// unit say what it was to become; else a human is asked.

// betweenPrefix begins the values that stand in for names.
const betweenPrefix = "between-"

// isBetween tells such a value, see run.between: the prefix, a digest, and for an address a domain.
var isBetween = regexp.MustCompile(`^` + betweenPrefix + `[0-9a-f]{12}(@.+)?$`)

// between is the value that stands in for a name while names move in a circle: nobody else's,
// and the same in every draft.
func (r *run) between(c *planning.Change, name string) string {
	free := betweenPrefix + strings.TrimPrefix(planning.ChangeID(name, c.Person, c.Account), "c-")
	if strings.Contains(name, "@") {
		free += "@" + r.Charter.Between
	}
	return free
}

// standsBetween: the name is nobody's, left by a plan that did not come to its end.
func standsBetween(name string) bool {
	return strings.HasPrefix(name, betweenPrefix) && isBetween.MatchString(name)
}

// Halfway is what receipts say of a name that an account was given in between.
type Halfway struct {
	Value  string `json:"value"`  // that it was given
	Former string `json:"former"` // the name that it had before
	Wanted string `json:"wanted"` // the name that its unit was to give it in the end; "" where it was to give none
}

// halfway is what receipts say of the value that an account holds.
func (r *run) halfway(a int, attribute, now string) (h Halfway, known bool) {
	h, known = r.Memory.Halfway[r.accountID(a)][attribute]
	return h, known && h.Value == now
}

// tellBetween tells of the accounts of the lane that hold a value in between.
func (w *walker) tellBetween() {
	for _, attribute := range [...]string{"userName", "email"} {
		column := w.Accounts.Column(attribute)
		if column == nil {
			continue
		}
		for a := range w.Accounts.Len() {
			now := column.Cell(a)
			if !strings.HasPrefix(now, betweenPrefix) || !standsBetween(now) || w.out.Pairing.AccountState[a] == pairing.Exempt {
				continue
			}
			why := "no receipt of this lane says what it was to become: find out whose it is, and give it its name"
			if h, known := w.halfway(a, attribute, now); known {
				why = fmt.Sprintf("it was %q, and was to become %q", h.Former, h.Wanted)
			}
			w.note("name-between", int(w.out.Pairing.AccountTwin[a]), a, attribute, "%s is %q, which stood in for a moment while names moved; %s", called(attribute), now, why)
		}
	}
}

// leadOut has an account that stands between two names go on to the one that it was to have, or
// back to the one that it had, whichever is free first; ruled are the names that the charter gives
// it, which go before both.
func (w *walker) leadOut(r *rule, p, a int, now string, ruled []string) {
	h, known := w.halfway(a, r.Attribute, now)
	if w.Charter.Intent == "add" || r.Rule == charter.Watch || r.Rule == charter.Upstream {
		return
	}
	var names []string
	for _, name := range append(ruled, h.Wanted, h.Former) {
		if name != "" && !standsBetween(name) && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	if len(names) == 0 || !known && len(ruled) == 0 {
		return
	}
	out := *r
	out.reason = "it stands between two names, since a plan that moved them did not come to its end"
	w.write(&out, p, a, want{cell: names[0], names: names}, now)
}
