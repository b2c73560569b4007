package charter

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"cel.dev/cel-go/common"

	"twinning/internal/core/document"
	"twinning/internal/core/record"
)

// People write expressions as they know them from elsewhere. What is meant is told
// in place of what a parser says about it.

// instead is what to write for a word, outside of quotes, in a language that we
// don't speak.
var instead = map[string]string{
	"and": "for `and`, write &&", "AND": "for `AND`, write &&", "or": "for `or`, write ||", "OR": "for `OR`, write ||", "not": "for `not`, write ! before the condition", "NOT": "for `NOT`, write ! before the condition",
	"like": "for `like`, write X.contains('x'), X.startsWith('x'), X.endsWith('x') or X.matches('pattern')", "LIKE": "for `LIKE`, write X.contains('x'), X.startsWith('x'), X.endsWith('x') or X.matches('pattern')",
	"if": "for `if`, write CONDITION ? VALUE : OTHER", "IF": "for `IF`, write CONDITION ? VALUE : OTHER", "then": "for `then`, write CONDITION ? VALUE : OTHER", "else": "for `else`, write CONDITION ? VALUE : OTHER", "case": "for `case`, write CONDITION ? VALUE : OTHER",
	"is": "for `is`, write == (X == null for a blank value)", "IS": "for `IS`, write == (X == null for a blank value)", "between": "for `between`, write X >= 'a' && X <= 'b'",
	"nil": "for `nil`, write null", "None": "for `None`, write null", "NULL": "for `NULL`, write null", "undefined": "for `undefined`, write null", "True": "for `True`, write true", "TRUE": "for `TRUE`, write true", "False": "for `False`, write false", "FALSE": "for `FALSE`, write false",
}

// insteadOf is the same for functions, with an opening bracket behind them.
var insteadOf = map[string]string{
	"concat": "texts are joined with +", "CONCAT": "texts are joined with +", "len": "the length of X is size(X)", "length": "the length of X is size(X)", "LEN": "the length of X is size(X)",
	"toLowerCase": "small letters are lower(X)", "toLower": "small letters are lower(X)", "lowercase": "small letters are lower(X)", "LOWER": "small letters are lower(X)", "toUpperCase": "capitals are upper(X)", "toUpper": "capitals are upper(X)", "uppercase": "capitals are upper(X)", "UPPER": "capitals are upper(X)",
	"substr": "a part of X is X.substring(from, to), counted from 0", "mid": "a part of X is X.substring(from, to), counted from 0", "left": "the first n letters of X are X.substring(0, n)", "right": "a part of X is X.substring(from, to), counted from 0", "SUBSTRING": "a part of X is X.substring(from, to), counted from 0",
	"isEmpty": "X is blank when X == null", "isBlank": "X is blank when X == null", "isNull": "X is blank when X == null", "empty": "X is blank when X == null", "IsNullOrEmpty": "X is blank when X == null",
	"coalesce": "the first value that is there: X != null ? X : Y", "COALESCE": "the first value that is there: X != null ? X : Y", "ifnull": "the first value that is there: X != null ? X : Y", "nvl": "the first value that is there: X != null ? X : Y", "default": "the first value that is there: X != null ? X : Y",
	"replaceAll": "every X is replaced by X.replace('a', 'b'); a pattern by rewrite(X, 'pattern', 'b')", "regexReplace": "a pattern is replaced by rewrite(X, 'pattern', 'b')", "normalize": "fold(X) takes accents and capitals away", "removeAccents": "fold(X) takes accents and capitals away", "toAscii": "fold(X) takes accents and capitals away",
	"now": "the day is `today`, as YYYY-MM-DD", "today": "the day is `today`, without brackets", "currentDate": "the day is `today`, as YYYY-MM-DD", "firstLetter": "the first letter of X is initial(X)", "endswith": "write endsWith", "startswith": "write startsWith",
}

// hint finds what in an expression is written as elsewhere, and where; "" when
// nothing is.
func hint(src string) (message string, column int) {
	at := 0
	place := func() int { return utf8.RuneCountInString(src[:at]) }
	for at < len(src) {
		rest := src[at:]
		r, size := utf8.DecodeRuneInString(rest)
		switch {
		case r == '\'' || r == '"':
			end := at + 1
			for end < len(src) && src[end] != byte(r) {
				if src[end] == '\\' {
					end++
				}
				end++
			}
			if end >= len(src) {
				return fmt.Sprintf("the text that begins with %c does not end", r), place()
			}
			at = end + 1
			continue
		case strings.ContainsRune("‘’“”„«»`´", r):
			return fmt.Sprintf("%c is no straight quote; texts stand in ' or \"", r), place()
		case strings.HasPrefix(rest, "=="), strings.HasPrefix(rest, "!="), strings.HasPrefix(rest, "<="), strings.HasPrefix(rest, ">="), strings.HasPrefix(rest, "&&"), strings.HasPrefix(rest, "||"):
			at += 2
			continue
		case strings.HasPrefix(rest, "<>"):
			return "for `<>`, write !=", place()
		case strings.HasPrefix(rest, "??"):
			return "for `X ?? Y`, write X != null ? X : Y", place()
		case r == '=':
			return "for `=`, write ==", place()
		case r == '&' || r == '|':
			return fmt.Sprintf("for `%c`, write %[1]c%[1]c", r), place()
		case unicode.IsLetter(r) || r == '_':
			end := at
			for end < len(src) {
				c, n := utf8.DecodeRuneInString(src[end:])
				if !unicode.IsLetter(c) && !unicode.IsDigit(c) && c != '_' {
					break
				}
				end += n
			}
			word, after := src[at:end], strings.TrimLeft(src[end:], " ")
			called := strings.HasPrefix(after, "(")
			if what := instead[word]; what != "" && !strings.HasSuffix(strings.TrimRight(src[:at], " "), ".") && (!called || strings.HasPrefix(src[end:], " ")) {
				return what, place()
			}
			if what := insteadOf[word]; called && what != "" {
				return fmt.Sprintf("there is no function %s; %s", word, what), place()
			}
			if word == "in" && called && strings.Contains(after, ",") {
				return "a list stands in square brackets: X in ['a', 'b']", place()
			}
			at = end
			continue
		}
		at += size
	}
	return "", 0
}

// bareText tells of a text that somebody forgot to quote.
var bareText = regexp.MustCompile(`^[\p{L}\d][\p{L}\d ,_-]*$`)

var (
	notHere   = regexp.MustCompile(`^Syntax error: (?:mismatched|extraneous) input '(.*?)' expecting`)
	noSign    = regexp.MustCompile(`^Syntax error: token recognition error at: '(.*)'`)
	operands  = regexp.MustCompile(`^found no matching overload for '_(.+)_' applied to '\((.*), (.*)\)'`)
	otherType = regexp.MustCompile(`^expected type '(.*)' but found '(.*)'`)
)

// plainSyntax says in plain words what the parser says in its own.
func plainSyntax(message string) string {
	if m := notHere.FindStringSubmatch(message); m != nil {
		if m[1] == "<EOF>" {
			return "it breaks off: something is missing at its end; if YAML cut it at ': ' or ' #', put all of it in double quotes"
		}
		return fmt.Sprintf("%s does not belong here; texts are quoted: 'like this'", m[1])
	}
	if m := noSign.FindStringSubmatch(message); m != nil {
		return fmt.Sprintf("%q is nothing that an expression can hold; texts are quoted: 'like this'", strings.TrimSpace(m[1]))
	}
	return strings.TrimSpace(strings.TrimPrefix(message, "Syntax error:")) + "; texts are quoted: 'like this', and if YAML cut the expression at ': ' or ' #', put all of it in double quotes"
}

// report tells what is wrong with an expression that can't be compiled.
func (c *compiler) report(n document.Node, src string, errors []*common.Error) {
	if said, column := hint(src); said != "" {
		n.ProblemAt(1, column, "%s", said)
		return
	}
	if text := strings.TrimSpace(src); bareText.MatchString(text) && !slices.ContainsFunc(functions, func(f function) bool { return f.name == text }) {
		n.Problem("%q is no expression; a text that is always the same is quoted twice, for YAML and for the expression: \"'%s'\"", text, text)
		return
	}
	for _, e := range errors {
		n.ProblemAt(e.Location.Line(), e.Location.Column(), "%s", c.explain(e.Message))
	}
}

// nearest suggests an attribute for a name that there is not: what lists usually
// call it, or what is spelt alike.
func nearest(name string, known []string) string {
	for attribute, src := range record.Guess([]string{name}).Attributes {
		if src.Native == name && slices.Contains(known, attribute) {
			return fmt.Sprintf(" (that is %q here)", attribute)
		}
	}
	return document.Suggest(name, known)
}
