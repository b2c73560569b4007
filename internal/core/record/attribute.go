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
	What string // what it holds, where the name does not say it
}

// The catalogue. "emails" is derived: the primary e-mail followed by aliases.
var catalogue = []Attribute{
	{"id", Exact, "what tells records of this list apart; it never changes and is never given again"},
	{"externalId", Exact, "the id that another system knows the record by; our mark where the shape names none"},
	{"userName", Text, "the login"},
	{"givenName", Text, ""},
	{"middleName", Text, ""},
	{"familyName", Text, ""},
	{"displayName", Text, "the name as it is shown"},
	{"email", Email, "the primary e-mail address"},
	{"aliases", Emails, "further addresses that mail arrives at"},
	{"emails", Emails, "the primary address and the aliases together; made from them, never read"},
	{"personalEmail", Email, "a private address, never written"},
	{"phoneNumbers", Phones, ""},
	{"employeeNumber", Text, "the staff number"},
	{"userType", Text, "the kind of employment"},
	{"active", Bool, "whether the person is employed, or the account can sign in"},
	{"pending", Bool, "whether the account waits for its holder's first sign-in"},
	{"locked", Bool, "whether sign-in is barred for too many attempts"},
	{"startsOn", Date, "first day"},
	{"endsOn", Date, "last day, itself included"},
	{"title", Text, "the job's title"},
	{"department", Text, ""},
	{"division", Text, ""},
	{"organization", Text, ""},
	{"costCenter", Text, ""},
	{"manager", Exact, "who they report to: a reference to another record"},
	{"location", Text, ""},
	{"country", Text, ""},
	{"locale", Text, "language and region, such as es-CL"},
	{"timezone", Text, "such as America/Santiago"},
	{"container", Text, "where an entry stands in a tree"},
	{"groups", List, "groups that it is in"},
	{"nestedGroups", List, "groups that it is in since a group that it is in is in them"},
	{"ownedGroups", List, "groups that it owns"},
	{"roles", List, ""},
	{"entitlements", List, "rights and licences"},
	{"lastSignIn", Date, "day of the last sign-in"},
	{"created", Date, "day on which it was made"},
	{"hidden", Bool, "whether it is left out of address lists"},
}

var byName = func() map[string]Attribute {
	m := make(map[string]Attribute, len(catalogue))
	for _, a := range catalogue {
		m[a.Name] = a
	}
	return m
}()

// String tells the form of an attribute's values.
func (k Kind) String() string {
	return [...]string{"text", "exact text", "e-mail address", "phone number", "true or false", "day", "texts", "e-mail addresses", "phone numbers"}[k]
}

// Catalogue lists the canonical attributes, and by which headings of lists each is
// recognised, in the form that is compared.
func Catalogue() (list []Attribute, headings map[string][]string) { return catalogue, spellings }

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
