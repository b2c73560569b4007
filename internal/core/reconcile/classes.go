package reconcile

import (
	"slices"

	"twinning/internal/core/charter"
	"twinning/internal/core/pairing"
	"twinning/internal/core/planning"
)

// class are the rules of one class of people, tied to the rosters.
type class struct {
	charter.Class
	when    *charter.Bound
	rules   []rule
	groups  []groupRule
	aliases []*charter.Bound // give the addresses beside the primary one
	number  int16            // its place among the charter's
}

func (r *run) classOf(c charter.Class) class {
	x := class{Class: c, when: r.bind(c.When), rules: r.rulesOf(c), groups: r.groupRules(c)}
	if c.Emails != nil {
		for _, a := range c.Emails.Aliases {
			x.aliases = append(x.aliases, r.bind(a))
		}
	}
	return x
}

// walker visits people, or accounts without any, who are in no class until it is known better.
func (d *desirer) walker(into *piece) *walker {
	return &walker{desirer: d, piece: into, class: d.common()}
}

func (d *desirer) common() *class { return &d.classes[len(d.classes)-1] }

// classify finds somebody's class; false when it can't be told, and nothing is done then about
// an account that they have or want.
func (w *walker) classify(p int) bool {
	class, unknown := w.classIndex(p)
	if unknown == "" {
		w.class = &w.classes[class]
		return true
	}
	twin := -1
	if w.out.Pairing.PersonState[p] == pairing.Twinned {
		twin = int(w.out.Pairing.PersonTwin[p])
	} else {
		w.withhold(planning.Create, p, -1, "whether they are of class "+w.classes[class].Name+" can't be told: "+unknown)
	}
	w.note("value-invalid", p, twin, "classes", "whether they are of class %s can't be told (charter line %d): %s", w.classes[class].Name, w.classes[class].Line, unknown)
	return false
}

// classIndex is the first class whose condition holds; unknown says why that can't be told.
func (d *desirer) classIndex(p int) (i int, unknown string) {
	for i := range d.classes {
		when := d.classes[i].when
		if when == nil {
			return i, ""
		}
		v := when.Eval(p, -1)
		switch holds, known := v.True(); {
		case !known:
			return i, unclearReason(v)
		case holds:
			return i, ""
		}
	}
	return len(d.classes) - 1, ""
}

// unlike are the attributes that classes rule differently.
func unlike(classes []class) map[string]bool {
	differ := map[string]bool{}
	common := &classes[len(classes)-1]
	ruled := func(c *class, attribute string) string {
		i := slices.IndexFunc(c.Rules, func(r charter.AttributeRule) bool { return r.Attribute == attribute })
		if i < 0 {
			return ""
		}
		return c.Rules[i].Path
	}
	for i := range classes {
		c := &classes[i]
		for _, r := range slices.Concat(c.Rules, common.Rules) {
			if ruled(c, r.Attribute) != ruled(common, r.Attribute) {
				differ[r.Attribute] = true
			}
		}
		if c.Emails != common.Emails {
			differ["email"], differ["aliases"] = true, true
		}
		if slices.ContainsFunc(c.groups, func(g groupRule) bool { return g.never }) {
			differ["groups"] = true
		}
		if !c.SignsIn {
			differ["active"] = true
		}
	}
	return differ
}

// step orders what a change of class does: what takes rights away first, what gives them last.
var step = map[string]int{
	planning.Suspend: 0, planning.Withdraw: 0,
	planning.Rename: 1, planning.Readdress: 1,
	planning.Set: 2, planning.Place: 2, planning.Hide: 2,
	planning.Enrol:  3,
	planning.Unhide: 4, planning.Reinstate: 4,
}

// asOne makes one ordered unit of what classes want of an account that is there: whoever
// changes from one to another is not left halfway, and whoever may do less may not do more
// on the way. What can't be done now is not waited for.
func (r *run) asOne(drafts []*draft) {
	if len(r.Charter.Classes) == 0 || r.Deferred { // a row of an upload says it all at once
		return
	}
	unlike := r.desirer().unlike
	inherits := map[int][]*draft{} // what stands with those who hand over, and not with what else is done of its account
	for _, d := range drafts {
		if d.pass().group > 0 {
			inherits[d.a] = append(inherits[d.a], d)
		}
	}
	if len(inherits) > 0 {
		drafts = slices.DeleteFunc(slices.Clone(drafts), func(d *draft) bool { return d.pass().group > 0 })
	}
	for from, to := 0, 0; from < len(drafts); from = to {
		for to = from; to < len(drafts) && drafts[to].p == drafts[from].p && drafts[to].a == drafts[from].a; {
			to++
		}
		all := drafts[from:to]
		if more := inherits[drafts[from].a]; len(more) > 0 {
			all = slices.Concat(all, more)
		}
		if drafts[from].p < 0 || drafts[from].a < 0 || len(all) < 2 {
			continue
		}
		classed := func(d *draft) bool {
			return slices.ContainsFunc(d.Edits, func(e planning.Edit) bool { return unlike[e.Attribute] })
		}
		list := slices.DeleteFunc(slices.Clone(all), func(d *draft) bool {
			return d.dropped || !classed(d) && d.Verb != planning.Rename && d.Verb != planning.Readdress // its names go together
		})
		if slices.ContainsFunc(list, func(d *draft) bool { return classed(d) && d.turns() }) {
			inSteps(list)
		}
	}
}

// turns: it makes the account another's than it was: it opens or shuts it, gives it another
// name, or takes it out of groups. Whoever only gets more has not changed class.
func (d *draft) turns() bool {
	switch d.Verb {
	case planning.Suspend, planning.Reinstate, planning.Rename, planning.Withdraw:
		return true
	}
	return slices.ContainsFunc(d.Edits, func(e planning.Edit) bool { return e.Attribute == "email" && e.Old != "" })
}

// inSteps has the changes of each step need those of the one before. Names need no names so:
// other accounts may stand between them.
func inSteps(drafts []*draft) {
	if len(drafts) < 2 {
		return
	}
	slices.SortStableFunc(drafts, func(a, b *draft) int { return step[a.Verb] - step[b.Verb] })
	var before, now []*draft
	for i, d := range drafts {
		if i > 0 && step[d.Verb] != step[drafts[i-1].Verb] {
			before, now = now, nil
		}
		for _, earlier := range before {
			d.need(earlier.ID)
		}
		d.Unit, now = drafts[0].ID, append(now, d)
	}
}
