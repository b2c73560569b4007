// Package document reads the YAML documents people write for Twinning
// (charters, shapes) so that every mistake is told at once, each with its line
// and column, what was expected and the nearest known name.
package document

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"twinning/internal/core/budget"
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
	node *yaml.Node
	path string
}

// Parse reads one YAML document. What makes it unreadable as a whole is the only
// problem then told.
func Parse(src []byte) (*Document, Node) {
	doc := &Document{}
	if err := budget.Document.Over(int64(len(src)), "the document"); err != nil {
		doc.whole(1, err.Error())
		return doc, Node{}
	}
	if line := tooDeep(src); line > 0 {
		doc.whole(line, budget.Nesting.Over(1<<62, "the nesting of lists and mappings here").Error())
		return doc, Node{}
	}
	var top yaml.Node
	d := yaml.NewDecoder(bytes.NewReader(src))
	switch err := d.Decode(&top); {
	case errors.Is(err, io.EOF):
		doc.whole(1, "the document is empty")
		return doc, Node{}
	case err != nil:
		doc.syntax(src, err)
		return doc, Node{}
	}
	var second yaml.Node
	if err := d.Decode(&second); err == nil {
		doc.whole(second.Line, "a second document begins here (after ---); put everything into one")
		return doc, Node{}
	} else if !errors.Is(err, io.EOF) {
		doc.syntax(src, err)
		return doc, Node{}
	}
	if len(top.Content) == 0 || isNull(top.Content[0]) {
		doc.whole(1, "the document is empty")
		return doc, Node{}
	}
	return doc, Node{doc: doc, node: top.Content[0]}
}

// tooDeep is the first line at which more brackets are open, or a line is
// indented further, than the limit of nesting can mean; 0 when there is none.
// Brackets in texts count as well: a charter has few.
func tooDeep(src []byte) int {
	line, open, indent, atStart := 1, 0, 0, true
	most := budget.Nesting.Int()
	for _, c := range src {
		switch {
		case c == '\n':
			line, indent, atStart = line+1, 0, true
			continue
		case c == '[' || c == '{':
			open++
		case (c == ']' || c == '}') && open > 0:
			open--
		case atStart && (c == ' ' || c == '-' || c == '?'):
			indent++
			continue
		}
		atStart = false
		if open > most || indent > 16*most {
			return line
		}
	}
	return 0
}

func (d *Document) whole(line int, message string) {
	d.problems = append(d.problems, Problem{Line: line, Column: 1, Message: message})
}

var placed = regexp.MustCompile(`^line (\d+): `)

func (d *Document) syntax(src []byte, err error) {
	message := strings.TrimPrefix(err.Error(), "yaml: ")
	line := 1
	if at := placed.FindStringSubmatch(message); at != nil {
		line, _ = strconv.Atoi(at[1])
		message = message[len(at[0]):]
	}
	for i, text := range strings.Split(string(src), "\n") { // the parser tells of a line near it
		if indent := text[:len(text)-len(strings.TrimLeft(text, " \t"))]; strings.Contains(indent, "\t") && i+1 >= line-1 && i+1 <= line+1 {
			d.whole(i+1, "a tab stands where the line begins; YAML is indented by spaces")
			return
		}
	}
	d.whole(line, "this is not YAML: "+message+"; if an expression holds ': ' or ' #', or starts with '!', '{', '[', '*' or '&', put the whole expression in double quotes")
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
	if more := len(d.problems) - mostProblems; more > 0 {
		last := d.problems[mostProblems-1]
		return append(slices.Clone(d.problems[:mostProblems]), Problem{Line: last.Line, Column: last.Column, Message: fmt.Sprintf("and %d more after this", more)})
	}
	return d.problems
}

// mostProblems is how many mistakes are told at once.
const mostProblems = 100

// Present reports whether the node was written.
func (n Node) Present() bool { return n.node != nil }

// Place returns the node's line and column.
func (n Node) Place() (line, column int) {
	if n.node == nil {
		return 1, 1
	}
	return n.node.Line, n.node.Column
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
	if n.node != nil && n.node.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
		c++
	}
	if line > 1 {
		l, c = l+line-1, column+1
	} else {
		c += column
	}
	n.doc.problems = append(n.doc.problems, Problem{Line: l, Column: c, Path: n.path, Message: fmt.Sprintf(format, args...)})
}

func isNull(n *yaml.Node) bool { return n.Kind == yaml.ScalarNode && n.ShortTag() == "!!null" }

// Entry is one key of a mapping.
type Entry struct {
	Key   string
	Value Node
}

// Entries lists a mapping's keys in the order written.
func (n Node) Entries() []Entry {
	switch {
	case n.node == nil || isNull(n.node):
		return nil
	case n.node.Kind != yaml.MappingNode:
		n.Problem("expected a mapping (key: value), found %s", describe(n.node))
		return nil
	}
	out := make([]Entry, 0, len(n.node.Content)/2)
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.node.Content); i += 2 {
		key := n.node.Content[i].Value
		if n.node.Content[i].Kind != yaml.ScalarNode {
			Node{doc: n.doc, node: n.node.Content[i], path: n.path}.Problem("expected a name before the colon, found %s", describe(n.node.Content[i]))
			continue
		}
		child := Node{doc: n.doc, node: n.node.Content[i+1], path: join(n.path, key)}
		if seen[key] {
			child.Problem("%q is given twice", key)
			continue
		}
		seen[key] = true
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
	switch {
	case n.node == nil || isNull(n.node):
		return nil
	case n.node.Kind != yaml.SequenceNode:
		n.Problem("expected a list (- item), found %s", describe(n.node))
		return nil
	}
	out := make([]Node, len(n.node.Content))
	for i, v := range n.node.Content {
		out[i] = Node{doc: n.doc, node: v, path: fmt.Sprintf("%s[%d]", n.path, i)}
	}
	return out
}

// IsMap reports whether the node is a mapping.
func (n Node) IsMap() bool { return n.node != nil && n.node.Kind == yaml.MappingNode }

// IsList reports whether the node is a sequence.
func (n Node) IsList() bool { return n.node != nil && n.node.Kind == yaml.SequenceNode }

// Text reads a scalar as text.
func (n Node) Text() string {
	switch {
	case n.node == nil || n.node.Kind == yaml.ScalarNode && n.node.Style&yaml.TaggedStyle == 0 && isNull(n.node):
		return ""
	case n.node.Style&yaml.TaggedStyle != 0:
		n.Problem("a leading '!' is read by YAML as a tag; put the whole expression in double quotes")
		return ""
	case n.node.Kind == yaml.ScalarNode && n.node.Style&yaml.LiteralStyle != 0:
		return strings.TrimRight(n.node.Value, "\n")
	case n.node.Kind == yaml.ScalarNode:
		return n.node.Value
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
	if !n.Present() {
		return false
	}
	if n.node.Kind != yaml.ScalarNode || n.node.ShortTag() != "!!bool" {
		n.Problem("expected true or false, found %q", n.Text())
	}
	return n.node.Value == "true"
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

func describe(n *yaml.Node) string {
	switch {
	case n.Kind == yaml.SequenceNode:
		return "a list"
	case n.Kind == yaml.MappingNode:
		return "a mapping"
	case n.Kind == yaml.AliasNode:
		return fmt.Sprintf("*%s, a reference to another place, which is not used here", n.Value)
	case isNull(n):
		return "nothing"
	}
	return strconv.Quote(n.Value)
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

// elsewhere is what our keys are called in other documents of this kind.
var elsewhere = map[string][]string{
	"zone": {"timezone", "time-zone", "time_zone", "tz"}, "where": {"filter", "scope", "condition", "when", "if", "only"}, "when": {"where", "filter", "condition", "if"},
	"pairing": {"matching", "match", "correlation", "joins", "identity"}, "keys": {"match-on", "matchers", "identifiers", "by"}, "attributes": {"mapping", "mappings", "fields", "columns", "values"},
	"emails": {"addresses", "mailboxes", "aliases"}, "leavers": {"offboarding", "deprovisioning", "terminations", "departures"}, "orphans": {"unowned", "unmatched"}, "guards": {"limits", "thresholds", "safety", "caps"},
	"waves": {"batches", "phases", "rollout"}, "people": {"users", "persons", "employees", "authority"}, "accounts": {"targets", "target", "downstream"}, "from": {"source", "system", "file"}, "in": {"target", "system", "of"},
	"person": {"left", "source", "people"}, "account": {"right", "target", "accounts"}, "rule": {"mode", "policy", "when-set"}, "candidates": {"options", "choices", "patterns"}, "more-than": {"max", "maximum", "limit", "over"},
	"do": {"action", "actions", "then"}, "shape": {"mapping", "columns", "attributes", "schema"}, "intent": {"operations", "actions"}, "tables": {"lookups", "lookup"}, "lane": {"name", "id"}, "review": {"ask", "propose"}, "accept": {"join", "threshold"},
	"split": {"separator", "delimiter"}, "date": {"format", "date-format"}, "true": {"yes", "on"}, "false": {"no", "off"}, "grace": {"delay", "wait"}, "stages": {"steps", "schedule"}, "after": {"days", "delay"},
}

// Suggest returns " (did you mean X?)" when a known name is near or is what others
// call the same, else "".
func Suggest(got string, known []string) string {
	for _, k := range known {
		if slices.Contains(elsewhere[k], strings.ToLower(got)) {
			return fmt.Sprintf(" (that is %q here)", k)
		}
	}
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
