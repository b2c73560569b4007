// Package template writes the empty list that is handed to whoever keeps
// people: the columns that are needed, an example row, and what each column
// must hold.
package template

import (
	"fmt"
	"io"
	"strings"
	"text/tabwriter"

	"twinning/internal/format"
	"twinning/internal/format/csvfile"
	"twinning/internal/format/xlsx"
)

// Formats that a template can have. Text is the explanation alone, for a mail.
var Formats = []string{"xlsx", "csv", "text"}

// Write writes the template.
func Write(w io.Writer, kind string, columns []format.Wanted) error {
	switch kind {
	case "xlsx":
		return xlsx.WriteTemplate(w, columns)
	case "csv":
		return table(w, columns)
	case "text":
		return explain(w, columns)
	}
	return fmt.Errorf("a template can't be %q; expected one of %s", kind, strings.Join(Formats, ", "))
}

func table(w io.Writer, columns []format.Wanted) error {
	names, row := make([]string, len(columns)), map[string][]string{}
	for i, c := range columns {
		names[i], row[c.Native] = c.Native, []string{c.Example}
	}
	out, err := csvfile.NewWriter(w, names, format.Writing{})
	if err != nil {
		return err
	}
	if err := out.Write(row); err != nil {
		return err
	}
	return out.Close()
}

func explain(w io.Writer, columns []format.Wanted) error {
	t := tabwriter.NewWriter(w, 0, 4, 2, ' ', 0)
	fmt.Fprintln(t, "column\trequired\tform\texample")
	for _, c := range columns {
		fmt.Fprintf(t, "%s\t%s\t%s\t%s\n", c.Native, map[bool]string{true: "yes", false: "-"}[c.Required], c.Explain(), c.Example)
	}
	return t.Flush()
}
