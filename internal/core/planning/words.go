package planning

// Word is one word of a closed list, with what it means.
type Word struct{ Name, Meaning string }

// Verbs, a label for people and guards over one way of writing.
const (
	Create    = "create"
	Mark      = "mark"
	Set       = "set"
	Rename    = "rename"
	Readdress = "readdress"
	Suspend   = "suspend"
	Reinstate = "reinstate"
)

// Verbs are what a change can be.
var Verbs = []Word{
	{Create, "make an account for a person who has none"},
	{Mark, "write the mark by which an account is known again"},
	{Set, "write attributes that are neither login nor address"},
	{Rename, "give an account another login"},
	{Readdress, "give it another primary address; the former one stays as an alias where the charter says so"},
	{Suspend, "let nobody sign in with it any more; nothing of it is lost"},
	{Reinstate, "open it again, where the suspension was ours"},
}

// Outcomes are what can have come of a change.
var Outcomes = []Word{
	{"done", "the system has taken it, and shows it"},
	{"unchanged", "it was so already; nothing was written"},
	{"waiting", "it stands in an upload file, and is done when a roster shows it"},
	{"stale", "what it rests on is no longer so; nothing was written: take rosters and reconcile"},
	{"refused", "the system said no; nothing was written"},
	{"failed", "it was tried as often as makes sense, and is certainly not done"},
	{"in-doubt", "it was sent, nobody answered, and it can't be looked up; a human looks, and settles it (`run settle`)"},
	{"passed-over", "its turn did not come: what it needs was not done, or the run was stopped; the next run takes it"},
}
