package ldapdir

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/go-ldap/ldap/v3"

	"twinning/internal/connector"
	"twinning/internal/core/record"
)

// decode gives bytes the text form of a coding.
func decode(coding string, raw []byte) (string, error) {
	switch coding {
	case "hex":
		return hex.EncodeToString(raw), nil
	case "base64":
		return base64.StdEncoding.EncodeToString(raw), nil
	case "guid": // the first three groups are little-endian
		if len(raw) != 16 {
			return "", fmt.Errorf("%d bytes long, where a guid has 16", len(raw))
		}
		b := slices.Clone(raw)
		slices.Reverse(b[0:4])
		slices.Reverse(b[4:6])
		slices.Reverse(b[6:8])
		x := hex.EncodeToString(b)
		return x[:8] + "-" + x[8:12] + "-" + x[12:16] + "-" + x[16:20] + "-" + x[20:], nil
	}
	if !utf8.Valid(raw) {
		return "", fmt.Errorf("holds bytes that are no text; give it a coding in the shape: %s", strings.Join(record.Codings, ", "))
	}
	return string(raw), nil
}

// encode is the way back of decode.
func encode(coding, text string) (string, error) {
	var raw []byte
	var err error
	switch coding {
	case "hex":
		raw, err = hex.DecodeString(text)
	case "base64":
		raw, err = base64.StdEncoding.DecodeString(text)
	case "guid":
		if raw, err = hex.DecodeString(strings.ReplaceAll(text, "-", "")); err == nil && len(raw) != 16 {
			err = fmt.Errorf("a guid has 16 bytes")
		}
		if err == nil {
			slices.Reverse(raw[0:4])
			slices.Reverse(raw[4:6])
			slices.Reverse(raw[6:8])
		}
	default:
		return text, nil
	}
	if err != nil {
		return "", fmt.Errorf("%q is not %s: %w", text, coding, err)
	}
	return string(raw), nil
}

// parent is the DN above, "" at the top. The text is kept as it came: only an
// unescaped comma ends the first part.
func parent(dn string) string {
	for i := 0; i < len(dn); i++ {
		switch dn[i] {
		case '\\':
			i++
		case ',':
			return strings.TrimLeft(dn[i+1:], " ")
		}
	}
	return ""
}

// native finds the spelling under which the shape knows an attribute, since
// servers answer in their own.
func (d *directory) native(name string) string {
	for _, a := range d.attributes {
		if strings.EqualFold(a, name) {
			return a
		}
	}
	return name
}

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
			text, err := decode(coding, raw)
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
	raw, err := encode(d.codings[strings.ToLower(native)], value)
	if err != nil {
		return "", err
	}
	return "(" + native + "=" + ldap.EscapeFilter(raw) + ")", nil
}
