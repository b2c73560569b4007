package charter

import (
	"slices"
	"strings"

	"twinning/internal/core/record"
)

type valueKind uint8

const (
	null valueKind = iota
	text
	boolean
	number
	list
	fault
)

// Value is what an expression gives for one pair of records.
type Value struct {
	kind  valueKind
	str   string // text; for a fault, what is wrong
	truth bool
	num   int64
	items []string
	open  string // of a fault: the attribute by which it is undecided, see Undecided
	some  bool   // of what is undecided: there are values
}

// Blank reports whether there is no value: missing, or not computable because
// something it needs is missing.
func (v Value) Blank() bool {
	return v.kind == null || v.kind == fault || v.kind == text && v.str == "" || v.kind == list && len(v.items) == 0
}

// Fault says why the value could not be computed, "" when it could.
func (v Value) Fault() string {
	if v.kind == fault {
		return v.str
	}
	return ""
}

// Undecided names the attribute, such as person.title, that the value can't be told for: the
// roster has no column for it, or holds several values where one is wanted. What is undecided
// is not blank, and nothing may follow from it; "" when the value is known, or known to be blank.
func (v Value) Undecided() string {
	if v.kind == fault {
		return v.open
	}
	return ""
}

// Outcome is what the value comes to, in one text: two values of which something was concluded
// are the same when their outcomes are.
func (v Value) Outcome() string {
	if v.kind == fault {
		return "unknown: " + v.str
	}
	return v.Cell()
}

// Cell is the value as a roster's cell: one text, or a list joined.
func (v Value) Cell() string {
	switch v.kind {
	case text:
		return v.str
	case boolean:
		if v.truth {
			return "true"
		}
		return "false"
	case list:
		return record.JoinList(v.items)
	}
	return ""
}

// True reports a condition that holds; known is false when it can't be told.
func (v Value) True() (holds, known bool) {
	return v.kind == boolean && v.truth, v.kind == boolean
}

func textValue(s string) Value    { return Value{kind: text, str: s} }
func boolValue(b bool) Value      { return Value{kind: boolean, truth: b} }
func numberValue(n int64) Value   { return Value{kind: number, num: n} }
func faultValue(why string) Value { return Value{kind: fault, str: why} }
func listValue(l []string) Value  { return Value{kind: list, items: l} }
func missing(what string) Value   { return faultValue(what + " is missing") }
func wrongType(what string) Value { return faultValue(what + ": no such combination of values") }

// undecided is a value that can't be told for an attribute.
func undecided(attribute, why string) Value {
	return Value{kind: fault, str: attribute + " " + why, open: attribute}
}

func (v Value) need(w string) Value { // v as a fault when it is null
	if v.kind == null {
		return missing(w)
	}
	return v
}

// equal follows CEL: values of different kinds are different, not an error.
func equal(a, b Value) bool {
	if a.kind != b.kind {
		return false
	}
	switch a.kind {
	case text:
		return a.str == b.str
	case boolean:
		return a.truth == b.truth
	case number:
		return a.num == b.num
	case list:
		return slices.Equal(a.items, b.items)
	}
	return true
}

// compare orders two texts or two numbers.
func compare(a, b Value) (int, bool) {
	switch {
	case a.kind == text && b.kind == text:
		return strings.Compare(a.str, b.str), true
	case a.kind == number && b.kind == number:
		return int(min(max(a.num-b.num, -1), 1)), true
	}
	return 0, false
}
