package budget

import (
	"errors"
	"strings"
	"unicode/utf8"
)

// JSON looks over a JSON text before anybody decodes it: how deep it goes, how
// long its names are, and how many members one object has. It does not tell
// whether the text is JSON; whoever decodes it does.
func JSON(text []byte) error {
	var objects []int // members of each open object; -1: a list
	for i := 0; i < len(text); i++ {
		switch c := text[i]; c {
		case '"':
			end := closing(text, i)
			if end < 0 {
				return nil // the decoder tells it
			}
			if isName(text, end+1) {
				if err := Key.Over(int64(end-i-1), "a name in the JSON text"); err != nil {
					return err
				}
				if top := len(objects) - 1; top >= 0 {
					objects[top]++
					if err := Columns.Over(int64(objects[top]), "an object in the JSON text with so many members"); err != nil {
						return err
					}
				}
			}
			i = end
		case '{', '[':
			objects = append(objects, 0)
			if err := Depth.Over(int64(len(objects)), "JSON nested so deeply"); err != nil {
				return err
			}
		case '}', ']':
			if len(objects) > 0 {
				objects = objects[:len(objects)-1]
			}
		}
	}
	return nil
}

// closing is where the text that begins at i ends, -1 when it does not.
func closing(text []byte, i int) int {
	for i++; i < len(text); i++ {
		switch text[i] {
		case '\\':
			i++
		case '"':
			return i
		}
	}
	return -1
}

func isName(text []byte, i int) bool {
	for ; i < len(text); i++ {
		switch text[i] {
		case ' ', '\t', '\r', '\n':
		default:
			return text[i] == ':'
		}
	}
	return false
}

// Errors of a text that two readers could take for two things.
var (
	ErrNotUTF8 = errors.New("it holds bytes that are not UTF-8")
	ErrNUL     = errors.New("it holds the character NUL")
)

// Strict is JSON for what must mean one thing to every reader: it also refuses
// names that one object has twice (also when only case tells them apart), bytes
// that are not UTF-8, and NUL. The name at fault is returned with the error.
func Strict(text []byte) (name string, err error) {
	if err := JSON(text); err != nil {
		return "", err
	}
	if !utf8.Valid(text) {
		return "", ErrNotUTF8
	}
	last := ""
	var objects []map[string]bool
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '"':
			end := closing(text, i)
			if end < 0 {
				return "", nil
			}
			word := text[i+1 : end]
			named := isName(text, end+1)
			if named {
				last = string(word)
			}
			if hasNUL(word) {
				return last, ErrNUL
			}
			if top := len(objects) - 1; named && top >= 0 {
				key := strings.ToLower(plainName(word))
				if objects[top][key] {
					return last, errors.New("it is given twice")
				}
				if objects[top] == nil {
					objects[top] = map[string]bool{}
				}
				objects[top][key] = true
			}
			i = end
		case '{', '[':
			objects = append(objects, nil)
		case '}', ']':
			if len(objects) > 0 {
				objects = objects[:len(objects)-1]
			}
		}
	}
	return "", nil
}

// hasNUL: written as it is, or as \u0000.
func hasNUL(word []byte) bool {
	for i := 0; i < len(word); i++ {
		switch {
		case word[i] == 0:
			return true
		case word[i] == '\\':
			if strings.HasPrefix(string(word[i:min(i+6, len(word))]), `\u0000`) {
				return true
			}
			i++
		}
	}
	return false
}

// plainName takes the escapes out of a name, so that "o\u006e" is "on".
func plainName(word []byte) string {
	if !strings.Contains(string(word), `\`) {
		return string(word)
	}
	var b strings.Builder
	for i := 0; i < len(word); i++ {
		if word[i] != '\\' || i+1 == len(word) {
			b.WriteByte(word[i])
			continue
		}
		i++
		if word[i] == 'u' && i+4 < len(word) {
			var r rune
			for _, c := range word[i+1 : i+5] {
				r = r<<4 | hex(c)
			}
			b.WriteRune(r)
			i += 4
			continue
		}
		b.WriteByte(word[i])
	}
	return b.String()
}

func hex(c byte) rune {
	switch {
	case c >= '0' && c <= '9':
		return rune(c - '0')
	case c >= 'a' && c <= 'f':
		return rune(c-'a') + 10
	case c >= 'A' && c <= 'F':
		return rune(c-'A') + 10
	}
	return 0
}
