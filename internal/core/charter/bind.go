package charter

import (
	"strings"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"twinning/internal/core/budget"
	"twinning/internal/core/record"
)

// Bound is an expression tied to two rosters. It is safe for concurrent use.
type Bound struct {
	Expr *Expr
	eval evaluator
	asks []evaluator // the ids of the people whose accounts it reads
}

// evaluator gives the value for a person's and an account's row; -1 stands for
// no record (an account that is yet to be created).
type evaluator func(person, account int) Value

// Scope is what expressions are evaluated over.
type Scope struct {
	People, Accounts *record.Roster
	Today            string // calendar day in the lane's zone
	// AccountOf gives the row of a person's account by the person's id, -1 when there is
	// none; nil: nobody's is known
	AccountOf func(person string) int
	Lanes     map[string]Elsewhere // by name, those that expressions ask for
}

// Bind prepares the expression for the rosters. A nil expression binds to nil.
func (e *Expr) Bind(s Scope) *Bound {
	if e == nil {
		return nil
	}
	b := binder{s, e.compiler}
	x := &Bound{Expr: e}
	for _, arg := range e.asks {
		if id, ok := b.build(arg); ok {
			x.asks = append(x.asks, id)
		}
	}
	var common bool
	if x.eval, common = b.build(e.root); !common {
		x.eval = e.interpreted(s)
	}
	return x
}

// Others are the ids of the people whose accounts the value was read of.
func (b *Bound) Others(person, account int) (ids []string) {
	for _, id := range b.asks {
		if v := id(person, account); v.kind == text && v.str != "" {
			ids = append(ids, v.str)
		}
	}
	return ids
}

// Eval computes the value for the two rows; -1 means no such record.
func (b *Bound) Eval(person, account int) Value { return b.eval(person, account) }

// binder turns the checked tree into closures over columns. build reports
// false for anything outside the common subset.
type binder struct {
	Scope
	compiler *compiler
}

func (b binder) build(x ast.Expr) (evaluator, bool) {
	switch x.Kind() {
	case ast.LiteralKind:
		v := fromCEL(x.AsLiteral())
		return func(int, int) Value { return v }, v.kind != fault
	case ast.IdentKind:
		v := textValue(b.Today)
		return func(int, int) Value { return v }, x.AsIdent() == "today"
	case ast.SelectKind:
		return b.field(x.AsSelect())
	case ast.ListKind:
		return b.listOf(x.AsList())
	case ast.CallKind:
		return b.call(x.AsCall())
	}
	return nil, false
}

func (b binder) field(s ast.SelectExpr) (evaluator, bool) {
	if s.Operand().Kind() != ast.IdentKind {
		return b.otherField(s)
	}
	side, name := s.Operand().AsIdent(), s.FieldName()
	read := columnReader(b.roster(side), side, name)
	row := func(_, account int) int { return account }
	if side == "person" {
		row = func(person, _ int) int { return person }
	}
	if s.IsTestOnly() {
		return func(p, a int) Value { return present(read(row(p, a))) }, true
	}
	return func(p, a int) Value { return read(row(p, a)) }, true
}

// present is whether a value is there; several are.
func present(v Value) Value {
	if v.kind == fault && !v.some {
		return v
	}
	return boolValue(v.some || !v.Blank())
}

func (s Scope) roster(side string) *record.Roster {
	if side == "person" {
		return s.People
	}
	return s.Accounts
}

// columnReader reads one attribute of a side as a value. No record (row -1) carries none;
// of a record, an attribute without a column and one with several values are undecided.
func columnReader(r *record.Roster, side, name string) func(row int) Value {
	var column *record.Column
	if r != nil {
		column = r.Column(name)
	}
	kind := record.KindOf(name)
	unread := undecided(side+"."+name, "is not read")
	return func(row int) Value {
		switch {
		case row < 0 && kind.Multi():
			return listValue(nil)
		case row < 0:
			return Value{}
		case column == nil:
			return unread
		case kind.Multi():
			return listValue(column.Values(row))
		}
		cell := column.Cell(row)
		switch {
		case cell == "":
			return Value{}
		case len(r.Several(row, name)) > 0:
			v := undecided(side+"."+name, "has several values")
			v.some = true
			return v
		case kind == record.Bool:
			return boolValue(cell == "true")
		}
		return textValue(cell)
	}
}

func (b binder) listOf(l ast.ListExpr) (evaluator, bool) {
	items := make([]string, l.Size())
	for i, e := range l.Elements() {
		s, ok := literal(e)
		if !ok {
			return nil, false
		}
		items[i] = s
	}
	v := listValue(items)
	return func(int, int) Value { return v }, true
}

func (b binder) call(c ast.CallExpr) (evaluator, bool) {
	operands := c.Args()
	if c.IsMemberFunction() {
		operands = append([]ast.Expr{c.Target()}, operands...)
	}
	args := make([]evaluator, len(operands))
	for i, o := range operands {
		eval, ok := b.build(o)
		if !ok {
			return nil, false
		}
		args[i] = eval
	}
	describe := make([]string, len(operands))
	for i, o := range operands {
		describe[i] = name(o)
	}
	switch len(args) {
	case 1:
		if c.FunctionName() == operators.LogicalNot {
			return func(p, a int) Value {
				v := args[0](p, a).need(describe[0])
				if v.kind == boolean {
					return boolValue(!v.truth)
				}
				return v
			}, true
		}
	case 2:
		if eval, ok := b.binary(c.FunctionName(), args[0], args[1], describe, operands[1]); ok {
			return eval, true
		}
	case 3:
		if c.FunctionName() == operators.Conditional {
			return func(p, a int) Value {
				v := args[0](p, a).need(describe[0])
				switch {
				case v.kind != boolean:
					return v
				case v.truth:
					return args[1](p, a)
				}
				return args[2](p, a)
			}, true
		}
	}
	return b.ownFunction(c.FunctionName(), args, describe, operands)
}

func name(x ast.Expr) string {
	if x.Kind() == ast.SelectKind && x.AsSelect().Operand().Kind() == ast.IdentKind {
		return x.AsSelect().Operand().AsIdent() + "." + x.AsSelect().FieldName()
	}
	return "a value"
}

func (b binder) binary(op string, x, y evaluator, describe []string, right ast.Expr) (evaluator, bool) {
	switch op {
	case operators.Equals:
		return func(p, a int) Value {
			return both(x(p, a), y(p, a), func(l, r Value) Value { return boolValue(equal(l, r)) })
		}, true
	case operators.NotEquals:
		return func(p, a int) Value {
			return both(x(p, a), y(p, a), func(l, r Value) Value { return boolValue(!equal(l, r)) })
		}, true
	case operators.LogicalAnd, operators.LogicalOr:
		deciding := op == operators.LogicalOr // the value of either side that settles the outcome
		return func(p, a int) Value {
			l := x(p, a).need(describe[0])
			if l.kind == boolean && l.truth == deciding {
				return l
			}
			r := y(p, a).need(describe[1])
			if r.kind == boolean && r.truth == deciding || l.kind == boolean {
				return r
			}
			return l
		}, true
	case operators.In:
		return func(p, a int) Value { return both(x(p, a), y(p, a), contained) }, true
	case "matches":
		return b.matcher(x, describe, right)
	}
	f, ok := textual[op]
	if !ok {
		return nil, false
	}
	return func(p, a int) Value {
		l, r := x(p, a).need(describe[0]), y(p, a).need(describe[1])
		return both(l, r, f)
	}, true
}

// both applies f unless a side is a fault already.
func both(l, r Value, f func(l, r Value) Value) Value {
	if l.kind == fault {
		return l
	}
	if r.kind == fault {
		return r
	}
	return f(l, r)
}

func contained(l, r Value) Value {
	if l.kind == text && r.kind == list {
		for _, item := range r.items {
			if item == l.str {
				return boolValue(true)
			}
		}
	}
	return boolValue(false)
}

func ordered(holds func(c int) bool) func(l, r Value) Value {
	return func(l, r Value) Value {
		c, ok := compare(l, r)
		if !ok {
			return wrongType("comparison")
		}
		return boolValue(holds(c))
	}
}

func onTexts(f func(l, r string) bool) func(l, r Value) Value {
	return func(l, r Value) Value {
		if l.kind != text || r.kind != text {
			return wrongType("text function")
		}
		return boolValue(f(l.str, r.str))
	}
}

var textual = map[string]func(l, r Value) Value{
	operators.Add: func(l, r Value) Value {
		switch {
		case l.kind == text && r.kind == text:
			return made(len(l.str)+len(r.str), func() string { return l.str + r.str })
		case l.kind == list && r.kind == list:
			if err := budget.Values.Over(int64(len(l.items)+len(r.items)), "a list that the expression makes"); err != nil {
				return faultValue(err.Error())
			}
			return listValue(append(append([]string{}, l.items...), r.items...))
		case l.kind == number && r.kind == number:
			return numberValue(l.num + r.num)
		}
		return wrongType("+")
	},
	operators.Less:          ordered(func(c int) bool { return c < 0 }),
	operators.LessEquals:    ordered(func(c int) bool { return c <= 0 }),
	operators.Greater:       ordered(func(c int) bool { return c > 0 }),
	operators.GreaterEquals: ordered(func(c int) bool { return c >= 0 }),
	"startsWith":            onTexts(strings.HasPrefix),
	"endsWith":              onTexts(strings.HasSuffix),
	"contains":              onTexts(strings.Contains),
}

func (b binder) matcher(x evaluator, describe []string, right ast.Expr) (evaluator, bool) {
	pattern, ok := literal(right)
	if !ok {
		return nil, false
	}
	re, err := b.compiler.pattern(pattern)
	if err != nil {
		return func(int, int) Value { return faultValue("matches() can't read the pattern " + pattern) }, true
	}
	return func(p, a int) Value {
		v := x(p, a).need(describe[0])
		if v.kind != text {
			return v
		}
		return boolValue(re.MatchString(v.str))
	}, true
}

func (b binder) ownFunction(name string, args []evaluator, describe []string, operands []ast.Expr) (evaluator, bool) {
	for _, f := range functions {
		if f.name != name || f.arity != len(args) {
			continue
		}
		if name == "rewrite" && operands[1].Kind() == ast.LiteralKind {
			return b.rewriter(args, describe, operands[1].AsLiteral())
		}
		return func(p, a int) Value {
			var words [3]string
			for i, arg := range args {
				v := arg(p, a).need(describe[i])
				if v.kind != text {
					if v.kind == fault {
						return v
					}
					return wrongType(f.name)
				}
				words[i] = v.str
			}
			return f.call(b.compiler, words[:len(args)])
		}, true
	}
	return nil, false
}

// rewriter compiles the pattern once.
func (b binder) rewriter(args []evaluator, describe []string, pattern ref.Val) (evaluator, bool) {
	word, ok := pattern.(types.String)
	if !ok {
		return nil, false
	}
	re, err := b.compiler.pattern(string(word))
	if err != nil {
		return nil, false
	}
	return func(p, a int) Value {
		return both(args[0](p, a).need(describe[0]), args[2](p, a).need(describe[2]), func(s, to Value) Value {
			if s.kind != text || to.kind != text {
				return wrongType("rewrite")
			}
			return rewritten(re, s.str, to.str)
		})
	}, true
}
