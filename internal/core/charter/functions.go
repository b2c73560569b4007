package charter

import (
	"slices"
	"strings"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"twinning/internal/core/calendar"
	"twinning/internal/core/record"
)

// function is one of the charter's own: texts in, one value out. The same body
// serves CEL and the column functions.
type function struct {
	name   string
	arity  int
	result *cel.Type
	call   func(c *compiler, args []string) Value
}

func textFunction(name string, f func(string) string) function {
	return function{name, 1, cel.StringType, func(_ *compiler, a []string) Value { return textValue(f(a[0])) }}
}

var functions = []function{
	textFunction("fold", record.Fold),
	textFunction("slug", record.Slug),
	textFunction("initial", initial),
	textFunction("digits", digits),
	textFunction("local", func(s string) string { local, _ := cutAddress(s); return local }),
	textFunction("domain", func(s string) string { _, domain := cutAddress(s); return domain }),
	textFunction("lower", strings.ToLower),
	textFunction("upper", strings.ToUpper),
	textFunction("trim", strings.TrimSpace),
	{"before", 2, cel.StringType, func(_ *compiler, a []string) Value { s, _, _ := strings.Cut(a[0], a[1]); return textValue(s) }},
	{"after", 2, cel.StringType, func(_ *compiler, a []string) Value { _, s, _ := strings.Cut(a[0], a[1]); return textValue(s) }},
	{"same", 2, cel.BoolType, func(_ *compiler, a []string) Value {
		return boolValue(record.Normal(record.Text, a[0]) == record.Normal(record.Text, a[1]))
	}},
	{"days", 2, cel.IntType, func(_ *compiler, a []string) Value {
		days, ok := calendar.Between(a[0], a[1])
		if !ok {
			return faultValue("days() needs two dates of the form YYYY-MM-DD")
		}
		return numberValue(int64(days))
	}},
	{"rewrite", 3, cel.StringType, func(c *compiler, a []string) Value {
		re, err := c.pattern(a[1])
		if err != nil {
			return faultValue("rewrite() can't read the pattern " + a[1])
		}
		return rewritten(re, a[0], a[2])
	}},
	{"lookup", 2, cel.NullableType(cel.StringType), func(c *compiler, a []string) Value {
		table, ok := c.tables[a[0]]
		if !ok {
			return faultValue("lookup() names the table " + a[0] + ", which the charter does not have under tables:")
		}
		if v, ok := table[a[1]]; ok {
			return textValue(v)
		}
		return Value{}
	}},
}

func initial(s string) string {
	r, size := utf8.DecodeRuneInString(strings.TrimSpace(s))
	if size == 0 {
		return ""
	}
	return string(r)
}

func digits(s string) string {
	return strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, s)
}

func cutAddress(s string) (local, domain string) {
	at := strings.LastIndexByte(s, '@')
	if at < 0 {
		return s, ""
	}
	return s[:at], s[at+1:]
}

// declare gives the functions to CEL.
func (c *compiler) declare() []cel.EnvOption {
	opts := make([]cel.EnvOption, len(functions))
	for i, f := range functions {
		params := slices.Repeat([]*cel.Type{cel.StringType}, f.arity)
		binding := func(args ...ref.Val) ref.Val {
			words := make([]string, len(args))
			for i, a := range args {
				s, ok := a.(types.String)
				if !ok {
					return types.MaybeNoSuchOverloadErr(a)
				}
				words[i] = string(s)
			}
			return toCEL(f.call(c, words))
		}
		opts[i] = cel.Function(f.name, cel.Overload(f.name+"_text", params, f.result, cel.FunctionBinding(binding)))
	}
	return opts
}

func toCEL(v Value) ref.Val {
	switch v.kind {
	case null:
		return types.NullValue
	case text:
		return types.String(v.str)
	case boolean:
		return types.Bool(v.truth)
	case number:
		return types.Int(v.num)
	case list:
		return types.DefaultTypeAdapter.NativeToValue(v.items)
	}
	return types.NewErr("%s", v.str)
}

func fromCEL(v ref.Val) Value {
	switch x := v.(type) {
	case types.Null:
		return Value{}
	case types.String:
		return textValue(string(x))
	case types.Bool:
		return boolValue(bool(x))
	case types.Int:
		return numberValue(int64(x))
	case *types.Err:
		return faultValue(x.String())
	}
	if native, err := v.ConvertToNative(stringSlice); err == nil {
		return listValue(native.([]string)) // converted to just this type
	}
	return faultValue("gives a value of no use here")
}
