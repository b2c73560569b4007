package reconcile

import (
	"fmt"
	"slices"
	"strings"

	"twinning/internal/core/calendar"
	"twinning/internal/core/charter"
	"twinning/internal/core/naming"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// An alias stays where it is unless the charter says that it goes: mail is sent to it, and
// who first gave it to the account says nothing about who still uses it.

// alsoAddressed holds the aliases of an account against those that it should have; account -1
// is one that d makes.
func (w *walker) alsoAddressed(d *draft, p, a int) {
	e := w.class.Emails
	column := w.Accounts.Column("aliases")
	if e == nil || column == nil || len(w.class.aliases) == 0 && e.Ours == nil && (e.Kept == 0 || a < 0 || len(w.Memory.Former[w.Accounts.ID(a)]) == 0) {
		return
	}
	held, primary := map[string]bool{}, ""
	now := ""
	if a >= 0 {
		now, primary = column.Cell(a), naming.Fold(w.Accounts.Column("email").Cell(a))
		if e.Rule == charter.Once || e.Rule == charter.Fill && now != "" || w.Charter.Intent == "add" {
			return
		}
		record.EachValue(now, func(v string) { held[naming.Fold(v)] = true })
	}
	if o := w.drafted(planning.Readdress, p, a); a >= 0 && o != nil && slices.Contains(o.targets, "email") {
		primary = "" // it changes, and what it is now may be an alias
	}
	wanted, sure := w.wantedAliases(p, a)
	var missing, goes []string
	for _, v := range wanted {
		if n := naming.Fold(v); !held[n] && n != primary {
			missing = append(missing, v)
		}
	}
	reason := fmt.Sprintf("emails: aliases (charter line %d)", e.Line)
	if sure && (e.Ours != nil || e.Kept > 0) {
		over := w.formerOver(a, e.Kept)
		record.EachValue(now, func(v string) {
			n := naming.Fold(v)
			if over[n] {
				reason = fmt.Sprintf("emails: former addresses are kept for %d days (charter line %d)", e.Kept, e.Line)
			}
			if (e.Takes(v) || over[n]) && !slices.ContainsFunc(wanted, func(x string) bool { return naming.Fold(x) == n }) {
				goes = append(goes, v)
			}
		})
	}
	switch {
	case len(missing)+len(goes) == 0:
		return
	case e.Rule == charter.Watch:
		for _, v := range missing {
			w.note("drift", p, a, "aliases "+naming.Fold(v), "%q is no alias of the account, and should be (watched, never written)", v)
		}
		return
	case e.Most > 0 && len(held)+len(missing)-len(goes) > e.Most && len(missing) > 0:
		w.note("over-limit", p, a, "aliases", "the account would have %d aliases, %d are allowed; none is added", len(held)+len(missing)-len(goes), e.Most)
		missing = nil
		if len(goes) == 0 {
			return
		}
	}
	if d == nil {
		d = w.begun(planning.Readdress, p, a)
	}
	w.rest(d, p, a, w.class.aliases...)
	for _, v := range missing {
		w.ask(d, "aliases", reason, naming.Request{Owner: d.owner(), Account: a, Candidates: []string{v}, Attribute: naming.Alias, Optional: true})
	}
	if len(goes) > 0 {
		w.ask(d, "aliases", reason, naming.Request{Owner: d.owner(), Account: a, Attribute: naming.Alias, Gives: goes})
	}
}

// formerOver are the former addresses of an account that were kept for long enough.
func (w *walker) formerOver(a, days int) map[string]bool {
	over := map[string]bool{}
	if a < 0 || days == 0 {
		return over
	}
	for address, since := range w.Memory.Former[w.Accounts.ID(a)] {
		if calendar.Add(since, days) <= w.today {
			over[naming.Fold(address)] = true
		}
	}
	return over
}

// wantedAliases are what the rules give; sure is that all of them could be computed.
func (w *walker) wantedAliases(p, a int) (wanted []string, sure bool) {
	sure = true
	for _, b := range w.class.aliases {
		v := b.Eval(p, a)
		sure = sure && v.Fault() == ""
		record.EachValue(v.Cell(), func(x string) {
			x = strings.TrimSpace(x)
			switch {
			case x == "" || slices.ContainsFunc(wanted, func(o string) bool { return naming.Fold(o) == naming.Fold(x) }):
			case record.Disguised(x) != "":
				w.note("value-invalid", p, a, "aliases", "%q is not as it looks: %s; it is not written", x, record.Disguised(x))
			case !record.ValidEmail(x):
				w.note("value-invalid", p, a, "aliases", "%q is no e-mail address", x)
				sure = false
			case !w.class.Emails.MayBeAlias(x):
				w.note("domain-foreign", p, a, "aliases", "%q is in a domain that takes no addresses here; it is not written", x)
			case b.Expr.Attribute() == "" && w.Charter.Reserved(x):
				w.note("email-taken", p, a, naming.Fold(x), "%s: kept for a role (names.reserved, RFC 2142)", x)
			default:
				wanted = append(wanted, x)
			}
		})
	}
	return wanted, sure
}

// aliases writes what becomes of an account's aliases once its names are granted: the former
// primary address stays as one, unless somebody takes it over in this very plan, and the new
// one is none any more.
func (r *run) aliases(d *draft, taken map[string]string) {
	former, primary, changes := "", "", len(d.gained) > 0
	reason := ""
	var gives []string
	for n, ask := range d.names {
		switch d.targets[n] {
		case "email":
			former, reason = ask.Frees, d.reasons[n]
			changes = changes || d.a >= 0
			for _, e := range d.Edits {
				if e.Attribute == "email" {
					primary = e.New
				}
			}
		case "aliases":
			if reason == "" {
				reason = d.reasons[n]
			}
			changes = changes || len(ask.Gives) > 0
		}
		gives = append(gives, ask.Gives...)
	}
	if !changes {
		return
	}
	keeps := former != "" && d.emails != nil && d.emails.Former == "keep" && d.pass().heir == nil
	column := r.Accounts.Column("aliases")
	if column == nil { // nothing can be written that is not read
		if keeps {
			i := slices.IndexFunc(d.Edits, func(e planning.Edit) bool { return e.Attribute == "email" })
			d.Edits[i].Reason += "; the former address is not kept: the accounts' shape has no aliases"
		}
		return
	}
	old := ""
	if d.a >= 0 {
		old = column.Cell(d.a)
	}
	goes := func(v string) bool {
		n := naming.Fold(v)
		return n == naming.Fold(primary) || slices.ContainsFunc(gives, func(g string) bool { return naming.Fold(g) == n })
	}
	kept := slices.DeleteFunc(record.SplitList(old), goes)
	add := func(v string) {
		fold := r.Charter.Alike.Fold
		if n := fold(v); n != fold(primary) && !slices.ContainsFunc(kept, func(k string) bool { return fold(k) == n }) {
			kept = append(kept, v)
		}
	}
	taker, yields := taken[r.Charter.Alike.Fold(former)]
	if keeps && !d.emails.Takes(former) && !standsBetween(former) {
		if d.Yields = yields && taker != d.owner(); !d.Yields {
			add(former)
		}
	}
	for _, v := range d.gained {
		add(v)
	}
	if now := record.JoinList(kept); now != old {
		d.Edits = append(d.Edits, planning.Edit{Attribute: "aliases", Old: old, New: now, Reason: reason})
	}
}
