// Package filter reads what people type to narrow a list down: words that are searched for,
// and terms of a field and a value, as in
//
//	verb:suspend department:"Night crew" -class:guest soto
//
// A term with - before it means all others; a value that ends in * means what begins so, and
// verb: alone what has none. What looks like a term and names no field of the list is a word.
package filter

import "strings"

// Term says that a field has a value.
type Term struct {
	Field string
	Value string
	Begin bool // it only begins so
	Not   bool
}

// Parse takes a text apart into terms of some fields, and the words that are left.
func Parse(text string, isField func(name string) bool) (terms []Term, words string) {
	var left []string
	for _, token := range tokens(text) {
		name, value, is := strings.Cut(token, ":")
		t := Term{Field: strings.ToLower(strings.TrimPrefix(name, "-")), Not: strings.HasPrefix(name, "-")}
		if !is || !isField(t.Field) {
			left = append(left, unquoted(token))
			continue
		}
		quoted := strings.HasPrefix(value, `"`)
		if t.Value = unquoted(value); !quoted {
			t.Value, t.Begin = strings.CutSuffix(t.Value, "*")
		}
		terms = append(terms, t)
	}
	return terms, strings.Join(left, " ")
}

// tokens parts a text by white space, but not inside quotes.
func tokens(text string) (list []string) {
	var b strings.Builder
	quoted := false
	end := func() {
		if b.Len() > 0 {
			list = append(list, b.String())
			b.Reset()
		}
	}
	for _, r := range text {
		switch {
		case r == '"':
			quoted = !quoted
			b.WriteRune(r)
		case (r == ' ' || r == '\t' || r == '\n' || r == '\u00a0') && !quoted:
			end()
		default:
			b.WriteRune(r)
		}
	}
	end()
	return list
}

func unquoted(s string) string { return strings.ReplaceAll(s, `"`, "") }
