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

// checkPatterns wants every pattern of an expression to be written in it: what
// somebody's list holds is compared, never run.
func (c *compiler) checkPatterns(root celast.Expr, problem func(format string, args ...any)) (ok bool) {
	ok = true
	celast.PostOrderVisit(root, celast.NewExprVisitor(func(x celast.Expr) {
		if x.Kind() != celast.CallKind {
			return
		}
		call := x.AsCall()
		if why := c.checkWords(call); why != "" {
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
		var text types.String
		if args[at].Kind() == celast.LiteralKind {
			text, is = args[at].AsLiteral().(types.String)
		} else {
			is = false
		}
		if !is {
			ok = false
			problem("the pattern of %s() must be written in quotes: what a list holds is compared, never taken for a pattern", call.FunctionName())
			return
		}
		re, err := readPattern(string(text))
		c.patterns[string(text)] = re
		if err != nil {
			ok = false
			problem("%s() can't read the pattern %q: %v", call.FunctionName(), string(text), err)
		}
	}))
	return ok
}

// checkWords says what is wrong with a word that is written in an expression and names
// something: a table, a language, a country.
func (c *compiler) checkWords(call celast.CallExpr) string {
	var known func() []string
	at := 1
	switch call.FunctionName() {
	case "lookup":
		known, at = func() []string { return slices.Sorted(maps.Keys(c.tables)) }, 0
	case "slug":
		known = record.Spellings
	case "e164":
		known = countries
	default:
		return ""
	}
	if at >= len(call.Args()) || call.Args()[at].Kind() != celast.LiteralKind {
		return ""
	}
	word, is := call.Args()[at].AsLiteral().(types.String)
	if list := known(); is && !slices.Contains(list, string(word)) {
		what := map[string]string{"lookup": "table", "slug": "language", "e164": "country"}[call.FunctionName()]
		if len(list) > mostListed {
			return fmt.Sprintf("%s() knows no %s %q%s; expected two capital letters such as CL (ISO 3166)", call.FunctionName(), what, string(word), document.Suggest(string(word), list))
		}
		if len(list) == 0 {
			return fmt.Sprintf("%s() names the %s %q, and the charter has none under `tables:`", call.FunctionName(), what, string(word))
		}
		return fmt.Sprintf("%s() knows no %s %q%s; expected one of %s", call.FunctionName(), what, string(word), document.Suggest(string(word), list), strings.Join(list, ", "))
	}
	return ""
}

// mostListed are the words that a message lists.
const mostListed = 30
