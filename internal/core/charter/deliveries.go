package charter

import (
	"fmt"
	"math"
	"net/url"
	"slices"
	"strings"

	"twinning/internal/core/document"
	"twinning/internal/core/record"
)

// Ways in which a secret reaches whom it is for.
const (
	ByMail = "mail" // to an address that is theirs already
	ByFile = "file" // in a file that is encrypted to a passphrase, for whoever hands it over
)

// Letter says to whom something is sent, and what is told in it.
type Letter struct {
	To      *Expr  // the address; nil: nothing is mailed
	Sponsor *Expr  // id of the person who vouches for whom it is for; nil: nobody does
	SignIn  string // where one signs in; "" is not told
	Line    int
}

// Secrets says how people are given secrets.
type Secrets struct {
	Letter
	By         []string // ways, the first that can be gone is; never empty
	Length     int      // letters of a secret
	Kinds      []string // of letters, of each one at least
	MustChange string   // attribute that is set to true: who signs in chooses another secret; "": the system sees to that
	AtCreate   bool     // a new account is given one
	Kept       int      // days for which one waits for the file that it is handed over in
}

// Invitations says how people are invited to accounts that wait for them.
type Invitations struct{ Letter }

// Kinds are the letters of secrets, without those that are taken for one another.
var Kinds = map[string]string{"lower": "abcdefghijkmnpqrstuvwxyz", "upper": "ABCDEFGHJKLMNPQRSTUVWXYZ", "digits": "23456789", "signs": "!#%+-.:=?@_"}

const (
	defaultLength, leastLength, mostLength = 16, 12, 64
	// leastBits is what nobody guesses within the life of a first secret, even with the hash in
	// hand: 2^64 tries.
	leastBits   = 64
	defaultKept = 7
	mostKept    = 30
)

func (r *reader) readSecrets(n document.Node) {
	if !n.Present() {
		return
	}
	f := n.Declared(Keys)
	s := &Secrets{Letter: r.readLetter(n, f), Length: defaultLength, Kinds: []string{"lower", "upper", "digits"}, Kept: defaultKept}
	r.Secrets = s
	for _, w := range f["by"].Items() {
		s.By = append(s.By, w.Word(Keys, "secrets.by[]"))
	}
	if len(s.By) == 0 {
		s.By = []string{ByMail}
	}
	if slices.Contains(s.By, ByMail) && s.To == nil {
		n.Problem("secrets go by mail, and `to:` does not say to which address; expected one that its holder can read before, such as person.personalEmail")
	}
	if v, ok := f["length"]; ok {
		if s.Length = v.Int(leastLength); s.Length > mostLength {
			v.Problem("%d letters are too many to be copied; expected %d at most", s.Length, mostLength)
		}
	}
	if v, ok := f["letters"]; ok {
		s.Kinds = nil
		for _, w := range v.Items() {
			if kind := w.Word(Keys, "secrets.letters[]"); !slices.Contains(s.Kinds, kind) {
				s.Kinds = append(s.Kinds, kind)
			}
		}
	}
	if bits := s.Bits(); len(s.Kinds) > 0 && bits < leastBits {
		n.Problem("a secret of %d letters of %s is worth %d bits, and could be guessed; expected %d at least: make it longer, or of more kinds", s.Length, strings.Join(s.Kinds, ", "), bits, leastBits)
	}
	if v, ok := f["must-change"]; ok {
		s.MustChange = v.Text()
		known := slices.Concat(record.CanonicalNames(), r.compiler.vocabulary.Account)
		_, unwritable := unwritable[s.MustChange]
		switch {
		case !slices.Contains(known, s.MustChange):
			v.Problem("unknown attribute %q%s; expected one that the accounts' shape declares", s.MustChange, nearest(s.MustChange, known))
		case unwritable || slices.ContainsFunc(r.Rules, func(o AttributeRule) bool { return o.Attribute == s.MustChange }):
			v.Problem("%s is not free for this: the charter or the downstream gives it", s.MustChange)
		}
	}
	if v, ok := f["at-create"]; ok {
		s.AtCreate = v.Bool()
	}
	if v, ok := f["kept"]; ok {
		if s.Kept = v.Days(); s.Kept < 1 || s.Kept > mostKept {
			v.Problem("a secret waits for 1d to %dd", mostKept)
		}
	}
}

// Reached are the attributes by which a letter would reach a person.
var Reached = []string{"email", "aliases", "personalEmail"}

// Bits is how much nobody knows of a secret.
func (s *Secrets) Bits() int {
	letters := 0
	for _, kind := range s.Kinds {
		letters += len(Kinds[kind])
	}
	return int(float64(s.Length) * math.Log2(float64(max(letters, 1))))
}

func (r *reader) readInvitations(n document.Node) {
	if !n.Present() {
		return
	}
	r.Invitations = &Invitations{r.readLetter(n, n.Declared(Keys))}
	if r.Invitations.To == nil {
		n.Problem("`invitations:` needs `to:`, the address that somebody can read before they have the account, such as person.personalEmail")
	}
}

func (r *reader) readLetter(n document.Node, f map[string]document.Node) (l Letter) {
	l.Line, _ = n.Place()
	if v, ok := f["to"]; ok {
		l.To = r.compiler.compile(v, wantText, "person")
	}
	if v, ok := f["sponsor"]; ok {
		l.Sponsor = r.compiler.compile(v, wantText, "person")
	}
	if v, ok := f["sign-in"]; ok {
		l.SignIn = v.Text()
		if u, err := url.Parse(l.SignIn); err != nil || u.Scheme != "https" || u.Host == "" || u.User != nil || strings.ContainsAny(l.SignIn, " \r\n\t") {
			v.Problem("%q is no address to sign in at; expected one that begins with https://", l.SignIn)
		}
	}
	return l
}

// letters are what is sent to people by this charter.
func (c *Charter) letters() (list []Letter) {
	if c.Secrets != nil {
		list = append(list, c.Secrets.Letter)
	}
	if c.Invitations != nil {
		list = append(list, c.Invitations.Letter)
	}
	return list
}

// Letters are the expressions of what is sent to people.
func (c *Charter) Letters() (list []*Expr) {
	for _, l := range c.letters() {
		list = append(list, l.To, l.Sponsor)
	}
	return slices.DeleteFunc(list, func(e *Expr) bool { return e == nil })
}

// Mailed are the addresses that letters go to.
func (c *Charter) Mailed() (list []*Expr) {
	for _, l := range c.letters() {
		if l.To != nil {
			list = append(list, l.To)
		}
	}
	return list
}

// Gives says whether an address is in a domain whose addresses the lane gives.
func (c *Charter) Gives(address string) bool {
	given := false
	c.everyEmail(func(e *EmailRule) { _, named := e.Domains[domainOf(address)]; given = given || named })
	return given
}

// Called is how a line of the charter is named beside what it wants.
func (l Letter) Called(what string) string { return fmt.Sprintf("%s (charter line %d)", what, l.Line) }
