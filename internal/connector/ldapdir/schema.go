package ldapdir

import (
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"twinning/internal/connector"
)

// complete says which required attributes a new entry lacks, before it is
// sent: the server's own answer names one at a time.
func (d *directory) complete(c *ldap.Conn, doing string, classes []string, req *ldap.AddRequest) error {
	must, err := d.required(c, classes)
	if err != nil || len(must) == 0 {
		return nil // the server judges by itself; this only says it better
	}
	var missing []string
	for _, m := range must {
		given := slices.ContainsFunc(req.Attributes, func(a ldap.Attribute) bool {
			name, _, _ := strings.Cut(a.Type, ";")
			return strings.EqualFold(name, m) || strings.EqualFold(aka[strings.ToLower(name)], m)
		})
		if !given {
			missing = append(missing, m)
		}
	}
	if len(missing) == 0 {
		return nil
	}
	return d.fault(connector.Refused, doing, "the classes "+strings.Join(classes, ", ")+" require "+strings.Join(missing, ", "), "name them in the shape and give them values in the charter")
}

// aka are the long names of attributes that schemas list under the short one
// (RFC 4519).
var aka = map[string]string{"commonname": "cn", "surname": "sn", "organizationname": "o", "organizationalunitname": "ou", "userid": "uid"}

// required lists what the classes and those above them must have.
func (d *directory) required(c *ldap.Conn, classes []string) ([]string, error) {
	d.mu.Lock()
	known := d.must
	d.mu.Unlock()
	if known == nil {
		root, err := d.discover(c)
		if err != nil || root.schema == "" {
			return nil, err
		}
		res, err := c.Search(ldap.NewSearchRequest(root.schema, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 0, false, "(objectClass=subschema)", []string{"objectClasses"}, nil))
		if err != nil || len(res.Entries) == 0 {
			return nil, err
		}
		known = requirements(res.Entries[0].GetAttributeValues("objectClasses"))
		d.mu.Lock()
		d.must = known
		d.mu.Unlock()
	}
	var out []string
	for _, class := range classes {
		for _, m := range known[strings.ToLower(class)] {
			if !slices.Contains(out, m) && !strings.EqualFold(m, "objectClass") {
				out = append(out, m)
			}
		}
	}
	return out, nil
}

// requirements reads class descriptions (RFC 4512 section 4.1.1) into what
// each class, with those above it, must have.
func requirements(descriptions []string) map[string][]string {
	type class struct{ sup, must []string }
	byName := map[string]class{}
	for _, text := range descriptions {
		words := strings.Fields(strings.NewReplacer("(", " ( ", ")", " ) ", "$", " ", "'", "").Replace(text))
		c := class{sup: listed(words, "SUP"), must: listed(words, "MUST")}
		for _, name := range listed(words, "NAME") {
			byName[strings.ToLower(name)] = c
		}
	}
	out := map[string][]string{}
	var collect func(name string, depth int) []string
	collect = func(name string, depth int) []string {
		c := byName[strings.ToLower(name)]
		all := slices.Clone(c.must)
		for _, sup := range c.sup {
			if depth < 20 { // a schema that circles is the server's trouble, not ours
				all = append(all, collect(sup, depth+1)...)
			}
		}
		return all
	}
	for name := range byName {
		out[name] = collect(name, 0)
	}
	return out
}

// listed are the words after a keyword: one, or those in parentheses.
func listed(words []string, keyword string) []string {
	i := slices.Index(words, keyword)
	if i < 0 || i+1 == len(words) {
		return nil
	}
	if words[i+1] != "(" {
		return words[i+1 : i+2]
	}
	end := slices.Index(words[i:], ")")
	if end < 0 {
		return nil
	}
	return words[i+2 : i+end]
}
