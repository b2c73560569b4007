package charter

import (
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"

	"cel.dev/cel-go/cel"
	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/ext"

	"twinning/internal/core/budget"
	"twinning/internal/core/document"
	"twinning/internal/core/record"
)

var stringSlice = reflect.TypeFor[[]string]()

type want string

const (
	wantCondition want = "true or false"
	wantText      want = "a text"
	wantValues    want = "a text or a list of texts"
)

// Expr is one checked expression of a charter.
type Expr struct {
	Source    string
	Line      int      // for messages alone
	Path      string   // in the document: which expression it is
	attribute string   // set when the expression is a plain person.X or account.X
	person    []string // attributes read, sorted
	account   []string
	others    []string            // attributes read of other people's accounts, sorted
	lanes     map[string][]string // attributes read of the person's accounts in other lanes
	asks      []celast.Expr       // what accountOf is asked for
	root      celast.Expr
	info      *celast.SourceInfo
	compiler  *compiler
	program   cel.Program
}

// Attribute returns the name of the attribute that the expression merely
// refers to, "" when it computes something.
func (e *Expr) Attribute() string {
	if e == nil {
		return ""
	}
	return e.attribute
}

// Reads lists the attributes of the person and of the account that the
// expression depends on.
func (e *Expr) Reads() (person, account []string) {
	if e == nil {
		return nil, nil
	}
	return e.person, e.account
}

// ReadsAccounts reports whether the expression depends on the account, or on another one.
func (e *Expr) ReadsAccounts() bool {
	return e != nil && len(e.account)+len(e.others)+len(e.lanes) > 0
}

// ReadsOthers lists the attributes that the expression reads of other people's accounts, and
// those of the person's accounts in other lanes, by lane.
func (e *Expr) ReadsOthers() (accounts []string, lanes map[string][]string) {
	if e == nil {
		return nil, nil
	}
	return e.others, e.lanes
}

// compiler holds the CEL environment of one charter.
type compiler struct {
	env        *cel.Env
	tables     map[string]map[string]string
	vocabulary Vocabulary
	patterns   map[string]*regexp.Regexp // those of the expressions
	compiled   int                       // expressions so far
	stopped    atomic.Bool
}

func newCompiler(v Vocabulary, tables map[string]map[string]string) *compiler {
	c := &compiler{tables: tables, vocabulary: v, patterns: map[string]*regexp.Regexp{}}
	registry, err := types.NewRegistry()
	if err != nil {
		panic(err) // an empty registry can't fail
	}
	opts := append(c.declare(),
		cel.CustomTypeProvider(&vocabularyTypes{registry, v}),
		cel.Variable("person", cel.ObjectType("person")),
		cel.Variable("account", cel.ObjectType("account")),
		cel.Variable("today", cel.StringType),
		ext.Strings(ext.StringsVersion(0)))
	opts = append(opts, bounded()...)
	opts = append(opts, others()...)
	c.env, err = cel.NewEnv(opts...)
	if err != nil {
		panic(err) // the declarations above are constant
	}
	return c
}

// vocabularyTypes gives the attributes to CEL's checker, so that a misspelt
// one is found before anything runs.
type vocabularyTypes struct {
	*types.Registry
	v Vocabulary
}

func (t *vocabularyTypes) names(side string) []string {
	custom := t.v.Person
	if side == "account" {
		custom = t.v.Account
	}
	return slices.Concat(record.CanonicalNames(), custom)
}

func (t *vocabularyTypes) FindStructType(name string) (*types.Type, bool) {
	if name == "person" || name == "account" {
		return types.NewTypeTypeWithParam(types.NewObjectType(name)), true
	}
	return t.Registry.FindStructType(name)
}

func (t *vocabularyTypes) FindStructFieldType(side, field string) (*types.FieldType, bool) {
	if side != "person" && side != "account" {
		return t.Registry.FindStructFieldType(side, field)
	}
	if !slices.Contains(t.names(side), field) {
		return nil, false
	}
	return &types.FieldType{Type: celType(record.KindOf(field))}, true
}

func celType(k record.Kind) *types.Type {
	switch {
	case k.Multi():
		return types.NewListType(types.StringType)
	case k == record.Bool:
		return types.NewNullableType(types.BoolType)
	}
	return types.NewNullableType(types.StringType)
}

// compile checks an expression that may read the given sides. It reports its
// problems at the node and then returns nil.
func (c *compiler) compile(n document.Node, w want, sides ...string) *Expr {
	src := n.Text()
	if strings.TrimSpace(src) == "" {
		n.Problem("expected an expression that gives %s, found nothing", w)
		return nil
	}
	if c.compiled++; c.compiled > budget.Formulas.Int() { // told once
		if c.compiled == budget.Formulas.Int()+1 {
			n.Problem("%v", budget.Formulas.Over(int64(c.compiled), "the number of the charter's expressions"))
		}
		return nil
	}
	if err := budget.Formula.Over(int64(len(src)), "the expression"); err != nil {
		n.Problem("%v", err)
		return nil
	}
	line, _ := n.Place()
	checked, issues := c.env.Compile(src)
	if issues.Err() != nil {
		c.report(n, src, issues.Errors())
		return nil
	}
	e := &Expr{Source: src, Line: line, Path: n.Path(), compiler: c, root: checked.NativeRep().Expr(), info: checked.NativeRep().SourceInfo()}
	if !suits(checked.OutputType(), w) {
		n.Problem("the expression gives %s, expected %s", plain(checked.OutputType()), w)
		return nil
	}
	e.collect(checked.NativeRep())
	if !c.checkLiterals(e.root, n.Problem) {
		return nil
	}
	for side, reads := range map[string][]string{"person": e.person, "account": e.account} {
		if len(reads) > 0 && !slices.Contains(sides, side) {
			n.Problem("%s.%s can't be read here; only %s is known", side, reads[0], strings.Join(sides, " and "))
			return nil
		}
	}
	if len(e.others)+len(e.lanes) > 0 && !slices.Contains(sides, twins) {
		n.Problem("accountOf() and accountIn() can't be asked here: they are known once everybody is paired")
		return nil
	}
	program, err := c.env.Program(checked, cel.CostLimit(uint64(budget.Cost.Value())), cel.EvalOptions(cel.OptOptimize)) // patterns are compiled once; limits are positive
	if err != nil {
		n.Problem("the expression can't be prepared: %v", err)
		return nil
	}
	e.program = program
	return e
}

// twins is the side of what is known once everybody is paired.
const twins = "twins"

func suits(t *cel.Type, w want) bool {
	textual := t.IsEquivalentType(cel.StringType) || t.IsEquivalentType(cel.NullableType(cel.StringType))
	switch w {
	case wantCondition:
		return t.IsEquivalentType(cel.BoolType) || t.IsEquivalentType(cel.NullableType(cel.BoolType))
	case wantText:
		return textual
	}
	return textual || t.IsEquivalentType(cel.ListType(cel.StringType))
}

func plain(t *cel.Type) string { return plainType(t.String()) }

func plainType(t string) string {
	words := map[string]string{"bool": "true or false", "wrapper(bool)": "true or false", "string": "a text", "wrapper(string)": "a text", "int": "a number", "list(string)": "a list of texts"}
	if w, ok := words[t]; ok {
		return w
	}
	return t
}

// explain puts CEL's messages in the charter's words.
func (c *compiler) explain(message string) string {
	if field, ok := strings.CutPrefix(message, "undefined field '"); ok {
		field = strings.TrimSuffix(field, "'")
		known := slices.Concat(record.CanonicalNames(), c.vocabulary.Person, c.vocabulary.Account)
		return "unknown attribute \"" + field + "\"" + nearest(field, known) + "; known are the canonical attributes and those that the system's shape declares"
	}
	if name, ok := strings.CutPrefix(message, "undeclared reference to '"); ok {
		name, _, _ = strings.Cut(name, "'")
		known := []string{"person", "account", "today", accountOf, accountIn}
		for _, f := range functions {
			known = append(known, f.name)
		}
		return "unknown name \"" + name + "\"" + document.Suggest(name, known) + "; expected person.ATTRIBUTE, account.ATTRIBUTE, today or a function"
	}
	if m := operands.FindStringSubmatch(message); m != nil {
		return fmt.Sprintf("%s does not go with %s and %s", m[1], plainType(m[2]), plainType(m[3]))
	}
	if strings.HasPrefix(message, "found no matching overload for") {
		return strings.Replace(message, "found no matching overload for", "these types don't go together:", 1)
	}
	if m := otherType.FindStringSubmatch(message); m != nil {
		return "expected " + plainType(m[1]) + ", found " + plainType(m[2]) + "; && and || join conditions, X != null ? X : Y takes the first value that is there"
	}
	if strings.HasPrefix(message, "Syntax error:") {
		return plainSyntax(message)
	}
	return message
}

func (e *Expr) collect(a *celast.AST) {
	seen := map[string]map[string]bool{"person": {}, "account": {}, accountOf: {}}
	celast.PostOrderVisit(a.Expr(), celast.NewExprVisitor(func(x celast.Expr) {
		if x.Kind() == celast.SelectKind {
			if function, arg, other := asksOthers(x.AsSelect().Operand()); other {
				e.collectOther(function, arg, x.AsSelect().FieldName(), seen[accountOf])
			}
		}
		if x.Kind() != celast.SelectKind || x.AsSelect().Operand().Kind() != celast.IdentKind {
			return
		}
		if names, ok := seen[x.AsSelect().Operand().AsIdent()]; ok {
			names[x.AsSelect().FieldName()] = true
		}
	}))
	list := func(m map[string]bool) (out []string) {
		for n := range m {
			out = append(out, n)
		}
		slices.Sort(out)
		return out
	}
	e.person, e.account, e.others = list(seen["person"]), list(seen["account"]), list(seen[accountOf])
	if root := a.Expr(); root.Kind() == celast.SelectKind && root.AsSelect().Operand().Kind() == celast.IdentKind && !root.AsSelect().IsTestOnly() {
		e.attribute = root.AsSelect().FieldName()
	}
}

// collectOther notes an attribute that is read of another account.
func (e *Expr) collectOther(function string, arg celast.Expr, attribute string, others map[string]bool) {
	if function == accountOf {
		others[attribute] = true
		e.asks = append(e.asks, arg)
		return
	}
	if lane, named := literal(arg); named {
		if e.lanes == nil {
			e.lanes = map[string][]string{}
		}
		e.lanes[lane] = append(e.lanes[lane], attribute)
	}
}
