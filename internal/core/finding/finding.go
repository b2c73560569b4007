// Package finding is the catalogue of what can be wrong with one lane: stable
// codes, each with its severity, meaning and remedy. Codes are append-only.
// Every code has an example in reconcile/testdata/cases.txtar that a test runs.
package finding

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strings"
)

// Severity orders findings for people.
type Severity string

const (
	Error   Severity = "error"   // something is blocked, or somebody may be harmed
	Warning Severity = "warning" // somebody should look
	Notice  Severity = "notice"  // good to know; usually settled by the plan
)

// Rank sorts severities, gravest first.
func (s Severity) Rank() int { return slices.Index([]Severity{Error, Warning, Notice}, s) }

// Code is one kind of finding.
type Code struct {
	Name     string
	Severity Severity
	Meaning  string
	Remedy   string
}

// Catalogue lists all codes.
var Catalogue = []Code{
	{"orphan-account", Warning, "an account without a living owner among the people", "find its owner and rule same, or rule leave-alone for a service account"},
	{"leaver-active", Error, "somebody who has left can still sign in", "seal the plan that suspends it; if they have not left, mend the authority"},
	{"suspended-elsewhere", Warning, "the account of an active person is suspended, and not by us", "ask who suspended it; it is not reinstated from here"},
	{"missing-account", Notice, "a person in scope has no account", "seal the plan that creates it, or rule same if an account exists under another name"},
	{"duplicate-account", Warning, "a second account of a person who has one", "decide which account to keep, and close the other in the downstream"},
	{"duplicate-person", Warning, "one human is listed twice among the people", "merge the two records in the authority"},
	{"contested-match", Error, "it is undecided who is who", "rule same or different on the pairs proposed"},
	{"contradictory-keys", Error, "keys lead to different records", "mend the wrong key value, or rule same or different"},
	{"shared-key", Warning, "a value that should identify is carried by several records", "correct the value on the records it does not belong to, or rule same or different"},
	{"recycled-key", Error, "a value that should identify agrees, and all else speaks against it", "look whether the number or address was another's before; rule same or different, and correct it where it is wrong"},
	{"rehire", Error, "somebody with a new number resembles the owner of a suspended account", "rule same if they were hired again, so that their account is opened for them; different if it was another's"},
	{"bond-doubted", Error, "two records are bonded, but their keys now contradict it", "look at both; rule same if they are one human, different if a number was re-used"},
	{"bond-broken", Error, "a bonded record is gone", "rule same with the record that replaced it, or different to give the bond up"},
	{"mark-foreign", Warning, "the account carries a mark that is not ours", "ask which tool wrote it; clear it in the downstream if it is stale"},
	{"claimed-twice", Error, "two lanes hold one account", "narrow accounts.where of one of the lanes"},
	{"username-taken", Error, "no candidate for the login is free", "add a candidate to the charter, or free the name"},
	{"email-taken", Error, "the address is in use by another account", "free the address, or give the person another in the authority"},
	{"alias-shadows", Warning, "an alias of an account is another account's login, address or alias", "take it from the account that it does not belong to: mail to it goes astray"},
	{"case-only", Warning, "two logins differ in upper and lower case alone", "give one of the two another login: many systems take them for one"},
	{"resting", Error, "a login or an address was another's until lately, and is given to nobody yet", "give the person another, or wait until the day that is told; emails.rest says how long names rest"},
	{"domain-foreign", Error, "a primary address is in a domain that takes none", "give the person an address in a domain that does, or name the domain under emails.domains"},
	{"required-missing", Error, "a value that an account needs can't be computed", "fill in the attribute in the authority"},
	{"value-invalid", Error, "a value is not of the form it must have", "correct it in the authority"},
	{"value-damaged", Warning, "a value is the present one with something lost on its way: letters, zeros, its end", "mend the export, or the value in the authority; if it is right as it is there, change the account by hand"},
	{"not-shown", Error, "the system holds records that the roster does not show", "give the reading account the right to see them, or widen what is read, and take the roster again"},
	{"value-too-long", Warning, "a value is longer than the downstream takes", "shorten it in the authority, or have the charter make a shorter one; it is not written"},
	{"locked-attribute", Notice, "a value is mastered elsewhere and differs here", "change it where it lives, and wait until it arrives"},
	{"no-email", Warning, "a person in scope has no e-mail address", "fill it in in the authority"},
	{"drift", Notice, "an account's value differs from what it should be or was", "see who changed it; the plan sets it again where the rule is own"},
	{"not-kept", Warning, "the downstream alters what we write, so we stopped writing it", "make the charter compute the form that the downstream keeps, or watch the attribute"},
	{"name-between", Error, "an account holds a name that stood in for a moment while names moved: a plan did not come to its end", "seal the plan that leads it out; where none is drafted, find out whose it is, and give it its name"},
	{"pending-stale", Notice, "an invitation has been open for long", "ask whether it arrived, and send it again there; or close the account"},
	{"never-signed-in", Notice, "an account has not been signed in with since it was made", "ask whether it is needed"},
	{"locked", Warning, "the account of an active person is barred from signing in", "unlock it in the downstream, once it is clear who tried"},
	{"last-administrator", Error, "a change would leave the downstream without an administrator", "name another one first; the change is withheld"},
	{"last-owner", Error, "a change would leave something without anybody who owns it", "give it to somebody else first; the change is withheld"},
	{"seats-short", Warning, "more accounts are wanted than the downstream has seats for", "buy seats, or free some: who has left, who never signed in; what is too many is withheld"},
	{"unknown-group", Notice, "the charter names a group in which no account is", "make the group in the downstream, or correct its name in the charter"},
	{"unknown-container", Notice, "accounts are to be placed where none stands yet", "make the branch first, or correct it in the charter"},
	{"over-limit", Warning, "an account would be in more groups than it may", "take it out of others, or raise accounts.most-groups; it is put into none"},
	{"sign-in-crossed", Error, "somebody who signs in would open an account that is not theirs, or one of several", "nobody may sign in so before it is mended: correct the login of the account, or what the identity provider sends"},
	{"sign-in-stray", Warning, "somebody who signs in would open no account, or be given a new one", "make the account's login what the identity provider sends, by attributes: or there; where sign-in: says it wrongly, mend the charter"},
	{"roster-shrunk", Error, "a roster holds far fewer records than the last one", "find out whether the export is whole; accept the finding if it is"},
	{"coverage-drop", Error, "an attribute that was filled is suddenly blank on many records", "find out whether the export is whole; accept the finding if it is"},
	{"several-values", Warning, "an attribute that should have one value has several", "leave one of them where it stands, or read it as a list in the shape; until then it is not written"},
	{"reference-broken", Warning, "a record refers to somebody whom no record is", "correct the reference, read the part in which they stand, or name the right attribute in the shape (refers:)"},
	{"reference-open", Notice, "an account should refer to somebody who has no account here", "nothing, when their account is on its way; else find out who they are, and rule"},
	{"roster-old", Warning, "a roster is old: what has happened since is not known", "take it again, and let somebody look why it was not taken"},
	{"secret-expiring", Warning, "the secret of a system runs out soon, or has", "have a new one made, and set it: twinning system change NAME --secret-file FILE --secret-until DAY"},
	{"row-rejected", Error, "a record could not be read", "mend the row at its source and take the roster again"},
}

// Lookup returns the catalogue's entry.
func Lookup(name string) (Code, bool) {
	i := slices.IndexFunc(Catalogue, func(c Code) bool { return c.Name == name })
	if i < 0 {
		return Code{}, false
	}
	return Catalogue[i], true
}

// Finding is one thing wrong. The same thing has the same ID in every
// reconciliation, whatever its detail says that day.
type Finding struct {
	ID       string   `json:"id"`
	Code     string   `json:"code"`
	Severity Severity `json:"severity"`
	Person   string   `json:"personId,omitempty"`
	Account  string   `json:"accountId,omitempty"`
	Subject  string   `json:"subject,omitempty"` // attribute, side or line it is about, part of the identity
	Detail   string   `json:"detail"`
	Remedy   string   `json:"remedy"`
	Accepted bool     `json:"accepted,omitempty"`
}

// New makes a finding of a catalogued code; an unknown code panics, since only
// this module names codes.
func New(code, person, account, subject, detail string) Finding {
	c, ok := Lookup(code)
	if !ok {
		panic("finding: unknown code " + code)
	}
	sum := sha256.Sum256([]byte(strings.Join([]string{code, person, account, subject}, "\x00")))
	return Finding{ID: "f-" + hex.EncodeToString(sum[:6]), Code: code, Severity: c.Severity, Person: person, Account: account, Subject: subject, Detail: detail, Remedy: c.Remedy}
}

// Sort orders findings by severity, code, person, account and subject, and
// drops repeats of one ID.
func Sort(fs []Finding) []Finding {
	rank := make(map[string]int, len(Catalogue))
	for i, c := range Catalogue {
		rank[c.Name] = c.Severity.Rank()*len(Catalogue) + i
	}
	slices.SortStableFunc(fs, func(a, b Finding) int {
		if d := rank[a.Code] - rank[b.Code]; d != 0 {
			return d
		}
		if d := strings.Compare(a.Person, b.Person); d != 0 {
			return d
		}
		if d := strings.Compare(a.Account, b.Account); d != 0 {
			return d
		}
		if d := strings.Compare(a.Subject, b.Subject); d != 0 {
			return d
		}
		return strings.Compare(a.Detail, b.Detail)
	})
	return slices.CompactFunc(fs, func(a, b Finding) bool { return a.ID == b.ID })
}
