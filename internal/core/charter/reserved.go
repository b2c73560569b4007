package charter

import (
	"strings"

	"twinning/internal/core/document"
	"twinning/internal/core/record"
)

// mailboxes are the names that RFC 2142 gives to roles: whoever writes to one of them does
// not mean a human.
var mailboxes = strings.Fields("info marketing sales support abuse noc security postmaster hostmaster usenet news webmaster www uucp ftp")

// readNames reads which names nobody is given.
func (r *reader) readNames(n document.Node) {
	r.reserved = map[string]bool{}
	for _, w := range mailboxes {
		r.reserved[w] = true
	}
	if !n.Present() {
		return
	}
	f := n.Declared(Keys)
	if d, ok := f["between"]; ok {
		if r.Between = strings.ToLower(strings.TrimSpace(d.Text())); !record.ValidEmail("a@" + r.Between) {
			d.Problem("%q is no domain; expected one such as in-between.larkspur.example", d.Text())
		}
	}
	for _, item := range f["alike"].Items() {
		switch item.Word(Keys, "names.alike[]") {
		case "dots":
			r.Alike.Dots = true
		case "sub-addresses":
			r.Alike.SubAddresses = true
		}
	}
	for _, item := range f["reserved"].Items() {
		word := record.Fold(strings.TrimSpace(item.Text()))
		if word == "" || strings.ContainsAny(word, "@ ") {
			item.Problem("%q is no name; expected a login or a local part, such as press", item.Text())
			continue
		}
		r.reserved[word] = true
	}
}

// Reserved reports whether a login, or the local part of an address, is kept for a role. A
// tag (+…) makes no other name of it.
func (c *Charter) Reserved(name string) bool {
	local, _, _ := strings.Cut(name, "@")
	local, _, _ = strings.Cut(local, "+")
	return c.reserved[record.Fold(local)]
}
