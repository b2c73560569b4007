package planning

import (
	"slices"

	"twinning/internal/core/record"
)

// Decision is what a human has said of a change: that it is set aside. It belongs to the person,
// the account and the verb, to the stage of a leaver that wanted it, and to the attributes that it
// writes, of a list to the values; the values of others may move. It ends when nothing is wanted
// any more that it covers.
type Decision struct {
	Verb, Person, Account string
	Covers                []string // see Change.Covers; none: whatever the verb does
}

// Covers names what a decision about a change is about: the stage, and what it writes.
func (c *Change) Covers() (list []string) {
	for _, p := range c.Premises {
		if p.Kind == NotCancelled {
			list = append(list, stageOf+p.Key)
		}
	}
	if c.Verb == Create || c.Verb == Delete {
		return append(list, c.Verb)
	}
	for _, e := range c.Edits {
		kind := record.KindOf(e.Attribute)
		if !kind.Multi() {
			list = append(list, e.Attribute)
			continue
		}
		added, taken := Moved(kind, e.Old, e.New)
		for _, v := range added {
			list = append(list, e.Attribute+"+"+record.Normal(kind, v))
		}
		for _, v := range taken {
			list = append(list, e.Attribute+"-"+record.Normal(kind, v))
		}
	}
	return list
}

const stageOf = "stage "

// IsAbout reports whether a decision covers anything of a change. Somebody who is gone from their
// list is who they were.
func (d Decision) IsAbout(c *Change) bool {
	if d.Verb != c.Verb || d.Account != c.Account || d.Person != c.Person && (d.Account == "" || d.Person != "" && c.Person != "") {
		return false
	}
	if len(d.Covers) == 0 {
		return true
	}
	stage, covered := true, false
	of := c.Covers()
	isStage := func(s string) bool { return len(s) > len(stageOf) && s[:len(stageOf)] == stageOf }
	for _, s := range slices.Concat(d.Covers, of) {
		if isStage(s) {
			stage = stage && slices.Contains(d.Covers, s) && slices.Contains(of, s)
		} else {
			covered = covered || slices.Contains(d.Covers, s) && slices.Contains(of, s)
		}
	}
	return stage && covered
}
