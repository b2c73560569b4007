package reconcile

import (
	"slices"
	"strings"
	"unicode/utf8"

	"twinning/internal/core/charter"
	"twinning/internal/core/naming"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// missing looks at a person in scope who has no account: what the new account
// would be, or why none is planned.
func (w *walker) missing(p int) {
	if i, waits := w.awaited(p); waits {
		w.await(p, i)
		return
	}
	detail := "in scope, without account"
	switch {
	case w.Charter.Intent == "update":
		detail += "; the charter only updates"
	case w.noCreate != "":
		detail += "; not created: " + w.noCreate
		w.withhold(planning.Create, p, -1, w.noCreate)
	}
	w.note("missing-account", p, -1, "", "%s", detail)
	if !w.classify(p) {
		return
	}
	if w.emailOn && w.People.Column("email").Cell(p) == "" {
		w.note("no-email", p, -1, "", "the person has no e-mail address")
	}
	if w.Charter.Intent == "update" || w.noCreate != "" {
		return
	}
	if w.markHeld(planning.Create, p, -1) {
		return
	}
	d := &draft{p: p, a: -1, asking: asksNothing}
	d.Verb, d.Person, d.Wave, d.Class = planning.Create, w.personID(p), w.wave(planning.Create, p, -1), w.class.number
	d.ID = planning.ChangeID(d.Verb, d.Person, "")
	if w.fillNew(d, p) {
		w.alsoAddressed(d, p, -1)
		w.drafts = append(w.drafts, d)
		w.inOrder(d, p, -1)
		w.welcome(d, p)
		w.firstSecret(d, p)
	}
}

// welcome puts a new account into its groups, once it is there.
func (w *walker) welcome(create *draft, p int) {
	if len(w.class.groups) == 0 || w.Accounts.Column("groups") == nil {
		return
	}
	order, by := w.wishes(create, p, -1)
	w.enrol(p, -1, "", order, by)
	if last := w.drafts[len(w.drafts)-1]; last.Verb == planning.Enrol && last.p == p {
		last.need(create.ID)
	}
}

// fillNew computes a new account's values; false when one it can't do without
// is missing.
func (w *walker) fillNew(d *draft, p int) bool {
	complete := true
	for i := range w.class.rules {
		r := &w.class.rules[i]
		if r.named && (r.Rule == charter.Watch || r.Rule == charter.Upstream) && r.name == naming.Primary || r.fixed != "" && r.target == nil {
			continue
		}
		x := w.want(r, p, -1, "")
		if x.open != "" {
			w.several(r.Attribute, r.reads, p, -1)
			if r.named || r.mark || r.Required {
				w.note("required-missing", p, -1, r.Attribute, "%s can't be told: %s", r.Attribute, orBlank(x.fault))
				complete = false
			}
			continue
		}
		if r.named {
			names := w.usable(r, p, -1, x)
			if len(names) == 0 {
				complete = false
				switch {
				case x.reserved != "" || len(x.names) > 0: // it is told
				case r.name == naming.Login:
					w.note("required-missing", p, -1, "userName", "no candidate for userName can be computed: %s", faults(r.values, p))
				case w.People.Column("email").Cell(p) != "": // else it is told that they have none
					w.note("required-missing", p, -1, "email", "the primary address can't be computed: %s", faults(r.values, p))
				}
			}
			w.rest(d, p, -1, r.values...)
			w.ask(d, r.Attribute, r.reason, naming.Request{Owner: d.owner(), Account: -1, Candidates: names, Attribute: r.name})
			continue
		}
		switch {
		case strings.ContainsRune(x.cell, utf8.RuneError):
			w.note("value-damaged", p, -1, r.Attribute, "%s is %q: letters are lost; it is left blank", r.Attribute, record.PlainList(x.cell))
			complete = complete && !r.Required
		case w.tooLong(r, p, -1, x.cell):
			complete = complete && !r.Required
		case x.cell != "" && r.Rule != charter.Watch && r.Rule != charter.Upstream:
			d.Edits = append(d.Edits, planning.Edit{Attribute: r.Attribute, New: x.cell, Reason: r.reason})
			w.restOnValue(d, r, p, -1, x)
		case x.cell == "" && r.Required:
			w.note("required-missing", p, -1, r.Attribute, "%s can't be computed: %s", r.Attribute, x.fault)
			complete = false
		}
	}
	return complete
}

func faults(values []*charter.Bound, p int) string {
	var out []string
	for _, v := range values {
		if f := v.Eval(p, -1).Fault(); f != "" && !slices.Contains(out, f) {
			out = append(out, f)
		}
	}
	if len(out) == 0 {
		return "they come out blank"
	}
	return strings.Join(out, "; ")
}
