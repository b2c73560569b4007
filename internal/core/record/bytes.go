package record

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// DecodeBytes gives bytes the text form of a coding; without one they must be
// text.
func DecodeBytes(coding string, raw []byte) (string, error) {
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
		return "", fmt.Errorf("holds bytes that are no text; give it a coding in the shape: %s", strings.Join(Codings, ", "))
	}
	return string(raw), nil
}

// EncodeBytes is the way back of DecodeBytes.
func EncodeBytes(coding, text string) (string, error) {
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
