package cli

import (
	"io"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"twinning/internal/core/record"
)

// plain writes text for people: whatever another system said, nothing of it moves
// the cursor, changes a title or turns the writing around, and a domain that may look like
// another one is told apart.
type plain struct{ io.Writer }

func (p plain) Write(b []byte) (int, error) {
	if _, err := io.WriteString(p.Writer, plainText(record.Revealed(string(b)))); err != nil {
		return 0, err
	}
	return len(b), nil
}

// raw is what a plain writer writes to: for files, for machines, and for what we
// move the cursor with ourselves.
func raw(w io.Writer) io.Writer {
	if p, ok := w.(plain); ok {
		return p.Writer
	}
	return w
}

// plainText shows what would steer a terminal instead of letting it.
func plainText(s string) string {
	if !strings.ContainsFunc(s, steers) && utf8.ValidString(s) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if steers(r) {
			b.WriteString(strings.Trim(strconv.QuoteRuneToASCII(r), "'"))
			continue
		}
		b.WriteRune(r) // bytes that are no character come as the sign for that
	}
	return b.String()
}

func steers(r rune) bool {
	return unicode.IsControl(r) && r != '\n' && r != '\t' || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 || r == 0x061c
}
