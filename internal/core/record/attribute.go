// Package record holds what a roster is made of: canonical attributes, the
// shape that fills them from a system's native ones, normalised forms for
// comparison, and the columnar roster itself.
//
// Missing and blank are one thing here: a value is either some text or absent.
// Comparison is done on normalised forms, writing always on the real value.
package record

import "slices"

// Kind says how an attribute's text is to be read and compared.
type Kind uint8

const (
	Text   Kind = iota // compared by NFC, case and white space folded
	Exact              // compared as it stands, but for surrounding white space
	Email              // RFC 5321 address, IDNA domain
	Phone              // digits, with a leading + where the number has one
	Bool               // "true" or "false"
	Date               // calendar day, "2006-01-02"
	List               // several Texts
	Emails             // several Emails
	Phones             // several Phones
)

// Multi reports whether the attribute holds a list of values.
func (k Kind) Multi() bool { return k == List || k == Emails || k == Phones }

// Attribute is one canonical attribute. Names are those of SCIM 2.0 (RFC 7643)
// where it has one.
type Attribute struct {
	Name string
	Kind Kind
}

// The catalogue. "emails" is derived: the primary e-mail followed by aliases.
var catalogue = []Attribute{
	{"id", Exact}, {"externalId", Exact}, {"userName", Text},
	{"givenName", Text}, {"middleName", Text}, {"familyName", Text}, {"displayName", Text},
	{"email", Email}, {"aliases", Emails}, {"emails", Emails}, {"personalEmail", Email},
	{"phoneNumbers", Phones}, {"employeeNumber", Text}, {"userType", Text},
	{"active", Bool}, {"pending", Bool}, {"locked", Bool}, {"startsOn", Date}, {"endsOn", Date},
	{"title", Text}, {"department", Text}, {"division", Text}, {"organization", Text}, {"costCenter", Text},
	{"manager", Exact}, {"location", Text}, {"country", Text}, {"locale", Text}, {"timezone", Text},
	{"container", Text}, {"groups", List}, {"roles", List}, {"entitlements", List},
	{"lastSignIn", Date}, {"created", Date}, {"hidden", Bool},
}

var byName = func() map[string]Attribute {
	m := make(map[string]Attribute, len(catalogue))
	for _, a := range catalogue {
		m[a.Name] = a
	}
	return m
}()

// Canonical returns the catalogue's entry of that name.
func Canonical(name string) (Attribute, bool) {
	a, ok := byName[name]
	return a, ok
}

// CanonicalNames lists the catalogue in its own order.
func CanonicalNames() []string {
	names := make([]string, len(catalogue))
	for i, a := range catalogue {
		names[i] = a.Name
	}
	return names
}

// KindOf returns the kind of a canonical attribute; custom ones are Text.
func KindOf(name string) Kind { return byName[name].Kind }

// secretNames are native names whose values must never enter a roster.
var secretNames = []string{"password", "userpassword", "unicodepwd", "secret", "passwd", "pwd"}

// IsSecret reports whether a native attribute's name says that it holds a secret.
func IsSecret(native string) bool { return slices.Contains(secretNames, compact(native)) }

// compact lowers a name and drops everything but letters and digits, so that
// "Staff No.", "staff_no" and "STAFFNO" are one spelling.
func compact(s string) string {
	out := make([]rune, 0, len(s))
	for _, r := range s {
		switch {
		case r >= 'A' && r <= 'Z':
			out = append(out, r+'a'-'A')
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r > 127:
			out = append(out, r)
		}
	}
	return string(out)
}
