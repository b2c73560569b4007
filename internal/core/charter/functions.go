package charter

import (
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"github.com/nyaruka/phonenumbers"

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
	told   Function
}

// Function tells of one; Example gives Gives, which a test holds it to.
type Function struct{ Name, Arguments, What, Example, Gives string }

// Functions lists the charter's own functions.
func Functions() []Function {
	list := make([]Function, len(functions))
	for i, f := range functions {
		list[i] = f.told
		list[i].Name = f.name
	}
	return list
}

func textFunction(name string, f func(string) string, told Function) function {
	told.Arguments = "text"
	return function{name, 1, cel.StringType, func(_ *compiler, a []string) Value { return textValue(f(a[0])) }, told}
}

var functions = []function{
	textFunction("fold", record.Fold, Function{What: "without accents, capitals and doubled spaces, for comparing", Example: `fold('Łucja  ÓSÉ')`, Gives: "lucja ose"}),
	textFunction("slug", record.Slug, Function{What: "as a login may be: small letters without accents, digits, dots, hyphens, underscores", Example: `slug("Ó Sé-O'Hara 2")`, Gives: "ose-ohara2"}),
	{"slug", 2, cel.StringType, func(_ *compiler, a []string) Value {
		spelt, known := record.Spelt(a[0], a[1])
		if !known {
			return faultValue(fmt.Sprintf("slug() knows no spelling of %q; expected one of %s", a[1], strings.Join(record.Spellings(), ", ")))
		}
		return textValue(record.Slug(spelt))
	}, Function{Arguments: "text, language", What: "the same, with letters spelt as a language spells them out (" + strings.Join(record.Spellings(), ", ") + ")", Example: `slug('Krüger', 'de')`, Gives: "krueger"}},
	textFunction("initial", initial, Function{What: "the first letter", Example: `initial('Łucja')`, Gives: "Ł"}),
	textFunction("digits", record.Digits, Function{What: "the digits alone", Example: `digits('+56 (55) 211-1111')`, Gives: "56552111111"}),
	textFunction("local", func(s string) string { local, _ := cutAddress(s); return local }, Function{What: "what stands before the @ of an address", Example: `local('ana.soto@larkspur.example')`, Gives: "ana.soto"}),
	textFunction("domain", func(s string) string { _, domain := cutAddress(s); return domain }, Function{What: "what stands behind the @", Example: `domain('ana.soto@larkspur.example')`, Gives: "larkspur.example"}),
	textFunction("rdn", rdn, Function{What: "the name of a directory entry by itself: the value that its DN begins with", Example: `rdn('cn=Night\\, North,ou=groups,dc=larkspur,dc=example')`, Gives: "Night, North"}),
	textFunction("lower", strings.ToLower, Function{What: "in small letters", Example: `lower('Ana SOTO')`, Gives: "ana soto"}),
	textFunction("upper", strings.ToUpper, Function{What: "in capitals", Example: `upper('cl')`, Gives: "CL"}),
	textFunction("trim", strings.TrimSpace, Function{What: "without white space around it", Example: `trim('  Ana ')`, Gives: "Ana"}),
	{"e164", 2, cel.StringType, func(_ *compiler, a []string) Value { return dialled(a[0], a[1]) }, Function{Arguments: "text, country", What: "a telephone number as it is dialled from anywhere (E.164); the country, as in ISO 3166, is that of numbers that name none", Example: `e164('(55) 211-1111', 'CL')`, Gives: "+56552111111"}},
	{"before", 2, cel.StringType, func(_ *compiler, a []string) Value { s, _, _ := strings.Cut(a[0], a[1]); return textValue(s) }, Function{Arguments: "text, separator", What: "what stands before the first separator, all of it when there is none", Example: `before('ana.soto', '.')`, Gives: "ana"}},
	{"after", 2, cel.StringType, func(_ *compiler, a []string) Value { _, s, _ := strings.Cut(a[0], a[1]); return textValue(s) }, Function{Arguments: "text, separator", What: "what stands behind the first separator, nothing when there is none", Example: `after('ana.soto', '.')`, Gives: "soto"}},
	{"same", 2, cel.BoolType, func(_ *compiler, a []string) Value {
		return boolValue(record.Normal(record.Text, a[0]) == record.Normal(record.Text, a[1]))
	}, Function{Arguments: "text, text", What: "whether two texts are one, but for accents of writing, capitals and white space", Example: `same('ANA  Soto', 'ana soto')`, Gives: "true"}},
	{"days", 2, cel.IntType, func(_ *compiler, a []string) Value {
		days, ok := calendar.Between(a[0], a[1])
		if !ok {
			return faultValue("days() needs two dates of the form YYYY-MM-DD")
		}
		return numberValue(int64(days))
	}, Function{Arguments: "day, day", What: "days from the first to the second", Example: `days('2026-11-25', '2026-12-01')`, Gives: "6"}},
	{"rewrite", 3, cel.StringType, func(c *compiler, a []string) Value {
		re, err := c.pattern(a[1])
		if err != nil {
			return faultValue("rewrite() can't read the pattern " + a[1])
		}
		return rewritten(re, a[0], a[2])
	}, Function{Arguments: "text, pattern, replacement", What: "with every part that the pattern (RE2) matches replaced", Example: `rewrite('Ana M. Soto', '[A-Z]\\. ', '')`, Gives: "Ana Soto"}},
	{"lookup", 2, cel.NullableType(cel.StringType), func(c *compiler, a []string) Value {
		table, ok := c.tables[a[0]]
		if !ok {
			return faultValue("lookup() names the table " + a[0] + ", which the charter does not have under tables:")
		}
		if v, ok := table[a[1]]; ok {
			return textValue(v)
		}
		return Value{}
	}, Function{Arguments: "table, key", What: "the table's value for a key, null when it has none", Example: `lookup('sites', 'AND')`, Gives: "Andes"}},
}

// countries whose numbering plans are known.
func countries() []string { return slices.Sorted(maps.Keys(phonenumbers.GetSupportedRegions())) }

// dialled reads a telephone number by the numbering plan of its country.
func dialled(number, country string) Value {
	if !phonenumbers.GetSupportedRegions()[country] {
		return faultValue(fmt.Sprintf("e164() knows no country %q; expected two capital letters such as CL", country))
	}
	n, err := phonenumbers.Parse(number, country)
	if err != nil || !phonenumbers.IsValidNumber(n) {
		return faultValue(fmt.Sprintf("e164() can't read %q as a number of %s", number, country))
	}
	return textValue(phonenumbers.Format(n, phonenumbers.E164))
}

// rdn is the value of the first part of a DN (RFC 4514).
func rdn(dn string) string {
	_, rest, named := strings.Cut(dn, "=")
	if !named {
		return ""
	}
	var b strings.Builder
	for i := 0; i < len(rest) && rest[i] != ',' && rest[i] != '+'; i++ {
		if rest[i] != '\\' || i+1 == len(rest) {
			b.WriteByte(rest[i])
			continue
		}
		if i+2 < len(rest) {
			if pair, err := hex.DecodeString(rest[i+1 : i+3]); err == nil {
				b.Write(pair)
				i += 2
				continue
			}
		}
		i++
		b.WriteByte(rest[i])
	}
	return strings.ToValidUTF8(strings.TrimSpace(b.String()), "\uFFFD")
}

func initial(s string) string {
	r, size := utf8.DecodeRuneInString(strings.TrimSpace(s))
	if size == 0 {
		return ""
	}
	return string(r)
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
		opts[i] = cel.Function(f.name, cel.Overload(fmt.Sprintf("%s_%d_texts", f.name, f.arity), params, f.result, cel.FunctionBinding(binding)))
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
