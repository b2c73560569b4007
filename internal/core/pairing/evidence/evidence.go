// Package evidence weighs what two records say about who they are, after
// Fellegi and Sunter (1969): every comparator finds a level of agreement, and a
// level is worth the logarithm, in bits, of how much more often it is found
// between two records of one human than between those of two.
//
// What agrees by its value is worth what that value is: a rare surname says
// more than a common one. The share of the records that carry a value is
// counted over both rosters, the pair's own two records left out.
//
// Evidence that comes from one source is counted once. Logins and local parts
// are mostly made of the name, so where the names agree already they only add
// what the name doesn't give; where the names are not known or differ, they
// stand for the name. Missing is not disagreement.
//
// Nothing here decides: a weight becomes a probability only among all the
// candidates of both records (package assignment).
package evidence

import "twinning/internal/core/pairing/likeness"

// Comparator is one thing that two records are compared by.
type Comparator uint8

const (
	Family Comparator = iota
	Given
	Middle
	Login
	Email
	Phone
	Number
	Day
	Department
	Title
	Location
	Status
	declared // and what a charter declares
	declared2
	declared3
	declared4
	comparators
)

var comparatorNames = [comparators]string{"familyName", "givenName", "middleName", "login", "email", "phone", "number", "day", "department", "title", "location", "status", "", "", "", ""}

func (c Comparator) String() string { return comparatorNames[c] }

// Level is an agreement level of a comparator; 0 is missing for each of them,
// and 1 is the worst.
type Level uint8

// Levels of all comparators but Login, Number and Status are those of likeness.
const (
	missing Level = Level(likeness.Missing)
	differ        = Level(likeness.Differ)
	faint         = Level(likeness.Faint)
	begun         = Level(likeness.Begun)
	part          = Level(likeness.Part)
	short         = Level(likeness.Short)
	variant       = Level(likeness.Variant)
	near          = Level(likeness.Near)
	same          = Level(likeness.Same)
	most          = same + 1 // levels there are
)

// Levels of Login, where the names agree: what the login says beyond the name.
const (
	loginOther   Level = 1 + iota // made in another way
	loginDigits                   // made in the same way, with other digits
	loginMade                     // the same, as the name gives it
	loginCounted                  // the same with its digits
	loginHandle                   // the same, and not made of the name
)

// Levels of Email where no address agrees. What the one in common is worth, Login says. The
// last three are told of those whose names agree, and what they are worth is learnt among
// these: a house gives its people one address each, and namesakes have other digits in it.
const (
	emailLocal     Level = faint + iota // a local part agrees, or a login with one
	emailDigits                         // one domain and the same letters, with other digits
	emailHouse                          // one domain, and other letters
	emailElsewhere                      // other domains
)

// Levels of Status, the account's beside the person's.
const (
	statusLoose Level = 1 + iota // the person is active, the account suspended
	statusLate                   // the person has left, the account is active
	statusBoth                   // both active, or both not
)

// levelNames are the words by which weights are kept and shown.
var levelNames = func() (names [comparators][most]string) {
	for c := range comparators {
		for l := range most {
			names[c][l] = likeness.Level(l).String()
		}
	}
	names[Email][emailLocal], names[Email][emailDigits], names[Email][emailHouse], names[Email][emailElsewhere] = "the local part", "other digits", "another in the domain", "elsewhere"
	names[Login] = [most]string{"missing", "other", "other digits", "made of the name", "with its digits", "a name of its own"}
	names[Status] = [most]string{"missing", "suspended account", "active leaver", "agrees"}
	return names
}()

// Pattern is what comparing two records found.
type Pattern struct {
	Levels [comparators]Level
	Share  [comparators]float32 // how common what agrees is; 0: by the level's average
	Stand  float32              // how common the login is that stands for a name; 0: none does
}
