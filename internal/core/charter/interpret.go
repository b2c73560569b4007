package charter

import (
	"fmt"
	"reflect"
	"strings"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"twinning/internal/core/budget"
	"twinning/internal/core/record"
)

// interpreted evaluates the expression by CEL itself: one to six microseconds
// an evaluation, for whatever the column functions don't cover.
func (e *Expr) interpreted(s Scope) evaluator {
	return func(person, account int) Value {
		if e.compiler.stopped.Load() {
			panic(ErrStopped)
		}
		open := "" // the last attribute read that is undecided
		out, _, err := e.program.Eval(map[string]any{
			"person":  &row{s.People, person, "person", &open},
			"account": &row{s.Accounts, account, "account", &open},
			"today":   s.Today,
			theLane:   &laneObject{s, person, &open},
		})
		if err != nil {
			if strings.Contains(err.Error(), "cost limit exceeded") {
				err = budget.Cost.Over(1<<62, "the work of this expression for one record")
			}
			return Value{kind: fault, str: err.Error(), open: open}
		}
		v := fromCEL(out)
		if v.kind == fault {
			v.open = open
		}
		if err := budget.Values.Over(int64(len(v.items)), "a list that the expression makes"); err != nil {
			return faultValue(err.Error())
		}
		if v.kind == text {
			return made(len(v.str), func() string { return v.str })
		}
		return v
	}
}

// row is one record as a CEL object.
type row struct {
	roster *record.Roster
	at     int
	side   string
	open   *string // is told which attribute is undecided
}

// read is the value of an attribute.
func (r *row) read(name string) Value {
	v := columnReader(r.roster, r.side, name)(r.at)
	if v.open != "" {
		*r.open = v.open
	}
	return v
}

func (r *row) Get(index ref.Val) ref.Val {
	name, ok := index.(types.String)
	if !ok {
		return types.MaybeNoSuchOverloadErr(index)
	}
	return toCEL(r.read(string(name)))
}

func (r *row) IsSet(field ref.Val) ref.Val {
	name, ok := field.(types.String)
	if !ok {
		return types.MaybeNoSuchOverloadErr(field)
	}
	return toCEL(present(r.read(string(name))))
}

func (r *row) ConvertToNative(t reflect.Type) (any, error) {
	return nil, fmt.Errorf("a %s can't become %v", r.side, t)
}
func (r *row) ConvertToType(ref.Type) ref.Val { return types.NewErr("a %s can't be converted", r.side) }
func (r *row) Equal(other ref.Val) ref.Val    { return types.Bool(other == ref.Val(r)) }
func (r *row) Type() ref.Type                 { return types.NewObjectType(r.side) }
func (r *row) Value() any                     { return r }
