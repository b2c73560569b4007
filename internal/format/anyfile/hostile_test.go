package anyfile

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/format"
)

// Small files that would become large work are refused by the limit they go
// over, or lose only the record that does, and cost little memory on the way.
func TestHostile(t *testing.T) {
	long := strings.Repeat("k", 1000)
	for name, c := range map[string]struct {
		body  []byte
		fault bool // one record is told, the others are read
		want  string
	}{
		"nested JSON, long names":  {packed(repeat(1, strings.Repeat(`{"`+long+`":`, 9000)+"1"+strings.Repeat("}", 9000)) + "{\"id\":\"2\"}\n"), true, "is over the limit of"},
		"a long name":              {[]byte(`{"` + long + `":1}` + "\n{\"id\":\"2\"}\n"), true, "a name in the JSON text is over the limit of 256 bytes"},
		"many members":             {[]byte("{" + joined(3000, `"m%d":1`) + "}\n{\"id\":\"2\"}\n"), true, "so many members is over the limit of 2,000"},
		"a list of many":           {[]byte(`{"id":"1","a":[` + joined(20_000, `"%d"`) + "]}\n{\"id\":\"2\"}\n"), true, "a list of 20000 values is over the limit of 10,000"},
		"members of many records":  {[]byte(repeatf(150, func(i int) string { return "{" + joinedFrom(i*20, 20, `"m%d":1`) + "}\n" })), false, "a list of 3000 columns or attributes is over the limit of 2,000"},
		"gzip of one text":         {packed("id,name\n" + strings.Repeat("1,aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa\n", 2_000_000)), false, "the file becomes more than 100 times larger by unpacking"},
		"many columns":             {[]byte(joined(30_000, "c%d") + "\n" + joined(30_000, "%d") + "\n"), false, "a list of 30000 columns or attributes is over the limit of 2,000"},
		"a long column":            {[]byte("id," + long + "\n1,2\n"), false, "is over the limit of 256 bytes"},
		"a cell without end":       {[]byte("id,name\n1,\"" + strings.Repeat("x\n", 10<<20)), false, "is a quotation mark never closed?"},
		"a line without end":       {[]byte(`{"id":"` + strings.Repeat("x", 17<<20)), false, "a line of the file is over the limit of 16 MiB"},
		"an entry without end":     {[]byte("dn: a\n" + strings.Repeat("cn: abcdefgh\n", 2_000_000)), false, "a tenth of the lines of an entry is over the limit"},
		"an entry of many":         {[]byte("dn: uid=1\n" + joinedBy(3000, "a%d: x", "\n") + "\n\ndn: uid=2\nuid: 2\n"), false, "is over the limit of 2,000"},
		"nested JSON, short names": {packed(repeat(1, strings.Repeat(`{"a":`, 9000)+"1"+strings.Repeat("}", 9000)) + "{\"id\":\"2\"}\n"), true, "JSON nested so deeply is over the limit of 32"},
		"a resource without end":   {[]byte(`{"totalResults":1,"Resources":[{"id":"1","x":"` + strings.Repeat("x", 17<<20)), false, "a record of the file is over the limit of 16 MiB"},
		"nested resources":         {[]byte(`{"totalResults":2,"Resources":[{"id":"1","x":` + strings.Repeat("[", 5000) + strings.Repeat("]", 5000) + `},{"id":"2"}]}`), true, "JSON nested so deeply"},
		"a list nested":            {[]byte(`{"totalResults":0,"x":` + strings.Repeat("[", 200_000)), false, "exceeded max depth"},
		"a workbook that says so":  {workbook(func(w *strings.Builder) { w.WriteString(strings.Repeat("<row/>", 20_000_000)) }), false, "the workbook becomes more than 100 times larger by unpacking"},
		"a workbook of many cells": {sheetOf(t, 3000), false, "is over the limit of 2,000"},
	} {
		t.Run(name, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			faults, read := "", 0
			f, err := Open(bytes.NewReader(c.body), Options{})
			if err == nil {
				err = f.Each(func(r format.Row) error {
					if read++; r.Fault != "" {
						faults = r.Fault
					}
					return nil
				})
				require.NoError(t, format.Close(f))
			}
			if c.fault {
				require.NoError(t, err)
				require.Contains(t, faults, c.want)
				require.Equal(t, 2, read, "the other record is read")
			} else {
				require.ErrorContains(t, err, c.want)
			}
			runtime.ReadMemStats(&after)
			require.Less(t, (after.TotalAlloc-before.TotalAlloc)>>20, uint64(300), "MiB allocated")
		})
	}
}

func repeat(n int, line string) string { return strings.Repeat(line+"\n", n) }

func repeatf(n int, line func(i int) string) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(line(i))
	}
	return b.String()
}

func joined(n int, form string) string           { return joinedBy(n, form, ",") }
func joinedFrom(from, n int, form string) string { return list(from, n, form, ",") }
func joinedBy(n int, form, by string) string     { return list(0, n, form, by) }

func list(from, n int, form, by string) string {
	parts := make([]string, n)
	for i := range parts {
		parts[i] = fmt.Sprintf(form, from+i)
	}
	return strings.Join(parts, by)
}

func packed(text string) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = z.Write([]byte(text)) // into memory
	_ = z.Close()
	return b.Bytes()
}

func sheetOf(t *testing.T, columns int) []byte {
	var b bytes.Buffer
	w, err := NewWriter(&b, "xlsx", strings.Split(joined(columns, "c%d"), ","), format.Writing{People: true})
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func workbook(rows func(*strings.Builder)) []byte {
	var sheet strings.Builder
	sheet.WriteString(`<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>`)
	rows(&sheet)
	sheet.WriteString(`</sheetData></worksheet>`)
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range map[string]string{
		"[Content_Types].xml":        `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/></Types>`,
		"xl/workbook.xml":            `<workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="people" sheetId="1" r:id="rId1"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet" Target="worksheets/sheet1.xml"/></Relationships>`,
		"xl/worksheets/sheet1.xml":   sheet.String(),
	} {
		w, _ := z.Create(name)       // into memory
		_, _ = w.Write([]byte(text)) // as above
	}
	_ = z.Close()
	return b.Bytes()
}
