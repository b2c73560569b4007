package naming

import (
	"strings"

	"twinning/internal/core/record"
)

// A name may be spelt in several ways, and be taken in several systems.

// Alike says which spellings of an address a system holds to be one, beside upper and lower
// case and the forms of a domain.
type Alike struct {
	Dots         bool // ana.soto@ is anasoto@
	SubAddresses bool // ana+tram@ is ana@ (RFC 5233)
}

// Fold is the form under which two names are one where these rules hold.
func (x Alike) Fold(name string) string {
	name = Fold(name)
	local, domain, address := strings.Cut(name, "@")
	if !address || x == (Alike{}) {
		return name
	}
	if x.SubAddresses {
		local, _, _ = strings.Cut(local, "+")
	}
	if x.Dots {
		local = strings.ReplaceAll(local, ".", "")
	}
	return local + "@" + domain
}

// FoldAll is Fold of each.
func (x Alike) FoldAll(names []string) []string {
	list := make([]string, len(names))
	for i, n := range names {
		list[i] = x.Fold(n)
	}
	return list
}

// Shared are the accounts of another system whose names count here too.
type Shared struct {
	System   string
	Accounts *record.Roster
	// Whose tells by its bonds whose an account is, "" when that is not known: the same human
	// may have a name in both.
	Whose func(account string) string
	// Given are names that were given there since the roster was read, with whose they are.
	Given map[string]string
}

// Elsewhere is who holds a name in another system.
type Elsewhere struct{ System, Account, Person string }

// Share lets the names of another system's accounts be taken as well.
func (l *Ledger) Share(x Shared) {
	for _, h := range l.scan(x.Accounts, 0, x.Accounts.Len()) {
		account := x.Accounts.ID(int(h.Row))
		l.elsewhere[h.name] = append(l.elsewhere[h.name], Elsewhere{x.System, account, x.Whose(account)})
	}
	for _, h := range append(l.unread(x.Accounts), l.beside(x.Accounts)...) {
		account := x.Accounts.ID(int(h.Row))
		l.elsewhere[h.name] = append(l.elsewhere[h.name], Elsewhere{x.System, account, x.Whose(account)})
	}
	for name, person := range x.Given {
		if name = l.alike.Fold(name); l.asked(name) {
			l.elsewhere[name] = append(l.elsewhere[name], Elsewhere{System: x.System, Person: person})
		}
	}
}

func (l *Ledger) asked(name string) bool {
	_, is := l.holders[name]
	return is
}

// heldElsewhere is who else holds a name in another system, nil when nobody does.
func (l *Ledger) heldElsewhere(r *Request, name string) *Elsewhere {
	for _, x := range l.elsewhere[name] {
		if x.Person == "" || x.Person != r.Owner && x.Person != r.From {
			return &x
		}
	}
	return nil
}
