package charter

import (
	"regexp"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"twinning/internal/core/budget"
)

// made is a text of so many bytes that an expression makes; it is not even put
// together when it would be too long.
func made(size int, text func() string) Value {
	if err := budget.Made.Over(int64(size), "a text that the expression makes"); err != nil {
		return faultValue(err.Error())
	}
	return textValue(text())
}

// rewritten replaces what a pattern matches, as far as the limit lets it.
func rewritten(re *regexp.Regexp, s, to string) Value {
	var out []byte
	last, most := 0, budget.Made.Int()
	for _, at := range re.FindAllStringSubmatchIndex(s, -1) {
		out = append(out, s[last:at[0]]...)
		out = re.ExpandString(out, to, s, at)
		last = at[1]
		if len(out) > most {
			break
		}
	}
	return made(len(out)+len(s)-last, func() string { return string(append(out, s[last:]...)) })
}

// bounded are the text functions of CEL's extension that can make more than they
// are given; these say no before they do.
func bounded() []cel.EnvOption {
	replace := func(args ...ref.Val) ref.Val {
		s, ok1 := args[0].(types.String)
		from, ok2 := args[1].(types.String)
		to, ok3 := args[2].(types.String)
		n := types.Int(-1)
		ok4 := true
		if len(args) == 4 {
			n, ok4 = args[3].(types.Int)
		}
		if !ok1 || !ok2 || !ok3 || !ok4 {
			return types.MaybeNoSuchOverloadErr(args[0])
		}
		times := strings.Count(string(s), string(from))
		if n >= 0 {
			times = min(times, int(n))
		}
		return toCEL(made(len(s)+times*(len(to)-len(from)), func() string { return strings.Replace(string(s), string(from), string(to), times) }))
	}
	join := func(args ...ref.Val) ref.Val {
		list, ok := args[0].(traits.Lister)
		if !ok {
			return types.MaybeNoSuchOverloadErr(args[0])
		}
		between := ""
		if len(args) == 2 {
			b, ok := args[1].(types.String)
			if !ok {
				return types.MaybeNoSuchOverloadErr(args[1])
			}
			between = string(b)
		}
		var parts []string
		size := 0
		for it := list.Iterator(); it.HasNext() == types.True; {
			s, ok := it.Next().(types.String)
			if !ok {
				return types.NewErr("join() needs a list of texts")
			}
			if size += len(s) + len(between); size > budget.Made.Int()+len(between) {
				break
			}
			parts = append(parts, string(s))
		}
		return toCEL(made(max(size-len(between), 0), func() string { return strings.Join(parts, between) }))
	}
	texts, text, whole := cel.ListType(cel.StringType), cel.StringType, cel.IntType
	return []cel.EnvOption{
		cel.Function("replace",
			cel.MemberOverload("string_replace_string_string", []*cel.Type{text, text, text}, text, cel.FunctionBinding(replace)),
			cel.MemberOverload("string_replace_string_string_int", []*cel.Type{text, text, text, whole}, text, cel.FunctionBinding(replace))),
		cel.Function("join",
			cel.MemberOverload("list_join", []*cel.Type{texts}, text, cel.UnaryBinding(func(v ref.Val) ref.Val { return join(v) })),
			cel.MemberOverload("list_join_string", []*cel.Type{texts, text}, text, cel.BinaryBinding(func(v, by ref.Val) ref.Val { return join(v, by) }))),
	}
}
