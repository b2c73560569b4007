package scimjson

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"slices"
	"strings"

	"twinning/internal/core/budget"
	"twinning/internal/format"
)

// File is a list of resources in a file.
type File struct {
	body    []byte
	total   int
	natives []string
}

// Open takes the text of a ListResponse.
func Open(body []byte) (*File, error) {
	f := &File{body: bytes.TrimPrefix(body, []byte("\xef\xbb\xbf"))}
	known := map[string]bool{}
	page, err := Each(bytes.NewReader(f.body), func(raw json.RawMessage) error {
		if r, err := Flatten(raw); err == nil {
			for native := range r.Values {
				known[native] = true
			}
			return budget.Columns.Over(int64(len(known)), "the number of attributes that the resources have")
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if page.Total > page.Resources {
		return nil, errors.New("the list is one page of a longer one: it names more users in totalResults than it holds; a partial list is never used")
	}
	if page.Resources == 0 {
		return nil, errors.New("the list is empty; an empty list is never taken for \"everybody left\"")
	}
	f.total, f.natives = page.Resources, slices.Sorted(maps.Keys(known))
	return f, nil
}

// About as format.File has it.
func (f *File) About() format.About { return format.About{Format: "scim", Encoding: "utf-8"} }

// Natives are the attributes met.
func (f *File) Natives() []string { return f.natives }

// Expected is how many resources there are.
func (f *File) Expected() int { return f.total }

// Each calls fn for every resource.
func (f *File) Each(fn func(format.Row) error) error {
	_, err := Each(bytes.NewReader(f.body), func(raw json.RawMessage) error {
		r, err := Flatten(raw)
		row := format.Row{Values: r.Values}
		if err != nil {
			row.Values, row.Fault = map[string][]string{}, err.Error()
		}
		return fn(row)
	})
	return err
}

// Names say where canonical attributes stand in a user (RFC 7643), in the form
// that Flatten gives.
var Names = map[string]string{
	"id": "id", "externalId": "externalId", "userName": "userName", "givenName": "name.givenName", "middleName": "name.middleName", "familyName": "name.familyName",
	"displayName": "displayName", "email": "emails.primary", "aliases": "emails.other", "phoneNumbers": "phoneNumbers", "userType": "userType", "active": "active",
	"title": "title", "locale": "locale", "timezone": "timezone", "roles": "roles", "groups": "groups", "entitlements": "entitlements",
	"employeeNumber": "enterprise.employeeNumber", "department": "enterprise.department", "division": "enterprise.division",
	"organization": "enterprise.organization", "costCenter": "enterprise.costCenter", "manager": "enterprise.manager", "created": "meta.created",
}

type writer struct {
	w       *bufio.Writer
	columns []string
	n       int
	buffer  bytes.Buffer
}

// NewWriter writes a ListResponse of users. The natives are put back to where
// Flatten found them; a column that is no SCIM path becomes a plain attribute.
func NewWriter(w io.Writer, columns []string) format.Writer {
	return &writer{w: bufio.NewWriter(w), columns: columns}
}

func (w *writer) Write(values map[string][]string) error {
	top := map[string]any{"schemas": []string{User}}
	columns := w.columns
	if columns == nil {
		columns = slices.Sorted(maps.Keys(values))
	}
	for _, c := range columns {
		unflatten(top, c, values[c])
	}
	if w.n++; w.n > 1 {
		w.buffer.WriteString(",\n")
	}
	e := json.NewEncoder(&w.buffer)
	e.SetEscapeHTML(false)
	if err := e.Encode(top); err != nil {
		return err
	}
	w.buffer.Truncate(w.buffer.Len() - 1) // the encoder's line end
	return nil
}

func unflatten(top map[string]any, native string, values []string) {
	object, name := Split(native)
	switch {
	case len(values) == 0 || object == "meta":
	case native == "emails.primary" || native == "emails.other":
		list, _ := top["emails"].([]any)
		for _, v := range values {
			list = append(list, map[string]any{"value": v, "primary": name == "primary"})
		}
		top["emails"] = list
	case object != "" && slices.Contains(Multi, object):
		// said again by type; the list itself has it
	case object == "" && slices.Contains(Multi, name):
		list := make([]any, len(values))
		for i, v := range values {
			list[i] = map[string]any{"value": v}
		}
		top[name] = list
	default:
		into := top
		if object != "" {
			m, ok := top[object].(map[string]any)
			if !ok {
				m = map[string]any{}
				top[object] = m
			}
			into = m
		}
		switch {
		case len(values) > 1:
			into[name] = values
		case name == "active" && (values[0] == "true" || values[0] == "false"):
			into[name] = values[0] == "true"
		case name == "manager" && strings.HasPrefix(object, "urn:"):
			into[name] = map[string]any{"value": values[0]}
		default:
			into[name] = values[0]
		}
	}
}

// Close writes what was gathered: the total stands in front.
func (w *writer) Close() error {
	head, err := json.Marshal(map[string]any{"schemas": []string{ListResponse}, "totalResults": w.n, "startIndex": 1, "itemsPerPage": w.n})
	if err != nil {
		return err
	}
	for _, part := range [][]byte{head[:len(head)-1], []byte(`,"Resources":[` + "\n"), w.buffer.Bytes(), []byte("\n]}\n")} {
		if _, err := w.w.Write(part); err != nil {
			return err
		}
	}
	return w.w.Flush()
}
