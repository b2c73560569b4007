package charter

import (
	"fmt"
	"reflect"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// accountOf(id) is the account of another person of the lane: their manager's, say. Who is
// whose twin is known once everybody is paired, so that nothing which pairs or scopes people
// may ask for it.

const (
	accountOf = "accountOf"
	theLane   = "@lane" // no charter can write this name
)

// others declares what looks at other people's accounts.
func others() []cel.EnvOption {
	lane := cel.ObjectType("lane")
	return []cel.EnvOption{
		cel.Variable(theLane, lane),
		cel.Macros(cel.GlobalMacro(accountOf, 1, func(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
			return f.NewMemberCall(accountOf, f.NewIdent(theLane), args...), nil
		})),
		cel.Function(accountOf, cel.MemberOverload("lane_account_of", []*cel.Type{lane, cel.StringType}, cel.ObjectType("account"),
			cel.BinaryBinding(func(lane, id ref.Val) ref.Val {
				l, ok := lane.(*laneObject)
				person, isText := id.(types.String)
				if !ok || !isText {
					return types.MaybeNoSuchOverloadErr(id)
				}
				return &row{l.Accounts, l.accountOf(string(person)), "account"}
			}))),
	}
}

// accountOf is the row of a person's account, -1 when they have none or it is not known.
func (s Scope) accountOf(person string) int {
	if s.AccountOf == nil || person == "" {
		return -1
	}
	return s.AccountOf(person)
}

// asksOthers is the argument of accountOf, where the expression is a call of it.
func asksOthers(x ast.Expr) (id ast.Expr, ok bool) {
	if x.Kind() != ast.CallKind || x.AsCall().FunctionName() != accountOf || len(x.AsCall().Args()) != 1 {
		return nil, false
	}
	return x.AsCall().Args()[0], true
}

// otherField reads an attribute of another person's account by column.
func (b binder) otherField(s ast.SelectExpr) (evaluator, bool) {
	arg, ok := asksOthers(s.Operand())
	if !ok {
		return nil, false
	}
	id, ok := b.build(arg)
	if !ok {
		return nil, false
	}
	read, what := columnReader(b.Accounts, s.FieldName()), name(arg)
	return func(p, a int) Value {
		v := id(p, a).need(what)
		if v.kind != text {
			return v
		}
		value := read(b.accountOf(v.str))
		if s.IsTestOnly() {
			return boolValue(!value.Blank())
		}
		return value
	}, true
}

// laneObject stands for the lane in CEL.
type laneObject struct{ Scope }

func (l *laneObject) ConvertToNative(t reflect.Type) (any, error) {
	return nil, fmt.Errorf("a lane can't become %v", t)
}
func (l *laneObject) ConvertToType(ref.Type) ref.Val {
	return types.NewErr("a lane can't be converted")
}
func (l *laneObject) Equal(other ref.Val) ref.Val { return types.Bool(other == ref.Val(l)) }
func (l *laneObject) Type() ref.Type              { return types.NewObjectType("lane") }
func (l *laneObject) Value() any                  { return l }
