package charter

// Given is an attribute that a charter gives accounts, and where it says so.
type Given struct {
	Attribute string
	Rule      string
	Line      int
}

// Given lists what the charter gives accounts: its attributes, and the address.
func (c *Charter) Given() (list []Given) {
	for _, r := range c.Rules {
		list = append(list, Given{r.Attribute, r.Rule, r.Line})
	}
	if c.Emails != nil {
		list = append(list, Given{"email", c.Emails.Rule, c.Emails.Line})
	}
	return list
}
