package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"twinning/internal/format"
	"twinning/internal/format/anyfile"
)

// member is one of an object, in the order in which it was written.
type member struct {
	name  string
	value any // []member, []any, json.Number, string, bool or nil
}

// ordered reads one JSON value with its members in their order.
func ordered(d *json.Decoder) (any, error) {
	t, err := d.Token()
	if err != nil {
		return nil, err
	}
	switch t {
	case json.Delim('{'):
		object := []member{}
		for d.More() {
			name, err := d.Token()
			if err != nil {
				return nil, err
			}
			value, err := ordered(d)
			if err != nil {
				return nil, err
			}
			object = append(object, member{name.(string), value})
		}
		_, err = d.Token()
		return object, err
	case json.Delim('['):
		list := []any{}
		for d.More() {
			value, err := ordered(d)
			if err != nil {
				return nil, err
			}
			list = append(list, value)
		}
		_, err = d.Token()
		return list, err
	}
	return t, nil
}

// itemised are the members under which an answer has its items.
var itemised = []string{"items", "columns", "steps", "versions", "attributes"}

// writeRows writes rows that are machines' already.
func writeRows(out io.Writer, header []string, rows [][]string) error {
	w := csv.NewWriter(out)
	_ = w.Write(header)
	_ = w.WriteAll(rows)
	return w.Error()
}

// writeSheet writes a list for people, as their spreadsheet takes it: what it would
// run as a formula is defused.
func (c *client) writeSheet(path string, header []string, rows [][]string) error {
	columns := make([]string, len(header))
	for i, h := range header {
		columns[i] = strings.TrimSuffix(h, ">")
	}
	kind := strings.ToLower(filepath.Ext(path))
	delimiter, err := delimiterOf(c.flag("delimiter"))
	switch {
	case kind != ".csv" && kind != ".xlsx":
		return misuse("--sheet %q: expected a file that ends in .csv or .xlsx", path)
	case err != nil:
		return err
	case kind != ".csv" && (c.on("bom") || delimiter != ',' && delimiter != 0):
		return misuse("--bom and --delimiter are for .csv sheets")
	}
	return replaceFile(path, func(out io.Writer) error {
		w, err := anyfile.NewWriter(out, kind[1:], columns, format.Writing{People: true, Delimiter: delimiter, BOM: c.on("bom")})
		if err != nil {
			return err
		}
		for _, r := range rows {
			values := map[string][]string{}
			for i, c := range columns {
				values[c] = []string{r[i]}
			}
			if err := w.Write(values); err != nil {
				return err
			}
		}
		return w.Close()
	})
}

// writeMachineCSV writes what machines get, a row an item, in columns of the API's
// names: members of members as a.b, several values joined by ";". Nothing is defused:
// it is no file for a spreadsheet.
func writeMachineCSV(out io.Writer, whole any) error {
	b, err := json.Marshal(whole)
	if err != nil {
		return err
	}
	d := json.NewDecoder(strings.NewReader(string(b)))
	d.UseNumber()
	tree, err := ordered(d)
	if err != nil {
		return err
	}
	items := []any{tree}
	switch x := tree.(type) {
	case []any:
		items = x
	case []member:
		if i := slices.IndexFunc(x, func(m member) bool { return slices.Contains(itemised, m.name) }); i >= 0 {
			items, _ = x[i].value.([]any)
		}
	}
	var columns []string
	rows := make([]map[string]string, len(items))
	known := map[string]bool{}
	for i, item := range items {
		rows[i] = map[string]string{}
		flatten("", item, func(name, cell string) {
			if !known[name] {
				known[name] = true
				columns = append(columns, name)
			}
			rows[i][name] = cell
		})
	}
	if len(columns) == 0 {
		return nil
	}
	table := make([][]string, len(rows))
	for i, r := range rows {
		table[i] = make([]string, len(columns))
		for j, c := range columns {
			table[i][j] = r[c]
		}
	}
	return writeRows(out, columns, table)
}

func flatten(name string, value any, put func(name, cell string)) {
	switch v := value.(type) {
	case []member:
		for _, m := range v {
			inner := m.name
			if name != "" {
				inner = name + "." + m.name
			}
			flatten(inner, m.value, put)
		}
	case []any:
		cells := make([]string, len(v))
		for i, x := range v {
			cells[i] = compact(x)
		}
		put(name, strings.Join(cells, ";"))
	default:
		put(name, scalar(v))
	}
}

func scalar(v any) string {
	switch v.(type) {
	case nil, []member, []any:
		return ""
	}
	return fmt.Sprint(v)
}

// compact is an object of a list in one cell.
func compact(v any) string {
	switch x := v.(type) {
	case []member:
		parts := make([]string, len(x))
		for i, m := range x {
			parts[i] = m.name + "=" + compact(m.value)
		}
		return strings.Join(parts, " ")
	case []any:
		parts := make([]string, len(x))
		for i, e := range x {
			parts[i] = compact(e)
		}
		return strings.Join(parts, ",")
	}
	return scalar(v)
}
