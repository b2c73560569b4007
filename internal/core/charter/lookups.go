package charter

import (
	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/parser"
)

// Lookup is where an expression looks a value up in a table.
type Lookup struct {
	Table  string
	Source string                           // the call as it stands
	Key    func(person, account int) string // what is looked up, "" when there is nothing to
}

// Lookups finds what an expression looks up, as far as it is of the common kind.
func (e *Expr) Lookups(s Scope) (list []Lookup) {
	b := binder{s, e.compiler}
	celast.PostOrderVisit(e.root, celast.NewExprVisitor(func(x celast.Expr) {
		if x.Kind() != celast.CallKind || x.AsCall().FunctionName() != "lookup" || len(x.AsCall().Args()) != 2 {
			return
		}
		table, is := literal(x.AsCall().Args()[0])
		source, err := parser.Unparse(x, e.info)
		if !is || err != nil {
			return
		}
		if key, common := b.build(x.AsCall().Args()[1]); common {
			list = append(list, Lookup{table, source, func(p, a int) string { return key(p, a).Cell() }})
		}
	}))
	return list
}

// InTable reports whether a table has an entry for a key.
func (c *Charter) InTable(table, key string) bool {
	_, has := c.tables[table][key]
	return has
}
