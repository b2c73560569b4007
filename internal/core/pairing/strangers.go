package pairing

import (
	"sync/atomic"

	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/pairing/likeness"
	"twinning/internal/core/parallel"
	"twinning/internal/core/record"
)

// A key has to face the names. A number that two houses issue, or one that was given a second
// time, agrees on two humans; then their given names disagree, and neither an address nor a
// telephone of the one is the other's. A value that one of them lacks speaks for nothing.

// strangers reports whether two records that a key joins look like two humans'; named is how
// their names agree.
func strangers(named *evidence.Pattern, people *record.Roster, p int, accounts *record.Roster, a int) bool {
	return named.GivenDiffer() && !reachedAlike(people, p, accounts, a) && !SameName(people, p, accounts, a)
}

// reachedAlike reports whether two records carry one address, or one telephone.
func reachedAlike(people *record.Roster, p int, accounts *record.Roster, a int) bool {
	for _, name := range [...]string{"emails", "personalEmail"} {
		for _, v := range people.All(p, name) {
			if carries(accounts, a, v) {
				return true
			}
		}
	}
	return likeness.Phones(people.All(p, "phoneNumbers"), accounts.All(a, "phoneNumbers")).Level > likeness.Differ
}

// carries reports whether an address is one of a record's.
func carries(r *record.Roster, row int, address string) bool {
	for _, name := range [...]string{"emails", "personalEmail"} {
		for _, v := range r.All(row, name) {
			if v == address || record.Normal(record.Email, v) == record.Normal(record.Email, address) {
				return true
			}
		}
	}
	return false
}

// contradictions counts the pairs of a surveyed key that look like two humans each.
func contradictions(twins []record.Row, people, accounts *record.Roster, plain [2]*evidence.Records, cores int) int {
	var n atomic.Int64
	parallel.InChunks(cores, len(twins), func() func(from, to int) {
		left, right, spelling := plain[0].Reader(), plain[1].Reader(), spellings(people, accounts)
		return func(from, to int) {
			for p := from; p < to; p++ {
				if a := int(twins[p]); a >= 0 && !spelling.same(p, a) {
					if named := evidence.Named(left, p, right, a); strangers(&named, people, p, accounts, a) {
						n.Add(1)
					}
				}
			}
		}
	})
	return int(n.Load())
}
