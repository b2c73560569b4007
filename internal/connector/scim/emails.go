package scim

import (
	"maps"
	"slices"
	"strings"

	"twinning/internal/connector"
	"twinning/internal/format/scimjson"
)

// Canonical types (RFC 7643 section 4.1.2): of the primary address of a user who had
// none, and of one beside it, as long as no other has it. Some applications want
// every address to have a type, and most want a type to be there once.
const (
	workType  = "work"
	otherType = "other"
)

// mergeEmails writes the addresses. The new primary takes the place and the type of
// the old one; the old one, when it stays, takes the type that the new one had, or
// another, or none. Whatever else the list holds stays as it is, with all that is
// said of it.
func mergeEmails(top map[string]any, edits []connector.Edit) {
	list, _ := top["emails"].([]any)
	primary, other := scimjson.Emails(list)
	touched, named := false, false
	for _, e := range edits {
		switch e.Native {
		case "emails.primary":
			primary, touched, named = e.New, true, true
		case "emails.other":
			other, touched = e.New, true
		}
	}
	if !touched {
		return
	}
	e := emails{list: slices.Clone(list)}
	switch {
	case !named: // whichever is marked stays so
	case len(primary) > 0:
		e.promote(primary[0])
		e.demoteOthers(primary[0])
	default:
		if at := e.primary(); at >= 0 {
			e.list = slices.Delete(e.list, at, at+1)
		}
	}
	e.keep(primary, other)
	if len(e.list) == 0 {
		delete(top, "emails")
	} else {
		top["emails"] = e.list
	}
}

// emails are the entries of a list, each as the application gave it.
type emails struct{ list []any }

func valueOf(item any) string {
	if m, ok := item.(map[string]any); ok {
		item = m["value"]
	}
	return strings.Join(scimjson.Scalars(item), "")
}

func (e *emails) find(value string) int {
	return slices.IndexFunc(e.list, func(item any) bool { return strings.EqualFold(valueOf(item), value) })
}

// primary is the entry that is marked, or else the first; -1 when there is none.
func (e *emails) primary() int {
	marked := slices.IndexFunc(e.list, func(item any) bool {
		m, ok := item.(map[string]any)
		return ok && m["primary"] == true
	})
	if marked < 0 && len(e.list) > 0 {
		return 0
	}
	return marked
}

// fields is an entry as an object of its own, which may be changed.
func fields(item any) map[string]any {
	if m, ok := item.(map[string]any); ok {
		return maps.Clone(m)
	}
	return map[string]any{"value": item}
}

// promote makes an address the primary one, beside what it replaces.
func (e *emails) promote(value string) {
	old, now := e.primary(), e.find(value)
	if old < 0 {
		e.list = append(e.list, any(map[string]any{"value": value, "type": workType, "primary": true}))
		return
	}
	was := fields(e.list[old])
	if now == old {
		was["primary"] = true
		e.list[old] = was
		return
	}
	is := map[string]any{"value": value}
	if now >= 0 {
		is = fields(e.list[now])
	}
	is["primary"] = true
	delete(was, "primary")
	delete(was, "$ref")
	typeWas, typed := was["type"]
	delete(was, "type")
	if given, had := is["type"]; had && typed {
		was["type"] = given
	}
	if typed {
		is["type"] = typeWas
	}
	e.list[old] = is
	if now >= 0 {
		e.list[now] = was
	} else {
		e.list = append(e.list, any(was))
	}
	if typed {
		e.giveType(was)
	}
}

// demoteOthers takes the mark from all but one address: an application may have let several have it.
func (e *emails) demoteOthers(value string) {
	at := e.find(value)
	for i, item := range e.list {
		if m := fields(item); i != at && m["primary"] == true {
			delete(m, "primary")
			e.list[i] = m
		}
	}
}

// giveType gives an address without a type one that no other has.
func (e *emails) giveType(m map[string]any) {
	taken := slices.ContainsFunc(e.list, func(item any) bool {
		other, ok := item.(map[string]any)
		return ok && other["type"] == otherType
	})
	if m["type"] == nil && !taken {
		m["type"] = otherType
	}
}

// typed reports whether the addresses have types here.
func (e *emails) typed() bool {
	return len(e.list) > 0 && !slices.ContainsFunc(e.list, func(item any) bool {
		m, ok := item.(map[string]any)
		return !ok || m["type"] == nil
	})
}

// keep leaves the addresses that are wanted, and adds those that are missing.
func (e *emails) keep(primary, other []string) {
	wanted := append(slices.Clone(primary), other...)
	has := func(list []string, v string) bool {
		return slices.ContainsFunc(list, func(w string) bool { return strings.EqualFold(v, w) })
	}
	e.list = slices.DeleteFunc(e.list, func(item any) bool { return !has(wanted, valueOf(item)) })
	for _, v := range other {
		if e.find(v) < 0 {
			added := map[string]any{"value": v}
			if e.typed() {
				e.giveType(added)
			}
			e.list = append(e.list, any(added))
		}
	}
}
