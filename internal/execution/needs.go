package execution

import (
	"fmt"
	"slices"

	"twinning/internal/core/planning"
	"twinning/internal/store"
)

// What a change waits for is another change of its plan: that an account is there, a name free,
// somebody shut. Whether that is so by now is asked here.

// noteMade keeps which account a change has made. The caller holds the lock, or is alone.
func (q *queue) noteMade(c store.Change, r store.Receipt) {
	if c.Verb == planning.Create && r.Account != "" && planning.IsAccepted(r.Outcome) {
		q.made[c.ID] = r.Account
	}
}

// madeFor is the account that a change is about, which another of its plan has made.
func (q *queue) madeFor(c store.Change) string {
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, need := range c.Body.V.Needs {
		if account := q.made[need]; account != "" {
			return account
		}
	}
	return ""
}

// hinders: an attribute that other changes wait for shows otherwise than it was sent: a name, an
// address, the place, or whether its holder may sign in.
func hinders(r store.Receipt) bool {
	for attribute := range r.Differs.V {
		if slices.Contains(planning.AwaitedAttributes, attribute) {
			return true
		}
	}
	return false
}

// cameAbout: what other changes wait for of a change is so. A new account is there whatever it
// shows. The caller holds the lock.
func (q *queue) cameAbout(id string) bool {
	switch q.outcome[id] {
	case "done", "unchanged":
		return true
	case "different":
		c := q.byID[id]
		return !q.hinders[id] || c != nil && c.Verb == planning.Create
	}
	return false
}

// unmet names a need that did not come about.
func (q *queue) unmet(c store.Change) string {
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, need := range c.Body.V.Needs {
		if !q.cameAbout(need) {
			other, o := q.byID[need], q.outcome[need]
			if other == nil {
				return "what must come first is not in this plan"
			}
			if o == "" {
				o = "not done"
			}
			return fmt.Sprintf("%s of %s must come first and is %s", other.Verb, other.Label, o)
		}
	}
	return ""
}
