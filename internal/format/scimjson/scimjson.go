// Package scimjson reads and writes SCIM 2.0 resources (RFC 7643) as flat
// native attributes, and lists of them (RFC 7644 section 3.4.2).
//
// The natives of a user are "userName", "name.givenName", "emails.primary" and
// "emails.other", "emails.home" (by type), "enterprise.department" for the
// enterprise extension, and a full path such as
// "urn:example:params:scim:schemas:2.0:Observer:dome" for any other.
package scimjson

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"twinning/internal/core/budget"
	"twinning/internal/format"
)

// Schemas and messages of the standard.
const (
	User         = "urn:ietf:params:scim:schemas:core:2.0:User"
	Group        = "urn:ietf:params:scim:schemas:core:2.0:Group"
	Enterprise   = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	ListResponse = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
	PatchOp      = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
	BulkRequest  = "urn:ietf:params:scim:api:messages:2.0:BulkRequest"
)

// Multi are the core attributes that hold several values (section 4.1.2).
var Multi = []string{"emails", "phoneNumbers", "roles", "entitlements", "groups", "ims", "photos", "addresses", "x509Certificates"}

// Resource is one flattened resource.
type Resource struct {
	ID      string
	Version string
	Values  map[string][]string
}

// Unmarshal is json.Unmarshal that keeps numbers as they are written: some have more digits than
// a float has, and whoever sends a record back must not round them.
func Unmarshal(body []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	if err := d.Decode(into); err != nil {
		return err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return errors.New("something follows its end")
	}
	return nil
}

// ID is a resource's id, "" where it has none. RFC 7643 wants a text; a number is read as its own.
func ID(top map[string]any) string {
	switch id := top["id"].(type) {
	case string:
		return id
	case json.Number:
		return id.String()
	}
	return ""
}

// Flatten reads a resource. The password is never returned by a proper server,
// and never kept from another.
func Flatten(raw []byte) (Resource, error) {
	if err := budget.JSON(raw); err != nil {
		return Resource{}, err
	}
	var top map[string]any
	if err := Unmarshal(raw, &top); err != nil || top == nil {
		return Resource{}, fmt.Errorf("it is not a JSON object: %.60s", raw)
	}
	return FlattenObject(top)
}

// FlattenObject is Flatten for JSON that is decoded already.
func FlattenObject(top map[string]any) (Resource, error) {
	r := Resource{Values: make(map[string][]string, len(top)+8)}
	r.ID = ID(top)
	for name, v := range top {
		switch x := v.(type) {
		case map[string]any:
			prefix := name + "."
			switch {
			case name == Enterprise:
				prefix = "enterprise."
			case strings.HasPrefix(name, "urn:"):
				prefix = name + ":"
			case name == "meta":
				r.Version, _ = x["version"].(string)
			}
			for sub, w := range x {
				if m, ok := w.(map[string]any); ok { // manager
					w = m["value"]
				}
				r.set(prefix+sub, Scalars(w)...)
			}
		case []any:
			if name != "schemas" {
				r.list(name, x)
			}
		default:
			if name != "password" {
				r.set(name, Scalars(v)...)
			}
		}
	}
	if r.ID == "" {
		if top["id"] != nil {
			return r, fmt.Errorf("the id of user %q is neither a text nor a number: %.60v", one(r.Values["userName"]), top["id"])
		}
		return r, errors.New("it has no id")
	}
	for _, name := range simple {
		if m, object := top[name].(map[string]any); object {
			return r, fmt.Errorf("%s of user %q is an object where a text is expected: %.60v", name, cmp.Or(one(r.Values["userName"]), r.ID), m)
		}
	}
	return r, nil
}

// simple are the attributes of a user that are no object (RFC 7643 section 4.1.1): one of them that
// is can't be read, and is not blank.
var simple = []string{"externalId", "userName", "displayName", "userType", "active", "title", "locale", "timezone"}

func one(values []string) string {
	if len(values) == 0 {
		return ""
	}
	return values[0]
}

func (r *Resource) set(name string, values ...string) {
	if len(values) > 0 {
		r.Values[name] = values
	}
}

func (r *Resource) list(name string, items []any) {
	primary, other := Emails(items)
	all := append(slices.Clone(primary), other...)
	if name != "emails" {
		all = all[:0]
	}
	for _, item := range items {
		m, complex := item.(map[string]any)
		if !complex {
			all = append(all, Scalars(item)...)
			continue
		}
		v := Scalars(m["value"])
		if name != "emails" {
			all = append(all, v...)
		}
		if kind, _ := m["type"].(string); kind != "" && kind != "primary" && kind != "other" {
			r.set(name+"."+kind, append(r.Values[name+"."+kind], v...)...)
		}
	}
	if name != "emails" {
		r.set(name, all...)
		return
	}
	r.set("emails.primary", primary...)
	r.set("emails.other", other...)
}

// Emails splits a list of e-mails into the primary one and the others. When
// none is marked, the first is what a mail program would take; where several are, all of these
// are: which one it is, nobody knows.
func Emails(items []any) (primary, other []string) {
	for _, item := range items {
		v, marked := Scalars(item), false
		if m, ok := item.(map[string]any); ok {
			v = Scalars(m["value"])
			marked, _ = m["primary"].(bool)
		}
		if len(v) == 0 {
			continue
		}
		if marked && !slices.ContainsFunc(primary, func(p string) bool { return strings.EqualFold(p, v[0]) }) {
			primary = append(primary, v...)
		} else {
			other = append(other, v...)
		}
	}
	if len(primary) == 0 && len(other) > 0 {
		primary, other = other[:1:1], other[1:]
	}
	return primary, other
}

// Scalars are the text of a JSON value: none for what is empty or an object.
func Scalars(v any) []string {
	switch x := v.(type) {
	case string:
		if x != "" {
			return []string{x}
		}
	case bool:
		return []string{strconv.FormatBool(x)}
	case float64:
		return []string{strconv.FormatFloat(x, 'f', -1, 64)}
	case json.Number:
		if f, err := x.Float64(); err == nil && strings.ContainsAny(x.String(), ".eE") { // 1.50 and 15e-1 are one number
			return []string{strconv.FormatFloat(f, 'f', -1, 64)}
		}
		return []string{x.String()}
	case []any:
		var out []string
		for _, item := range x {
			out = append(out, Scalars(item)...)
		}
		return out
	case map[string]any:
		return Scalars(x["value"])
	}
	return nil
}

// Split names the object that a native lives in ("" the resource itself) and
// its name there.
func Split(native string) (object, name string) {
	if strings.HasPrefix(native, "urn:") {
		i := strings.LastIndexByte(native, ':')
		return native[:i], native[i+1:]
	}
	object, name, ok := strings.Cut(native, ".")
	switch {
	case !ok:
		return "", object
	case object == "enterprise":
		return Enterprise, name
	}
	return object, name
}

// Page is what a list says of itself besides its resources.
type Page struct {
	Total      int // -1 when it does not say
	NextCursor string
	Resources  int
}

// Decode reads one page that is in memory: its resources are objects where the
// application keeps to the standard.
func Decode(body []byte) (Page, []any, error) {
	var list struct {
		Total      *int   `json:"totalResults"`
		NextCursor string `json:"nextCursor"`
		Resources  *[]any `json:"Resources"`
	}
	if err := budget.JSON(body); err != nil {
		return Page{Total: -1}, nil, err
	}
	if err := Unmarshal(body, &list); err != nil {
		return Page{Total: -1}, nil, broken(err)
	}
	p := Page{Total: -1, NextCursor: list.NextCursor}
	if list.Total != nil {
		p.Total = *list.Total
	}
	if list.Resources == nil {
		if list.Total == nil {
			return p, nil, ErrNotList
		}
		return p, nil, nil
	}
	p.Resources = len(*list.Resources)
	return p, *list.Resources, nil
}

// Each reads a list without holding it: fn gets one resource at a time. An
// error of fn ends it.
func Each(src io.Reader, fn func(raw json.RawMessage) error) (Page, error) {
	p := Page{Total: -1}
	meter := format.NewMeter(src)
	d := json.NewDecoder(meter)
	if err := open(d, '{'); err != nil {
		return p, err
	}
	isList := false
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return p, broken(err)
		}
		switch name, _ := key.(string); strings.ToLower(name) {
		case "resources":
			isList = true
			if err := open(d, '['); err != nil {
				return p, err
			}
			for d.More() {
				meter.Next()
				var raw json.RawMessage
				if err := d.Decode(&raw); err != nil {
					return p, broken(err)
				}
				p.Resources++
				if err := fn(raw); err != nil {
					return p, err
				}
			}
			if _, err := d.Token(); err != nil {
				return p, broken(err)
			}
			meter.Next()
		case "totalresults":
			isList = true
			if err := d.Decode(&p.Total); err != nil {
				return p, fmt.Errorf("totalResults is not a number: %w", broken(err))
			}
		case "nextcursor":
			if err := d.Decode(&p.NextCursor); err != nil {
				return p, fmt.Errorf("nextCursor is not a text: %w", broken(err))
			}
		default:
			var skipped json.RawMessage
			if err := d.Decode(&skipped); err != nil {
				return p, broken(err)
			}
		}
	}
	if _, err := d.Token(); err != nil {
		return p, broken(err)
	}
	if !isList {
		return p, ErrNotList
	}
	return p, nil
}

// ErrNotList is a JSON object that is no SCIM list.
var ErrNotList = errors.New("it is not a SCIM list: neither Resources nor totalResults are in it")

// ErrCut is a text that ends before its end.
var ErrCut = errors.New("it breaks off before its end")

func broken(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return ErrCut
	}
	return err
}

func open(d *json.Decoder, want json.Delim) error {
	t, err := d.Token()
	if err != nil {
		return broken(err)
	}
	if t != want {
		return fmt.Errorf("it is not a SCIM list: expected %q, found %v", want, t)
	}
	return nil
}
