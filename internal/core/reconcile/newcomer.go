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
	detail := "in scope, without account"
	switch {
	case w.Charter.Intent == "update":
		detail += "; the charter only updates"
	case w.noCreate != "":
		detail += "; not created: " + w.noCreate
		w.withhold(planning.Create, p, -1, w.noCreate)
	}
	w.note("missing-account", p, -1, "", "%s", detail)
	if w.emailOn && w.People.Column("email").Cell(p) == "" {
		w.note("no-email", p, -1, "", "the person has no e-mail address")
	}
	if w.Charter.Intent == "update" || w.noCreate != "" {
		return
	}
	if w.markHeld(planning.Create, p, -1) {
		return
	}
	d := &draft{p: p, a: -1}
	d.Verb, d.Person, d.Wave = planning.Create, w.personID(p), w.wave(p, -1)
	d.ID = planning.ChangeID(d.Verb, d.Person, "")
	if w.fillNew(d, p) {
		w.drafts = append(w.drafts, d)
	}
}

// fillNew computes a new account's values; false when one it can't do without
// is missing.
func (w *walker) fillNew(d *draft, p int) bool {
	complete := true
	for i := range w.rules {
		r := &w.rules[i]
		if r.Attribute == "userName" {
			want, reserved := w.candidates(r.values, p, -1, "")
			if len(want) == 0 {
				complete = false
				if reserved != "" {
					w.note("username-taken", p, -1, "", "%s: kept for a role (names.reserved, RFC 2142)", reserved)
				} else {
					w.note("required-missing", p, -1, "userName", "no candidate for userName can be computed: %s", faults(r.values, p))
				}
				continue
			}
			d.ask("userName", r.reason, naming.Request{Owner: d.Person, Account: -1, Candidates: want, Attribute: naming.Login})
			continue
		}
		want, fault := w.value(r, p, -1)
		if want != "" && !r.kind.Multi() {
			w.several(r.Attribute, r.reads, p, -1)
		}
		switch {
		case strings.ContainsRune(want, utf8.RuneError):
			w.note("value-damaged", p, -1, r.Attribute, "%s is %q: letters are lost; it is left blank", r.Attribute, record.PlainList(want))
			complete = complete && !r.Required
		case want != "" && r.Rule != charter.Watch:
			d.Edits = append(d.Edits, planning.Edit{Attribute: r.Attribute, New: want, Reason: r.reason})
		case want == "" && r.Required:
			w.note("required-missing", p, -1, r.Attribute, "%s can't be computed: %s", r.Attribute, fault)
			complete = false
		}
	}
	if w.Charter.Emails != nil && w.Charter.Emails.Rule != charter.Watch {
		list, reserved := w.candidates(w.primary, p, -1, "")
		want := w.addresses(p, -1, list, reserved)
		complete = complete && len(want) > 0
		d.ask("email", w.emails, naming.Request{Owner: d.Person, Account: -1, Candidates: want, Attribute: naming.Primary})
	}
	if w.Accounts.Column("active") != nil {
		d.Edits = append(d.Edits, planning.Edit{Attribute: "active", New: "true", Reason: "a new account can sign in"})
	}
	if mark := w.markValue(p); w.Input.Mark != "" && mark != "" {
		d.Edits = append(d.Edits, planning.Edit{Attribute: w.Input.Mark, New: mark, Reason: "mark: so that this twin is found again"})
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
