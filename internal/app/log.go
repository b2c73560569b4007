package app

import (
	"log/slog"
	"strings"
	"unicode"
)

// harmless keeps what others say from steering the terminal that shows a log.
func harmless(_ []string, a slog.Attr) slog.Attr {
	if a.Value.Kind() == slog.KindString {
		a.Value = slog.StringValue(strings.Map(func(r rune) rune {
			if unicode.IsControl(r) && r != '\n' && r != '\t' || unicode.Is(unicode.Bidi_Control, r) {
				return unicode.ReplacementChar
			}
			return r
		}, a.Value.String()))
	}
	return a
}
