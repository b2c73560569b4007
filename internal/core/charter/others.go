package charter

import (
	"fmt"
	"reflect"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"twinning/internal/core/record"
)

// accountOf(id) is the account of another person of the lane: their manager's, say;
// accountIn('lane') that of the same person in another lane. Who is whose twin is known once
// everybody is paired, so that nothing which pairs or scopes people may ask for them.

const (
	accountOf = "accountOf"
	accountIn = "accountIn"
	theLane   = "@lane" // no charter can write this name
)

// Elsewhere are the accounts of another lane.
type Elsewhere struct {
	Accounts *record.Roster
	Of       func(person string) int  // row of a person's account there, by a bond, -1 for none
	Has      func(person string) bool // they have one there, by a bond or by a key
}

// others declares what looks at accounts other than the one at hand.
func others() []cel.EnvOption {
	lane := cel.ObjectType("lane")
	options := []cel.EnvOption{cel.Variable(theLane, lane)}
	for name, find := range map[string]func(*laneObject, string) (*row, string){accountOf: (*laneObject).accountOf, accountIn: (*laneObject).accountIn} {
		options = append(options,
			cel.Macros(cel.GlobalMacro(name, 1, func(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
				return f.NewMemberCall(name, f.NewIdent(theLane), args...), nil
			})),
			cel.Function(name, cel.MemberOverload("lane_"+name, []*cel.Type{lane, cel.StringType}, cel.ObjectType("account"),
				cel.BinaryBinding(func(lane, arg ref.Val) ref.Val {
					l, ok := lane.(*laneObject)
					text, isText := arg.(types.String)
					if !ok || !isText {
						return types.MaybeNoSuchOverloadErr(arg)
					}
					account, fault := find(l, string(text))
					if fault != "" {
						return types.NewErr("%s", fault)
					}
					return account
				}))))
	}
	return options
}

func (l *laneObject) accountOf(person string) (*row, string) {
	return &row{l.Accounts, l.Scope.accountOf(person), "account", l.open}, ""
}

func (l *laneObject) accountIn(lane string) (*row, string) {
	there, known := l.Lanes[lane]
	if !known {
		return nil, unknownLane(lane)
	}
	return &row{there.Accounts, l.elsewhere(there, l.person), "account", l.open}, ""
}

func unknownLane(lane string) string {
	return fmt.Sprintf("accountIn() asks for lane %s, whose accounts are not known here", lane)
}

// accountOf is the row of a person's account, -1 when they have none or it is not known.
func (s Scope) accountOf(person string) int {
	if s.AccountOf == nil || person == "" {
		return -1
	}
	return s.AccountOf(person)
}

// elsewhere is the row of somebody's account in another lane.
func (s Scope) elsewhere(there Elsewhere, person int) int {
	if person < 0 || there.Of == nil {
		return -1
	}
	return there.Of(s.People.ID(person))
}

// asksOthers is the argument of accountOf or accountIn, where the expression is a call of it.
func asksOthers(x ast.Expr) (function string, arg ast.Expr, ok bool) {
	if x.Kind() != ast.CallKind || len(x.AsCall().Args()) != 1 || x.AsCall().FunctionName() != accountOf && x.AsCall().FunctionName() != accountIn {
		return "", nil, false
	}
	return x.AsCall().FunctionName(), x.AsCall().Args()[0], true
}

// otherField reads an attribute of another account by column.
func (b binder) otherField(s ast.SelectExpr) (evaluator, bool) {
	function, arg, ok := asksOthers(s.Operand())
	if !ok {
		return nil, false
	}
	held := func(v Value) Value {
		if s.IsTestOnly() {
			return present(v)
		}
		return v
	}
	if function == accountIn {
		lane, _ := literal(arg) // compiling has seen to it
		there, known := b.Lanes[lane]
		if !known {
			return func(int, int) Value { return faultValue(unknownLane(lane)) }, true
		}
		read := columnReader(there.Accounts, "account", s.FieldName())
		return func(p, _ int) Value { return held(read(b.elsewhere(there, p))) }, true
	}
	id, ok := b.build(arg)
	if !ok {
		return nil, false
	}
	read, what := columnReader(b.Accounts, "account", s.FieldName()), name(arg)
	return func(p, a int) Value {
		v := id(p, a).need(what)
		if v.kind != text {
			return v
		}
		return held(read(b.accountOf(v.str)))
	}, true
}

// laneObject stands for the lane in CEL.
type laneObject struct {
	Scope
	person int
	open   *string // is told which attribute is undecided
}

func (l *laneObject) ConvertToNative(t reflect.Type) (any, error) {
	return nil, fmt.Errorf("a lane can't become %v", t)
}
func (l *laneObject) ConvertToType(ref.Type) ref.Val {
	return types.NewErr("a lane can't be converted")
}
func (l *laneObject) Equal(other ref.Val) ref.Val { return types.Bool(other == ref.Val(l)) }
func (l *laneObject) Type() ref.Type              { return types.NewObjectType("lane") }
func (l *laneObject) Value() any                  { return l }
