package charter

import (
	"slices"
	"strconv"

	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/parser"

	"twinning/internal/core/record"
)

// Step is a part of an expression with what it comes to for one person and account.
type Step struct {
	Source string `json:"source"`
	Value  string `json:"value"`
	Fault  string `json:"fault,omitempty"` // why it comes to nothing
}

// Steps takes an expression apart, innermost first: what is read, and what every function and
// operator makes of it. The last step is the whole.
func (e *Expr) Steps(s Scope, person, account int) (steps []Step) {
	b := binder{s, e.compiler}
	celast.PostOrderVisit(e.root, celast.NewExprVisitor(func(x celast.Expr) {
		if x.ID() == e.root.ID() || x.Kind() != celast.SelectKind && x.Kind() != celast.CallKind {
			return
		}
		source, err := parser.Unparse(x, e.info)
		if err != nil || slices.ContainsFunc(steps, func(o Step) bool { return o.Source == source }) {
			return
		}
		if eval, common := b.build(x); common {
			steps = append(steps, step(source, eval(person, account)))
		}
	}))
	return append(steps, step(e.Source, e.Bind(s).Eval(person, account)))
}

func step(source string, v Value) Step {
	s := Step{source, record.PlainList(v.Cell()), v.Fault()}
	if v.kind == number {
		s.Value = strconv.FormatInt(v.num, 10)
	}
	return s
}
