package reconcile

import (
	"cmp"
	"hash/maphash"
	"slices"
	"strings"

	"twinning/internal/core/finding"
	"twinning/internal/core/naming"
	"twinning/internal/core/parallel"
	"twinning/internal/core/record"
)

// nameIndex knows which accounts hold one name.
type nameIndex struct {
	*run
	columns [3]*record.Column // by naming.Attribute
	seed    maphash.Seed
}

// holding is where a name is held, by the hash of its folded form.
type holding struct {
	name uint64
	naming.Holding
}

// sharedNames tells which names of the downstream lead mail or people astray: an address
// that is an alias of one account and another's as well, and logins that nothing but upper
// and lower case tells apart. Both are told as they are now.
func (r *run) sharedNames() {
	if !r.Charter.GivesNames() {
		return
	}
	x := &nameIndex{run: r, seed: maphash.MakeSeed(), columns: naming.Columns(r.Accounts)}
	parts := parallel.Bucketed(r.Cores, r.Accounts.Len(), func(from, to int, put func(bucket uint8, h holding)) {
		for row := from; row < to; row++ {
			for as := range x.columns {
				at := naming.Holding{Row: record.Row(row), Attribute: naming.Attribute(as)}
				x.each(at, func(hash uint64, _ string) { put(uint8(hash), holding{hash, at}) })
			}
		}
	})
	for _, row := range r.Accounts.Order() {
		r.disguised(x, int(row))
	}
	var found [len(parts)][]finding.Finding
	parallel.Each(r.Cores, len(parts), func(i int) {
		list := parts[i]
		slices.SortFunc(list, func(a, b holding) int { return cmp.Compare(a.name, b.name) })
		for from, to := 0, 0; from < len(list); from = to {
			for to = from + 1; to < len(list) && list[to].name == list[from].name; {
				to++
			}
			if to-from > 1 {
				found[i] = append(found[i], x.shared(list[from:to])...)
			}
		}
	})
	r.out.Findings = append(r.out.Findings, slices.Concat(found[:]...)...)
}

// disguised tells which names of an account are not as they look.
func (r *run) disguised(x *nameIndex, row int) {
	for as, column := range x.columns {
		cell := column.Cell(row)
		if record.IsASCII(cell) {
			continue
		}
		attribute := [...]string{naming.Login: "userName", naming.Primary: "email", naming.Alias: "aliases"}[as]
		record.EachValue(cell, func(v string) {
			if how := record.Disguised(v); how != "" {
				r.report("value-invalid", -1, row, attribute, "its %s %q is not as it looks: %s", attribute, v, how)
			}
		})
	}
}

// each visits the names that an attribute of an account holds.
func (x *nameIndex) each(at naming.Holding, yield func(hash uint64, name string)) {
	record.EachValue(x.columns[at.Attribute].Cell(int(at.Row)), func(v string) { yield(maphash.String(x.seed, x.Charter.Alike.Fold(v)), v) })
}

// spelt is how a name is written where it is held.
func (x *nameIndex) spelt(h holding) (name string) {
	x.each(h.Holding, func(hash uint64, v string) {
		if hash == h.name {
			name = v
		}
	})
	return name
}

// fewHolders of a name are told of each: of what more hold is told once.
const fewHolders = 20

// shared tells what is wrong with a name that several attributes hold.
func (x *nameIndex) shared(list []holding) (found []finding.Finding) {
	slices.SortFunc(list, func(a, b holding) int {
		return cmp.Or(cmp.Compare(a.Attribute, b.Attribute), strings.Compare(x.accountID(int(a.Row)), x.accountID(int(b.Row))))
	})
	list = slices.Compact(list) // one account may hold it twice
	var logins, aliases []holding
	for _, h := range list {
		switch h.Attribute {
		case naming.Login:
			logins = append(logins, h)
		case naming.Alias:
			aliases = append(aliases, h)
		}
	}
	name := x.Charter.Alike.Fold(x.spelt(list[0]))
	if len(aliases) > fewHolders {
		return append(found, x.find("alias-shadows", -1, -1, name, "%q is an alias of %d accounts: mail to it goes to one of them, or to all", name, len(aliases)))
	}
	for _, alias := range aliases {
		i := slices.IndexFunc(list, func(h holding) bool { return h.Row != alias.Row })
		if i < 0 {
			continue // the account's own login or address as well
		}
		words := [...]string{naming.Login: "the login", naming.Primary: "the address", naming.Alias: "an alias"}[list[i].Attribute]
		found = append(found, x.find("alias-shadows", -1, int(alias.Row), name, "its alias %q is %s of account %q (%s) as well", x.spelt(alias), words, x.accountID(int(list[i].Row)), x.Accounts.Column("userName").Cell(int(list[i].Row))))
	}
	for i := 1; i < min(len(logins), fewHolders); i++ {
		if a, b := x.spelt(logins[0]), x.spelt(logins[i]); a != b {
			found = append(found, x.find("case-only", -1, int(logins[i].Row), name, "its login %q and that of account %q, %q, differ in upper and lower case alone", b, x.accountID(int(logins[0].Row)), a))
		}
	}
	return found
}
