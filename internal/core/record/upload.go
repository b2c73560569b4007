package record

import (
	"fmt"
	"strings"

	"twinning/internal/core/document"
)

// Upload is the file that a system's own upload takes, declared in a shape:
//
//	upload:
//	  columns: [Login, Mail, {name: Action, create: ADD, change: MOD, delete: DEL}]
//	  first-lines: ["#accounts v2"]     # before the header
//	  header: true                      # (default)
//	  delimiter: ";"                    # , ; | tab (default ,)
//	  quoting: needed                   # needed (default), all or none
//	  encoding: windows-1252            # utf-8 (default), utf-8-bom, utf-16, latin-1, windows-1252
//	  line-end: crlf                    # crlf (default, RFC 4180) or lf
//	  clear: "<none>"                   # what stands for "empty this one"; default an empty cell
//	  separator: ","                    # between the values of a list in one cell (default ;)
//	  rows: 500                         # records per file; 0 all in one
type Upload struct {
	Columns    []UploadColumn `json:"columns"`
	FirstLines []string       `json:"firstLines,omitempty"`
	Header     bool           `json:"header"`
	Delimiter  string         `json:"delimiter"`
	Quoting    string         `json:"quoting"`
	Encoding   string         `json:"encoding"`
	LineEnd    string         `json:"lineEnd"`
	Clear      string         `json:"clear,omitempty"`
	Separator  string         `json:"separator"`
	Rows       int            `json:"rows,omitempty"`
}

// UploadColumn is one column: a native attribute, or a word for what is done.
type UploadColumn struct {
	Name   string            `json:"name"`
	Native string            `json:"native,omitempty"`
	Fixed  string            `json:"fixed,omitempty"`  // the same in every row
	Action map[string]string `json:"action,omitempty"` // create, change, delete -> word
}

func parseUpload(n document.Node) *Upload {
	f := n.Declared(ShapeKeys)
	u := &Upload{FirstLines: words(f["first-lines"]), Header: true, Clear: f["clear"].Text()}
	if h, ok := f["header"]; ok {
		u.Header = h.Bool()
	}
	u.Delimiter = f["delimiter"].Word(ShapeKeys, "upload.delimiter")
	u.Quoting = f["quoting"].Word(ShapeKeys, "upload.quoting")
	u.Encoding = f["encoding"].Word(ShapeKeys, "upload.encoding")
	u.LineEnd = f["line-end"].Word(ShapeKeys, "upload.line-end")
	if u.Separator = f["separator"].Text(); u.Separator == "" {
		u.Separator = ";"
	}
	if rows, ok := f["rows"]; ok {
		u.Rows = rows.Int(0)
	}
	for _, item := range f["columns"].Items() {
		u.Columns = append(u.Columns, parseUploadColumn(item))
	}
	if len(u.Columns) == 0 {
		n.Problem("an upload needs `columns:`")
	}
	return u
}

func parseUploadColumn(n document.Node) UploadColumn {
	if !n.IsMap() {
		return UploadColumn{Name: n.Text(), Native: n.Text()}
	}
	f := n.Declared(ShapeKeys)
	c := UploadColumn{Name: f["name"].Text(), Native: f["from"].Text(), Fixed: f["fixed"].Text()}
	for _, action := range []string{"create", "change", "delete"} {
		if a, ok := f[action]; ok {
			if c.Action == nil {
				c.Action = map[string]string{}
			}
			c.Action[action] = a.Text()
		}
	}
	if c.Name == "" {
		n.Problem("a column needs `name:`")
	}
	if c.Native == "" && c.Fixed == "" && c.Action == nil {
		c.Native = c.Name
	}
	return c
}

func (u *Upload) yaml(b *strings.Builder) {
	b.WriteString("upload:\n  columns:\n")
	for _, c := range u.Columns {
		fmt.Fprintf(b, "    - {name: %q", c.Name)
		if c.Native != "" {
			fmt.Fprintf(b, ", from: %q", c.Native)
		}
		if c.Fixed != "" {
			fmt.Fprintf(b, ", fixed: %q", c.Fixed)
		}
		for _, action := range []string{"create", "change", "delete"} {
			if w, ok := c.Action[action]; ok {
				fmt.Fprintf(b, ", %s: %q", action, w)
			}
		}
		b.WriteString("}\n")
	}
	if len(u.FirstLines) > 0 {
		fmt.Fprintf(b, "  first-lines: [%s]\n", quoteAll(u.FirstLines))
	}
	fmt.Fprintf(b, "  header: %t\n  delimiter: %q\n  quoting: %s\n  encoding: %s\n  line-end: %s\n  separator: %q\n", u.Header, u.Delimiter, u.Quoting, u.Encoding, u.LineEnd, u.Separator)
	if u.Clear != "" {
		fmt.Fprintf(b, "  clear: %q\n", u.Clear)
	}
	if u.Rows > 0 {
		fmt.Fprintf(b, "  rows: %d\n", u.Rows)
	}
}
