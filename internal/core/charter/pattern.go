package charter

import (
	"fmt"
	"maps"
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"

	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"

	"twinning/internal/core/budget"
	"twinning/internal/core/document"
	"twinning/internal/core/record"
)

// patternAt is which argument of a function is a pattern, its receiver counted.
var patternAt = map[string]int{"matches": 1, "rewrite": 1}

// pattern gives one of the charter's, compiled when it was checked.
func (c *compiler) pattern(text string) (*regexp.Regexp, error) {
	if re := c.patterns[text]; re != nil {
		return re, nil
	}
	return readPattern(text)
}

// readPattern compiles one (RE2); a short one may stand for a very long one
// (a{1000}), so its parts are counted first.
func readPattern(text string) (*regexp.Regexp, error) {
	tree, err := syntax.Parse(text, syntax.Perl)
	if err != nil {
		return nil, err
	}
	if err := budget.Pattern.Over(parts(tree), fmt.Sprintf("the pattern %.40q", text)); err != nil {
		return nil, err
	}
	return regexp.Compile(text)
}

// parts is about how many steps a pattern is compiled to.
func parts(re *syntax.Regexp) (n int64) {
	for _, sub := range re.Sub {
		n += parts(sub)
	}
	if re.Op == syntax.OpRepeat {
		n *= int64(max(re.Min, re.Max, 1))
	}
	return n + max(1, int64(len(re.Rune)))
}

// literal is a text that is written in an expression.
func literal(x celast.Expr) (text string, is bool) {
	if x.Kind() != celast.LiteralKind {
		return "", false
	}
	s, is := x.AsLiteral().(types.String)
	return string(s), is
}

// checkLiterals wants every pattern of an expression to be written in it: what somebody's
// list holds is compared, never run. What is written there has to be a pattern, or a word
// that its function knows.
func (c *compiler) checkLiterals(root celast.Expr, problem func(format string, args ...any)) (ok bool) {
	ok = true
	celast.PostOrderVisit(root, celast.NewExprVisitor(func(x celast.Expr) {
		if x.Kind() != celast.CallKind {
			return
		}
		call := x.AsCall()
		if function, arg, other := asksOthers(x); other && function == accountIn {
			if _, named := literal(arg); !named {
				ok = false
				problem("the lane of accountIn() must be written in quotes: accountIn('hq-mail-gate')")
			}
		}
		if why := c.checkWord(call); why != "" {
			ok = false
			problem("%s", why)
		}
		at, is := patternAt[call.FunctionName()]
		if !is {
			return
		}
		args := call.Args()
		if call.IsMemberFunction() {
			at--
		}
		if at >= len(args) {
			return
		}
		text, is := literal(args[at])
		if !is {
			ok = false
			problem("the pattern of %s() must be written in quotes: what a list holds is compared, never taken for a pattern", call.FunctionName())
			return
		}
		re, err := readPattern(text)
		c.patterns[text] = re
		if err != nil {
			ok = false
			problem("%s() can't read the pattern %q: %v", call.FunctionName(), text, err)
		}
	}))
	return ok
}

// wordAt is which argument of a function names something, what, and what there is.
var wordAt = map[string]struct {
	at    int
	what  string
	known func(c *compiler) []string
}{
	"lookup": {0, "table", func(c *compiler) []string { return slices.Sorted(maps.Keys(c.tables)) }},
	"slug":   {1, "language", func(*compiler) []string { return record.Spellings() }},
	"e164":   {1, "country", func(*compiler) []string { return countries() }},
}

// checkWord says what is wrong with a word that is written in an expression and names
// something.
func (c *compiler) checkWord(call celast.CallExpr) string {
	function := call.FunctionName()
	w, names := wordAt[function]
	if !names || w.at >= len(call.Args()) {
		return ""
	}
	word, is := literal(call.Args()[w.at])
	known := w.known(c)
	switch {
	case !is || slices.Contains(known, word):
		return ""
	case len(known) == 0:
		return fmt.Sprintf("%s() names the %s %q, and the charter has none under `tables:`", function, w.what, word)
	case len(known) > mostListed:
		return fmt.Sprintf("%s() knows no %s %q%s; expected two capital letters such as CL (ISO 3166)", function, w.what, word, document.Suggest(word, known))
	}
	return fmt.Sprintf("%s() knows no %s %q%s; expected one of %s", function, w.what, word, document.Suggest(word, known), strings.Join(known, ", "))
}

// mostListed are the words that a message lists.
const mostListed = 30
