// Package upload writes the file that a system's own upload takes, as its shape
// declares it. Nothing in it is altered for anybody's convenience: what can't
// be written as declared is an error.
package upload

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"twinning/internal/core/record"
)

// Writer writes rows into numbered files: NAME-001.csv, NAME-002.csv, … Each
// row is on disk when Row returns. A file that is not finished yet ends in
// .part; a writer of the same name finishes what an earlier one left behind.
type Writer struct {
	form   record.Upload
	root   *os.Root
	name   string
	part   *os.File
	number int
	rows   int
	Files  []string // that are finished
}

// NewWriter writes below a folder.
func NewWriter(form record.Upload, root *os.Root, name string) (*Writer, error) {
	w := &Writer{form: form, root: root, name: name}
	for {
		switch err := w.adopt(); {
		case errors.Is(err, fs.ErrNotExist):
			return w, nil
		case err != nil:
			return nil, err
		}
	}
}

// adopt finishes or passes over the file of the next number.
func (w *Writer) adopt() error {
	next := w.file(w.number + 1)
	if _, err := w.root.Stat(next); err == nil {
		w.number++
		return nil
	}
	if err := w.root.Rename(next+".part", next); err != nil {
		return err
	}
	w.number++
	w.Files = append(w.Files, filepath.Join(w.root.Name(), next))
	return nil
}

func (w *Writer) file(number int) string { return fmt.Sprintf("%s-%03d.csv", w.name, number) }

// Row adds one record: what is done (create, change or delete), the native
// values it has then, and which of them are cleared.
func (w *Writer) Row(action string, values map[string][]string, cleared map[string]bool) error {
	cells := make([]string, len(w.form.Columns))
	for i, c := range w.form.Columns {
		switch {
		case c.Action != nil:
			word, ok := c.Action[action]
			if !ok {
				return fmt.Errorf("the upload's column %q has no word for %q; add `%s:` to it in the shape", c.Name, action, action)
			}
			cells[i] = word
		case c.Fixed != "":
			cells[i] = c.Fixed
		case cleared[c.Native]:
			cells[i] = w.form.Clear
		default:
			cells[i] = strings.Join(values[c.Native], w.form.Separator)
		}
	}
	line, err := w.line(cells)
	if err != nil {
		return err
	}
	body, err := w.encode(line)
	if err != nil {
		return err
	}
	if w.part == nil {
		if err := w.begin(); err != nil {
			return err
		}
	}
	if err := w.write(body); err != nil {
		return err
	}
	if w.rows++; w.rows == w.form.Rows {
		return w.Flush()
	}
	return nil
}

func (w *Writer) write(body []byte) error {
	_, err := w.part.Write(body)
	if err == nil {
		err = w.part.Sync()
	}
	return err
}

func (w *Writer) end() string { return map[string]string{"crlf": "\r\n", "lf": "\n"}[w.form.LineEnd] }

// begin starts a file with its mark, fixed lines and header.
func (w *Writer) begin() error {
	var text strings.Builder
	for _, l := range w.form.FirstLines {
		text.WriteString(l + w.end())
	}
	if w.form.Header {
		names := make([]string, len(w.form.Columns))
		for i, c := range w.form.Columns {
			names[i] = c.Name
		}
		line, err := w.line(names)
		if err != nil {
			return err
		}
		text.WriteString(line)
	}
	body, err := w.encode(text.String())
	if err != nil {
		return err
	}
	if w.part, err = w.root.OpenFile(w.file(w.number+1)+".part", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600); err != nil {
		return err
	}
	return w.write(append([]byte(marks[w.form.Encoding]), body...))
}

// marks stand before the text of a file.
var marks = map[string]string{"utf-8-bom": "\xef\xbb\xbf", "utf-16": "\xff\xfe"}

// line joins cells, quoted as declared.
func (w *Writer) line(cells []string) (string, error) {
	delimiter := w.form.Delimiter
	if delimiter == "tab" {
		delimiter = "\t"
	}
	out := make([]string, len(cells))
	for i, c := range cells {
		needs := strings.ContainsAny(c, "\"\r\n"+delimiter)
		switch {
		case w.form.Quoting == "none" && needs:
			return "", fmt.Errorf("%q holds a delimiter, a quotation mark or a line end, and the upload takes no quoting", c)
		case w.form.Quoting == "all" || w.form.Quoting == "needed" && needs:
			c = `"` + strings.ReplaceAll(c, `"`, `""`) + `"`
		}
		out[i] = c
	}
	return strings.Join(out, delimiter) + w.end(), nil
}

// Flush finishes the file that is being written, if any.
func (w *Writer) Flush() error {
	if w.part == nil {
		return nil
	}
	err := w.part.Close()
	w.part, w.rows = nil, 0
	if err == nil {
		err = w.adopt()
	}
	return err
}

func (w *Writer) encode(text string) ([]byte, error) {
	var enc encoding.Encoding
	switch w.form.Encoding {
	case "utf-8", "utf-8-bom":
		return []byte(text), nil
	case "utf-16":
		enc = unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM)
	case "latin-1":
		enc = charmap.ISO8859_1
	default:
		enc = charmap.Windows1252
	}
	out, err := enc.NewEncoder().Bytes([]byte(text))
	if err == nil {
		return out, nil
	}
	for _, r := range text {
		if _, err := enc.NewEncoder().String(string(r)); err != nil {
			return nil, fmt.Errorf("%q can't be written in %s, which the upload takes; nothing was written", r, w.form.Encoding)
		}
	}
	return nil, err
}
