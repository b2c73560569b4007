package planning

import "slices"

// Word is one word of a closed list, with what it means.
type Word struct{ Name, Meaning string }

// Verbs, a label for people and guards over one way of writing.
const (
	Create    = "create"
	Mark      = "mark"
	Set       = "set"
	Rename    = "rename"
	Readdress = "readdress"
	Place     = "place"
	Enrol     = "enrol"
	Withdraw  = "withdraw"
	Suspend   = "suspend"
	Reinstate = "reinstate"
	Hide      = "hide"
	Unhide    = "unhide"
	Reissue   = "reissue"
	Invite    = "invite"
	Delete    = "delete"
)

// Participles are what a verb makes of an account.
var Participles = map[string]string{Suspend: "suspended", Rename: "renamed", Hide: "hidden", Delete: "deleted", "hand-over": "stripped of its addresses"}

// VerbOf is the verb of a change that gives an attribute a value.
func VerbOf(attribute, value string) string {
	switch attribute {
	case "userName":
		return Rename
	case "email", "aliases":
		return Readdress
	case "container":
		return Place
	case "active":
		if value == "false" {
			return Suspend
		}
		return Reinstate
	case "hidden":
		if value == "true" {
			return Hide
		}
		return Unhide
	}
	return Set
}

// Verbs are what a change can be.
var Verbs = []Word{
	{Create, "make an account for a person who has none"},
	{Mark, "write the mark by which an account is known again"},
	{Set, "write attributes that are neither login nor address"},
	{Rename, "give an account another login"},
	{Readdress, "give it another primary address; the former one stays as an alias where the charter says so"},
	{Place, "move an entry to another branch of its tree"},
	{Enrol, "put it into groups"},
	{Withdraw, "take it out of groups, of those that the charter names"},
	{Suspend, "let nobody sign in with it any more; nothing of it is lost"},
	{Reinstate, "open it again, where the suspension was ours"},
	{Hide, "leave it out of address lists"},
	{Unhide, "list it again, where it was we who hid it"},
	{Reissue, "give its holder a new secret, and hand that over once"},
	{Invite, "ask its holder, by mail, to sign in for the first time"},
	{Delete, "remove it for good, once it has been suspended and announced"},
}

// Outcomes are what can have come of a change.
var Outcomes = []Word{
	{"done", "the system has taken it, and shows it"},
	{"different", "the system has accepted it, and shows something else; it is not sent again by this plan"},
	{"unchanged", "it was so already; nothing was written"},
	{"waiting", "it stands in an upload file, and is done when a roster shows it"},
	{"stale", "what it rests on is no longer so; nothing was written: take rosters and reconcile"},
	{"refused", "the system said no; nothing was written"},
	{"failed", "it was tried as often as makes sense, and is certainly not done"},
	{"in-doubt", "it was sent, nobody answered, and it can't be looked up; a human looks, and settles it (`run settle`)"},
	{"taken-back", "it was done, and what was there before written back, since another change that hands its name on could not be done"},
	{"passed-over", "its turn did not come: what it needs was not done, or the run was stopped; the next run takes it"},
}

// IsAccepted reports whether the system has accepted a change of this outcome, or holds it already.
func IsAccepted(outcome string) bool {
	return slices.Contains([]string{"done", "unchanged", "different"}, outcome)
}

// IsFinal reports whether nothing sends a change of this outcome again: it is done, or may be.
func IsFinal(outcome string) bool {
	return IsAccepted(outcome) || outcome == "waiting" || outcome == "in-doubt"
}

// AwaitedAttributes are those that other changes may wait for: a name, an address, the place, or
// whether the holder may sign in.
var AwaitedAttributes = []string{"userName", "email", "aliases", "active", "container"}
