package store

import (
	"bytes"
	"encoding/json"
	"strings"
)

// parseNatives reads the values of a record as they are kept: an object whose values are
// lists of texts. Nearly all are plain, and are read at once; a general reader takes six
// times as long, which at a million records is most of the time that loading them takes.
func parseNatives(src []byte) (map[string][]string, error) {
	if natives, plain := plainNatives(src); plain {
		return natives, nil
	}
	var natives map[string][]string
	err := json.Unmarshal(src, &natives)
	return natives, err
}

// plainNatives reads what PostgreSQL writes of such an object when no text needs an escape.
func plainNatives(src []byte) (natives map[string][]string, plain bool) {
	if bytes.IndexByte(src, '\\') >= 0 || len(src) < 2 || src[0] != '{' || src[len(src)-1] != '}' {
		return nil, false
	}
	rest := string(src[1 : len(src)-1])
	room := make([]string, 0, 2+strings.Count(rest, `"`)/2)
	natives = make(map[string][]string, strings.Count(rest, "["))
	text := func() (s string, ok bool) {
		if rest == "" || rest[0] != '"' {
			return "", false
		}
		s, rest, ok = strings.Cut(rest[1:], `"`)
		return s, ok
	}
	skip := func(word string) (ok bool) {
		rest, ok = strings.CutPrefix(rest, word)
		return ok
	}
	for rest != "" {
		name, ok := text()
		if !ok || !skip(": [") {
			return nil, false
		}
		from := len(room)
		for !skip("]") {
			if len(room) > from && !skip(", ") {
				return nil, false
			}
			value, ok := text()
			if !ok {
				return nil, false
			}
			room = append(room, value)
		}
		natives[name] = room[from:len(room):len(room)]
		if rest != "" && !skip(", ") {
			return nil, false
		}
	}
	return natives, true
}
