package charter

import "slices"

// Given is an attribute that a charter gives accounts, and where it says so.
type Given struct {
	Attribute string
	Rule      string
	Line      int
	Path      string // of the charter
	New       bool   // new accounts are given it as well
}

// Given lists what the charter gives accounts: its attributes, the address, and what
// becomes of leavers.
func (c *Charter) Given() (list []Given) {
	c.EveryRule(func(r AttributeRule) {
		list = append(list, Given{r.Attribute, r.Rule, r.Line, "attributes." + r.Attribute, true})
	})
	c.everyEmail(func(e *EmailRule) {
		list = append(list, Given{"email", e.Rule, e.Line, "emails", true})
		if len(e.Aliases) > 0 || e.Ours != nil || e.Kept > 0 {
			list = append(list, Given{"aliases", e.Rule, e.Line, "emails.aliases", true})
		}
	})
	if groups := c.EveryGroup(); len(groups) > 0 {
		list = append(list, Given{"groups", Own, groups[0].Line, "groups", false})
	}
	if c.Leavers != nil {
		for _, stage := range c.Leavers.Stages {
			for _, do := range stage.Do {
				if do == HandsOver {
					list = append(list, Given{"email", Own, stage.Line, "leavers", false}, Given{"aliases", Own, stage.Line, "leavers", false})
					for _, name := range slices.Concat(c.handOver().Lists, c.handOver().References) {
						list = append(list, Given{name, Own, stage.Line, "leavers", false})
					}
				}
				// a list of accounts that can all sign in need not say so of each
				if attribute, _ := StageWrites(do); attribute != "" && attribute != "active" {
					list = append(list, Given{attribute, Own, stage.Line, "leavers", false})
				}
			}
		}
	}
	return list
}

// HandsOver is the stage that hands addresses over.
const HandsOver = "hand-over"

// StageWrites is what a stage of leavers writes, by its verb: an attribute, and its value.
// Deleting writes none, and handing over what is not known before.
func StageWrites(do string) (attribute, value string) {
	switch do {
	case "suspend":
		return "active", "false"
	case "hide":
		return "hidden", "true"
	}
	return "", ""
}
