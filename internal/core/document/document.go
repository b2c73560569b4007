// Package document reads the YAML documents people write for Twinning
// (charters, shapes) so that every mistake is told at once, each with its line
// and column, what was expected and the nearest known name.
package document

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// Problem is one mistake. Line and Column are 1-based.
type Problem struct {
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Path    string `json:"path"`
	Message string `json:"message"`
}

func (p Problem) String() string {
	where := fmt.Sprintf("line %d, column %d", p.Line, p.Column)
	if p.Path != "" {
		where += " (" + p.Path + ")"
	}
	return where + ": " + p.Message
}

// Problems is a sorted list of mistakes, usable as an error.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.String()
	}
	return strings.Join(lines, "\n")
}

// Document collects the problems of one source.
type Document struct{ problems Problems }

// Node is one value of the document with its place. The zero Node is absent.
type Node struct {
	doc  *Document
	node ast.Node
	path string
}

// Parse reads one YAML document. A syntax error is the only problem then told.
func Parse(src []byte) (*Document, Node) {
	doc := &Document{}
	file, err := parser.ParseBytes(src, 0)
	if err != nil {
		doc.syntax(err)
		return doc, Node{}
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		doc.problems = append(doc.problems, Problem{Line: 1, Column: 1, Message: "the document is empty"})
		return doc, Node{}
	}
	return doc, Node{doc: doc, node: file.Docs[0].Body}
}

func (d *Document) syntax(err error) {
	p := Problem{Line: 1, Column: 1, Message: "this is not YAML"}
	type tokened interface{ GetToken() *token.Token }
	type messaged interface{ GetMessage() string }
	if t, ok := err.(tokened); ok && t.GetToken() != nil {
		p.Line, p.Column = t.GetToken().Position.Line, t.GetToken().Position.Column
	}
	if m, ok := err.(messaged); ok {
		p.Message = m.GetMessage()
	}
	p.Message += "; if an expression holds ': ' or ' #', or starts with '!', '{', '[', '*' or '&', put the whole expression in double quotes"
	d.problems = append(d.problems, p)
}

// Err returns all problems sorted by place, or nil.
func (d *Document) Err() error {
	if len(d.problems) == 0 {
		return nil
	}
	slices.SortStableFunc(d.problems, func(a, b Problem) int {
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return a.Column - b.Column
	})
	return d.problems
}

// Present reports whether the node was written.
func (n Node) Present() bool { return n.node != nil }

// Place returns the node's line and column.
func (n Node) Place() (line, column int) {
	if n.node == nil || n.node.GetToken() == nil {
		return 1, 1
	}
	tok := n.node.GetToken()
	if m, ok := n.node.(*ast.MappingNode); ok && len(m.Values) > 0 && !m.IsFlowStyle {
		tok = m.Values[0].Key.GetToken()
	}
	return tok.Position.Line, tok.Position.Column
}

// Path is the dotted path of keys from the top.
func (n Node) Path() string { return n.path }

// Problem reports a mistake at the node.
func (n Node) Problem(format string, args ...any) {
	if n.doc == nil {
		return
	}
	line, column := n.Place()
	n.doc.problems = append(n.doc.problems, Problem{Line: line, Column: column, Path: n.path, Message: fmt.Sprintf(format, args...)})
}

// ProblemAt reports a mistake at an offset inside the node's text.
func (n Node) ProblemAt(line, column int, format string, args ...any) {
	l, c := n.Place()
	if quoted, ok := n.node.(*ast.StringNode); ok && (quoted.Token.Type == token.DoubleQuoteType || quoted.Token.Type == token.SingleQuoteType) {
		c++
	}
	if line > 1 {
		l, c = l+line-1, column+1
	} else {
		c += column
	}
	n.doc.problems = append(n.doc.problems, Problem{Line: l, Column: c, Path: n.path, Message: fmt.Sprintf(format, args...)})
}

// Entry is one key of a mapping.
type Entry struct {
	Key   string
	Value Node
}

// Entries lists a mapping's keys in the order written.
func (n Node) Entries() []Entry {
	var values []*ast.MappingValueNode
	switch m := n.node.(type) {
	case nil:
		return nil
	case *ast.MappingNode:
		values = m.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{m}
	case *ast.NullNode:
		return nil
	default:
		n.Problem("expected a mapping (key: value), found %s", describe(n.node))
		return nil
	}
	out := make([]Entry, 0, len(values))
	seen := map[string]bool{}
	for _, v := range values {
		key := v.Key.GetToken().Value
		child := Node{doc: n.doc, node: v.Value, path: join(n.path, key)}
		if seen[key] {
			child.Problem("%q is given twice", key)
			continue
		}
		seen[key] = true
		if _, null := v.Value.(*ast.NullNode); null {
			child.node = v.Value
		}
		out = append(out, Entry{Key: key, Value: child})
	}
	return out
}

// Fields reads a mapping whose keys are known beforehand; any other key is a
// problem that names the nearest known one.
func (n Node) Fields(known ...string) map[string]Node {
	out := map[string]Node{}
	for _, e := range n.Entries() {
		if !slices.Contains(known, e.Key) {
			e.Value.Problem("unknown key %q%s; expected one of %s", e.Key, Suggest(e.Key, known), strings.Join(known, ", "))
			continue
		}
		out[e.Key] = e.Value
	}
	return out
}

// Items lists a sequence.
func (n Node) Items() []Node {
	switch s := n.node.(type) {
	case nil, *ast.NullNode:
		return nil
	case *ast.SequenceNode:
		out := make([]Node, len(s.Values))
		for i, v := range s.Values {
			out[i] = Node{doc: n.doc, node: v, path: fmt.Sprintf("%s[%d]", n.path, i)}
		}
		return out
	}
	n.Problem("expected a list (- item), found %s", describe(n.node))
	return nil
}

// IsMap and IsList tell what was written.
func (n Node) IsMap() bool {
	switch n.node.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return true
	}
	return false
}

// IsList reports whether the node is a sequence.
func (n Node) IsList() bool { _, ok := n.node.(*ast.SequenceNode); return ok }

// Text reads a scalar as text.
func (n Node) Text() string {
	switch s := n.node.(type) {
	case nil, *ast.NullNode:
		return ""
	case *ast.StringNode:
		return s.Value
	case *ast.LiteralNode:
		return strings.TrimRight(s.Value.Value, "\n")
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return s.GetToken().Value
	case *ast.TagNode:
		n.Problem("a leading '!' is read by YAML as a tag; put the whole expression in double quotes")
		return ""
	}
	n.Problem("expected text, found %s", describe(n.node))
	return ""
}

// OneOf reads a scalar that must be one of the words; the first is the default.
func (n Node) OneOf(words ...string) string {
	if !n.Present() {
		return words[0]
	}
	got := n.Text()
	if !slices.Contains(words, got) {
		n.Problem("%q is not known here%s; expected one of %s", got, Suggest(got, words), strings.Join(words, ", "))
		return words[0]
	}
	return got
}

// Bool reads true or false.
func (n Node) Bool() bool {
	switch s := n.node.(type) {
	case nil:
		return false
	case *ast.BoolNode:
		return s.Value
	}
	n.Problem("expected true or false, found %q", n.Text())
	return false
}

// Int reads a whole number of at least lowest.
func (n Node) Int(lowest int) int {
	if !n.Present() {
		return lowest
	}
	v, err := strconv.Atoi(n.Text())
	if err != nil || v < lowest {
		n.Problem("expected a whole number, %d or more, found %q", lowest, n.Text())
		return lowest
	}
	return v
}

// Share reads a number from 0 to 1.
func (n Node) Share() float64 {
	v, err := strconv.ParseFloat(n.Text(), 64)
	if err != nil || v < 0 || v > 1 {
		n.Problem("expected a number from 0 to 1, such as 0.995, got %q", n.Text())
		return 0
	}
	return v
}

// Percent reads "5%" or "5 %" as a share between 0 and 1.
func (n Node) Percent() float64 {
	text := strings.TrimSpace(n.Text())
	v, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimSuffix(text, "%")), 64)
	if err != nil || !strings.HasSuffix(text, "%") || v < 0 || v > 100 {
		n.Problem("expected a percentage such as 5%%, found %q", text)
		return 0
	}
	return v / 100
}

// Days reads "7d" as a number of days.
func (n Node) Days() int {
	text := strings.TrimSpace(n.Text())
	v, err := strconv.Atoi(strings.TrimSuffix(text, "d"))
	if err != nil || !strings.HasSuffix(text, "d") || v < 0 {
		n.Problem("expected a number of days such as 7d, found %q", text)
		return 0
	}
	return v
}

func describe(n ast.Node) string {
	switch n.(type) {
	case *ast.SequenceNode:
		return "a list"
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a mapping"
	case *ast.NullNode:
		return "nothing"
	}
	return strconv.Quote(n.GetToken().Value)
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

// Suggest returns " (did you mean X?)" when a known name is near, else "".
func Suggest(got string, known []string) string {
	best, distance := "", 3
	for _, k := range known {
		if d := edits(strings.ToLower(got), strings.ToLower(k)); d < distance || d == distance && best == "" && len(k) > 5 {
			best, distance = k, d
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf(" (did you mean %q?)", best)
}

// edits is the Levenshtein distance.
func edits(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diagonal := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := diagonal
			if a[i-1] != b[j-1] {
				cost++
			}
			diagonal = row[j]
			row[j] = min(cost, row[j]+1, row[j-1]+1)
		}
	}
	return row[len(b)]
}
