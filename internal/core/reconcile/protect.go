package reconcile

import (
	"fmt"
	"maps"
	"slices"

	"twinning/internal/core/charter"
	"twinning/internal/core/planning"
	"twinning/internal/core/record"
)

// What a downstream can't do without is not taken from it: its last administrator, the last
// owner of something, and more seats than it has are withheld, and told.

// keepAdministrator withholds what would shut the last account that administers the
// downstream and can sign in.
func (r *run) keepAdministrator(drafts []*draft) []*draft {
	admins := r.bind(r.Charter.Admins)
	if admins == nil {
		return drafts
	}
	open := map[int]bool{} // who administers it, or may, and can sign in
	left := 0              // who surely does, and is not to be shut
	for a := range r.Accounts.Len() {
		if _, unread := r.Accounts.Present(a); unread || r.surelyShut(a) {
			continue
		}
		holds, known := admins.Eval(-1, a).True()
		surely := holds && r.unclearAt[a] == ""
		if holds || !known { // who may be one is one, as far as shutting them goes
			open[a] = surely
		}
		if surely {
			left++
		}
	}
	shuts := func(d *draft) bool {
		_, may := open[d.a]
		return may && d.shuts()
	}
	for _, d := range drafts {
		if shuts(d) && open[d.a] {
			left--
		}
	}
	if left > 0 {
		return drafts
	}
	return slices.DeleteFunc(drafts, func(d *draft) bool {
		if !shuts(d) {
			return false
		}
		r.protect(d, "last-administrator", "", "no administrator of "+r.Charter.In+" would be left who can sign in")
		return true
	})
}

// surelyShut: all that is known of the account says that nobody can sign in with it.
func (r *run) surelyShut(a int) bool {
	return r.Accounts.Column("active").Cell(a) == "false" && !slices.ContainsFunc(r.Accounts.Several(a, "active"), func(v string) bool { return v != "false" })
}

// shuts: nobody can sign in with the account any more, or it is gone.
func (d *draft) shuts() bool { return d.Verb == planning.Suspend || d.Verb == planning.Delete }

func (r *run) protect(d *draft, code, subject, why string) {
	r.out.Withheld = append(r.out.Withheld, planning.Withheld{Verb: d.Verb, Person: d.Person, Account: d.Account, Reason: why})
	r.report(code, d.p, d.a, subject, "%s; it is withheld", why)
}

// keepOwners withholds what would leave something without an owner who can sign in. Of
// several owners who are shut together all are kept: which of them is to stay is not ours
// to say.
func (r *run) keepOwners(drafts []*draft) []*draft {
	owns := r.bind(r.Charter.Owns)
	if owns == nil || !slices.ContainsFunc(drafts, (*draft).shuts) {
		return drafts
	}
	owned := func(a int) []string { return record.SplitList(owns.Eval(-1, a).Cell()) }
	open := func(a int) string { v := owns.Eval(-1, a); return v.Undecided() }
	left := map[string]int{} // what is owned -> by how many who stay
	for a := range r.Accounts.Len() {
		if _, unread := r.Accounts.Present(a); unread || r.surelyShut(a) || r.unclearAt[a] != "" {
			continue
		}
		for _, what := range owned(a) {
			left[record.Normal(record.Text, what)]++
		}
	}
	counted := map[int]bool{} // an account may be suspended, and deleted later
	for _, d := range drafts {
		if d.shuts() && !counted[d.a] && !r.surelyShut(d.a) && r.unclearAt[d.a] == "" {
			counted[d.a] = true
			for _, what := range owned(d.a) {
				left[record.Normal(record.Text, what)]--
			}
		}
	}
	return slices.DeleteFunc(drafts, func(d *draft) bool {
		if !d.shuts() {
			return false
		}
		if attribute := open(d.a); attribute != "" {
			r.protect(d, "last-owner", "", "what the account owns can't be told: "+owns.Eval(-1, d.a).Fault())
			return true
		}
		last := slices.DeleteFunc(owned(d.a), func(what string) bool { return left[record.Normal(record.Text, what)] > 0 })
		if len(last) == 0 {
			return false
		}
		r.protect(d, "last-owner", "", fmt.Sprintf("nobody else who can sign in owns %s", quoted(last)))
		return true
	})
}

// withinSeats withholds what would have more accounts sign in than there are seats, puts
// nobody into a group that is full, and gives nobody a licence that is. Seats that this plan
// frees are free in the next one: until it is run they are taken.
func (r *run) withinSeats(drafts []*draft) []*draft {
	if seats := r.Charter.Seats; seats > 0 {
		drafts = r.seated(drafts, seats)
	}
	for _, g := range r.Charter.EveryGroup() {
		if g.Seats > 0 && r.Accounts.Column("groups") != nil {
			for _, name := range g.Enrol {
				drafts = r.seatedIn(drafts, "groups", name, g.Seats, false)
			}
		}
	}
	r.Charter.EveryRule(func(rule charter.AttributeRule) {
		if rule.Seats > 0 && r.Accounts.Column(rule.Attribute) != nil {
			drafts = r.seatedBy(drafts, rule)
		}
	})
	return drafts
}

func (r *run) seated(drafts []*draft, seats int) []*draft {
	taken, wanted := 0, 0
	for a := range r.Accounts.Len() {
		if !r.surelyShut(a) { // who may sign in for all that is known takes one
			taken++
		}
	}
	left := map[string]bool{} // without a seat
	for _, d := range byWave(drafts) {
		if d.Verb != planning.Reinstate && (d.Verb != planning.Create || slices.ContainsFunc(d.Edits, func(e planning.Edit) bool { return e.Attribute == "active" && e.New == "false" })) {
			continue
		}
		if wanted++; taken+wanted > seats {
			left[d.ID] = true
			r.out.Withheld = append(r.out.Withheld, planning.Withheld{Verb: d.Verb, Person: d.Person, Account: d.Account, Reason: fmt.Sprintf("the seats of %s (%d) are taken", r.Charter.In, seats)})
		}
	}
	if taken+wanted > seats {
		r.report("seats-short", -1, -1, "accounts", "%d accounts can sign in and %d more are wanted, and there are %d seats: %d short", taken, wanted, seats, taken+wanted-seats)
	}
	return slices.DeleteFunc(drafts, func(d *draft) bool { // also what was to be done to an account that is not made
		return left[d.ID] || slices.ContainsFunc(d.Needs, func(need string) bool { return left[need] })
	})
}

// byWave are the drafts in the order in which they are carried out; one that is in no wave
// wants nothing.
func byWave(drafts []*draft) []*draft {
	drafts = slices.DeleteFunc(slices.Clone(drafts), func(d *draft) bool { return d.Wave < 0 })
	slices.SortStableFunc(drafts, func(a, b *draft) int { return a.Wave - b.Wave })
	return drafts
}

// seatedIn gives nobody a value of an attribute, a group or a licence, that as many accounts
// hold as may; an account that it is required of is not made without.
func (r *run) seatedIn(drafts []*draft, attribute, value string, seats int, required bool) []*draft {
	name, column := record.Normal(record.Text, value), r.Accounts.Column(attribute)
	is := func(v string) bool { return record.Normal(record.Text, v) == name }
	taken, wanted := 0, 0
	for a := range r.Accounts.Len() {
		if slices.ContainsFunc(record.SplitList(column.Cell(a)), is) {
			taken++
		}
	}
	none := map[*draft]bool{} // wants nothing else
	for _, d := range byWave(drafts) {
		without := false
		for i := range d.Edits {
			e := &d.Edits[i]
			list := record.SplitList(e.New)
			if e.Attribute != attribute || d.Verb == planning.Withdraw || slices.ContainsFunc(record.SplitList(e.Old), is) || !slices.ContainsFunc(list, is) {
				continue
			}
			if wanted++; taken+wanted <= seats {
				continue
			}
			r.out.Withheld = append(r.out.Withheld, planning.Withheld{Verb: d.Verb, Person: d.Person, Account: d.Account, Reason: fmt.Sprintf("the seats of %q (%d) are taken", value, seats)})
			if e.New = record.JoinList(slices.DeleteFunc(list, is)); !record.KindOf(attribute).Multi() {
				e.New = e.Old // it stays as it is
			}
			without = without || required && d.Verb == planning.Create && e.New == ""
		}
		d.Edits = slices.DeleteFunc(d.Edits, func(e planning.Edit) bool { return e.Attribute == attribute && e.New == e.Old })
		none[d] = without || len(d.Edits) == 0 && len(d.names) == 0
	}
	if taken+wanted > seats {
		subject := map[bool]string{true: "group", false: attribute}[attribute == "groups"] + " " + name
		r.report("seats-short", -1, -1, subject, "%d accounts have %q and %d more are wanted, and there are %d seats: %d short", taken, value, wanted, seats, taken+wanted-seats)
	}
	return slices.DeleteFunc(drafts, func(d *draft) bool { return none[d] })
}

// seatedBy holds the seats of each value that a rule gives.
func (r *run) seatedBy(drafts []*draft, rule charter.AttributeRule) []*draft {
	values := map[string]string{} // normalised -> as it is given
	for _, d := range drafts {
		for _, e := range d.Edits {
			if e.Attribute == rule.Attribute {
				record.EachValue(e.New, func(v string) {
					if n := record.Normal(record.Text, v); values[n] == "" {
						values[n] = v
					}
				})
			}
		}
	}
	for _, n := range slices.Sorted(maps.Keys(values)) {
		drafts = r.seatedIn(drafts, rule.Attribute, values[n], rule.Seats, rule.Required)
	}
	return drafts
}
