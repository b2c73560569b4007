package reconcile

import (
	"fmt"
	"slices"

	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// What a human has asked for, or has undone, the charter leaves as it is until a day; that
// day stands among the lane's intentions.

// keepsOf are the intentions to keep something, by account.
func keepsOf(list []planning.Intention, today string) map[string][]planning.Intention {
	keeps := map[string][]planning.Intention{}
	for _, i := range list {
		if i.Keeps(i.Attribute, today) {
			keeps[i.Account] = append(keeps[i.Account], i)
		}
	}
	return keeps
}

// leaveKept takes out of the drafts what is kept as it is, and tells it.
func (r *run) leaveKept(drafts []*draft) []*draft {
	if len(r.keeps) == 0 {
		return drafts
	}
	return slices.DeleteFunc(drafts, func(d *draft) bool {
		kept := r.keeps[d.Account]
		if d.Account == "" || len(kept) == 0 {
			return false
		}
		for _, k := range kept {
			if r.leave(d, k) {
				r.out.Withheld = append(r.out.Withheld, planning.Withheld{Verb: d.Verb, Person: d.Person, Account: d.Account, Reason: keptWords(r.Charter.Lane, k)})
			}
		}
		return len(d.Edits)+len(d.names) == 0
	})
}

// keepsAlias reports whether an alias of an account is left where it is.
func (r *run) keepsAlias(a int, alias string) bool {
	return slices.ContainsFunc(r.keeps[r.accountID(a)], func(k planning.Intention) bool { return k.Attribute == "aliases" && k.Holds(record.Email, alias) })
}

func keptWords(lane string, k planning.Intention) string {
	return fmt.Sprintf("%s is kept as it is until %s: %s (twinning intention cancel %s %s ends that)", k.Attribute, k.Due, k.Reason, lane, k.ID)
}

// leave takes what is kept out of a draft; false where it wants nothing of that.
func (r *run) leave(d *draft, k planning.Intention) (wanted bool) {
	if d.Verb == planning.Delete && k.Attribute == "active" { // it is to be used
		wanted = len(d.Edits) > 0
		d.Edits = nil
		return wanted
	}
	kind := record.KindOf(k.Attribute)
	edits := d.Edits[:0:0]
	for _, e := range d.Edits {
		if e.Attribute != k.Attribute {
			edits = append(edits, e)
			continue
		}
		if kind.Multi() {
			want := keptIn(kind, e.Old, e.New, k.Values)
			wanted = wanted || want != e.New
			if e.New = want; record.Same(kind, want, e.Old) {
				continue
			}
			edits = append(edits, e)
			continue
		}
		wanted = true
	}
	d.Edits = edits
	if !slices.Contains(d.targets, k.Attribute) && !(k.Attribute == "aliases" && len(d.targets) > 0) {
		return wanted
	}
	x := *d.asking
	x.names, x.targets, x.reasons = nil, nil, nil
	for n, target := range d.targets {
		ask := d.names[n]
		has := func(v string) bool { return k.Holds(record.Email, v) }
		if target == k.Attribute && (target != "aliases" || slices.ContainsFunc(ask.Candidates, has)) {
			wanted = true
			continue
		}
		if k.Attribute == "aliases" { // whatever gives them up: a hand-over does with the primary address
			if gives := slices.DeleteFunc(slices.Clone(ask.Gives), has); len(gives) < len(ask.Gives) {
				wanted, ask.Gives = true, gives
				if len(ask.Candidates)+len(gives) == 0 && ask.Frees == "" {
					continue
				}
			}
		}
		x.names, x.targets, x.reasons = append(x.names, ask), append(x.targets, target), append(x.reasons, d.reasons[n])
	}
	d.asking = &x
	return wanted
}

// keptIn is a list as it is wanted, but for the values that are kept in it or out of it.
func keptIn(kind record.Kind, old, want string, values []string) string {
	for _, v := range values {
		x := planning.Wanted{Takes: []string{v}}
		if slices.ContainsFunc(record.SplitList(old), func(o string) bool { return record.Normal(kind, o) == record.Normal(kind, v) }) {
			x = planning.Wanted{Adds: []string{v}}
		}
		want = listWith(kind, want, x)
	}
	return want
}
