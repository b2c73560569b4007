package outbound

import (
	"encoding/base64"
	"html"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
)

// A peer may say back what it was told, in an error, in a value, in whatever form it has it. What
// it says is cleared of our secrets before it is stored, logged or shown.

// Clearer takes secrets out of texts: those that it was made of, and those that Remember was
// given. It is safe for concurrent use; nil takes out what Remember was given alone.
type Clearer struct {
	short []string                // forms of less than a head
	long  map[[head]byte][]string // forms by what they begin with, the longest first
	pairs [1024]uint64            // the first two bytes of any of these, as a set: most places end here
}

// head is how many bytes of a form are looked up at each place of a text, so that the time does
// not grow with the number of forms.
const head = 8

// leastSecret is how long a secret is at least that is looked for: of a shorter one anything
// would be struck.
const leastSecret = 4

// struck stands where a secret stood.
const struck = "***"

// NewClearer looks for secrets in every form in which they are sent, and say themselves back: as
// they are, escaped for URLs, JSON and HTML, and in base64 at whatever place of it. Without
// secrets it is nil, which costs nothing.
func NewClearer(secrets ...string) *Clearer {
	if len(secrets) == 0 {
		return nil
	}
	c := &Clearer{long: map[[head]byte][]string{}}
	met := map[string]bool{}
	add := func(form string) {
		if len(form) < leastSecret || met[form] {
			return
		}
		met[form] = true
		if len(form) < head {
			c.short = append(c.short, form)
			return
		}
		at := [head]byte([]byte(form))
		c.long[at] = append(c.long[at], form)
		p := pair(form)
		c.pairs[p>>6] |= 1 << (p & 63)
	}
	for _, secret := range secrets {
		if len(secret) < leastSecret {
			continue
		}
		parts := []string{secret}
		if _, password, pair := strings.Cut(secret, ":"); pair { // of basic authentication
			parts = append(parts, password)
		}
		for _, part := range parts {
			if len(part) < leastSecret {
				continue
			}
			for _, encoding := range []*base64.Encoding{base64.StdEncoding, base64.URLEncoding} {
				add(encoding.EncodeToString([]byte(part)))
				for before := range 3 { // bytes that stand before it in the same encoding, a user's name say
					add(inside(encoding, part, before))
				}
			}
			add(url.QueryEscape(part))
			add(url.PathEscape(part))
			add(percent(part))
			add(strings.ToLower(percent(part)))
			quoted := strconv.Quote(part)
			add(quoted[1 : len(quoted)-1])
			add(html.EscapeString(part))
			add(part)
		}
	}
	for _, forms := range c.long {
		slices.SortFunc(forms, func(a, b string) int { return len(b) - len(a) })
	}
	return c
}

// inside is what is the same of a text in base64 whatever stands around it, with so many bytes
// before it in the first group.
func inside(encoding *base64.Encoding, text string, before int) string {
	encoded := encoding.WithPadding(base64.NoPadding).EncodeToString([]byte(strings.Repeat("\x00", before) + text))
	from := (before*8 + 5) / 6
	to := (before + len(text)) * 8 / 6
	if to-from < 2*leastSecret { // so short a piece may be anything
		return ""
	}
	return encoded[from:to]
}

// percent escapes every byte of a text as URLs do.
func percent(text string) string {
	var b strings.Builder
	const upper = "0123456789ABCDEF"
	for i := range len(text) {
		b.WriteByte('%')
		b.WriteByte(upper[text[i]>>4])
		b.WriteByte(upper[text[i]&15])
	}
	return b.String()
}

// wordy is how long a secret is at most that may be a word by chance: what a record holds is not
// altered for it.
const wordy = 11

// ForValues looks for secrets in what records hold, for those alone that are no words.
func ForValues(secrets ...string) *Clearer {
	var long []string
	for _, s := range secrets {
		if len(s) > wordy {
			long = append(long, s)
		}
	}
	return NewClearer(long...)
}

// Text is a text without the secrets.
func (c *Clearer) Text(text string) string {
	if c != nil {
		text = c.strike(text)
	}
	if given := remembered.clearer.Load(); given != nil {
		text = given.strike(text)
	}
	return text
}

func pair(text string) uint { return uint(text[0])<<8 | uint(text[1]) }

func (c *Clearer) strike(text string) string {
	var out []byte // nil: nothing is struck so far
	from := 0
	for i := 0; len(c.long) > 0 && i+head <= len(text); i++ {
		if p := pair(text[i:]); c.pairs[p>>6]&(1<<(p&63)) == 0 {
			continue
		}
		for _, form := range c.long[[head]byte([]byte(text[i:i+head]))] {
			if strings.HasPrefix(text[i:], form) {
				out = append(append(out, text[from:i]...), struck...)
				from = i + len(form)
				i = from - 1
				break
			}
		}
	}
	if out != nil {
		text = string(append(out, text[from:]...))
	}
	for _, form := range c.short {
		text = strings.ReplaceAll(text, form, struck)
	}
	return text
}

// mostRemembered bounds how many secrets are remembered, the newest.
const mostRemembered = 256

// remembered are secrets that this process has given to accounts.
var remembered struct {
	mu      sync.Mutex
	secrets []string
	clearer atomic.Pointer[Clearer]
}

// Remember has a secret that an account is given taken out of every text from now on: a peer may
// say it back at any time, about another account and in another run. It lasts as long as the
// process does; of the oldest nothing is known once there are many.
func Remember(secret string) {
	remembered.mu.Lock()
	defer remembered.mu.Unlock()
	if len(secret) < head || slices.Contains(remembered.secrets, secret) {
		return
	}
	remembered.secrets = append(remembered.secrets, secret)
	if n := len(remembered.secrets); n > mostRemembered {
		remembered.secrets = slices.Clone(remembered.secrets[n-mostRemembered:])
	}
	remembered.clearer.Store(NewClearer(remembered.secrets...))
}

// Values are the values of a record without the secrets; the lists are the record's own where
// nothing is struck.
func (c *Clearer) Values(values map[string][]string) map[string][]string {
	for name, list := range values {
		for i, v := range list {
			if clear := c.Text(v); clear != v {
				list = append([]string{}, list...)
				list[i] = clear
				values[name] = list
			}
		}
	}
	return values
}

// Clear takes secrets out of a text.
func Clear(text string, secrets ...string) string { return NewClearer(secrets...).Text(text) }
