package outbound

import (
	"encoding/base64"
	"html"
	"net/url"
	"strconv"
	"strings"
)

// A peer may say back what it was told, in an error, in a value, in whatever form it has it. What
// it says is cleared of our secrets before it is stored, logged or shown.

// Clearer takes secrets out of texts. It is safe for concurrent use; nil takes nothing out.
type Clearer struct {
	forms    []string // the longest first where one holds another
	shortest int
}

// leastSecret is how long a secret is at least that is looked for: of a shorter one anything
// would be struck.
const leastSecret = 4

// struck stands where a secret stood.
const struck = "***"

// NewClearer looks for secrets in every form in which they are sent, and say themselves back: as
// they are, escaped for URLs, JSON and HTML, and in base64 at whatever place of it.
func NewClearer(secrets ...string) *Clearer {
	c := &Clearer{}
	met := map[string]bool{}
	add := func(form string) {
		if len(form) < leastSecret || met[form] {
			return
		}
		met[form] = true
		c.forms = append(c.forms, form)
		if c.shortest == 0 || len(form) < c.shortest {
			c.shortest = len(form)
		}
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
	if c == nil || c.shortest == 0 || len(text) < c.shortest {
		return text
	}
	for _, form := range c.forms {
		if len(form) <= len(text) && strings.Contains(text, form) {
			text = strings.ReplaceAll(text, form, struck)
		}
	}
	return text
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
