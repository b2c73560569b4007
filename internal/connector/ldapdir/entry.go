package ldapdir

import (
	"fmt"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"twinning/internal/connector"
	"twinning/internal/core/record"
	"twinning/internal/format/ldif"
)

func parent(dn string) string {
	_, up := ldif.SplitDN(dn)
	return up
}

// native finds the spelling under which the shape knows an attribute, since servers answer in
// their own. `;binary` says how a value is transferred (RFC 4522), and makes no other attribute;
// other options do (RFC 4512 section 2.5).
func (d *directory) native(name string) string {
	for _, a := range d.attributes {
		if strings.EqualFold(a, name) {
			return a
		}
	}
	for _, a := range d.attributes {
		if strings.EqualFold(transferred(a), transferred(name)) {
			return a
		}
	}
	return name
}

func transferred(name string) string {
	if n := len(name) - len(binary); n > 0 && strings.EqualFold(name[n:], binary) {
		return name[:n]
	}
	return name
}

const binary = ";binary"

// record makes a record of an entry. A rejection is one that can't be read.
func (d *directory) record(e *ldap.Entry) (connector.Record, *record.Rejection) {
	r := connector.Record{Values: make(map[string][]string, len(e.Attributes)+2)}
	reject := func(native, reason string) (connector.Record, *record.Rejection) {
		return r, &record.Rejection{Column: native, ID: r.ID, Reason: fmt.Sprintf("entry %s: %s", e.DN, reason)}
	}
	r.Values["dn"] = []string{e.DN}
	if up := parent(e.DN); up != "" {
		r.Values["parent"] = []string{up}
	}
	var fault *record.Rejection
	for _, a := range e.Attributes {
		name := d.native(a.Name)
		if record.IsSecret(name) {
			continue
		}
		coding := d.codings[strings.ToLower(name)]
		values := a.Values
		for i, raw := range a.ByteValues {
			text, err := record.DecodeBytes(coding, raw)
			if err != nil {
				_, fault = reject(name, err.Error())
				values = nil
				break
			}
			if coding != "" {
				values[i] = text
			}
		}
		if len(values) > 0 {
			r.Values[name] = values
		}
	}
	if ids := r.Values[d.id.Native]; len(ids) > 0 {
		r.ID = ids[0]
	}
	switch {
	case r.ID == "":
		return reject(d.id.Native, fmt.Sprintf("shows no %s, which is the id: is it hidden from %s?", d.id.Native, d.who()))
	case fault != nil:
		fault.ID = r.ID
		return r, fault
	}
	return r, nil
}

func (d *directory) who() string {
	if d.bind == "" {
		return "us"
	}
	return d.bind
}

// idFilter finds the entry of an id.
func (d *directory) idFilter(id string) (string, error) {
	return d.equals(d.id.Native, id)
}

func (d *directory) equals(native, value string) (string, error) {
	raw, err := record.EncodeBytes(d.codings[strings.ToLower(native)], value)
	if err != nil {
		return "", err
	}
	return "(" + native + "=" + ldap.EscapeFilter(raw) + ")", nil
}
