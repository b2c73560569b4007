package reconcile

import (
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
