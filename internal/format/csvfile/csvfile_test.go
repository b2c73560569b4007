package csvfile

import (
	"bytes"
	"compress/gzip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"twinning/internal/core/record"
)

const sample = "id,name,mail\n1,Zoë,zoe@l.example\n2,\"Soto, Ana\",ana@l.example\n"

func encode(t *testing.T, e interface{ Bytes([]byte) ([]byte, error) }, s string) string {
	b, err := e.Bytes([]byte(s))
	require.NoError(t, err)
	return string(b)
}

// However the file comes, the same two records are read.
func TestFindsOut(t *testing.T) {
	var zipped bytes.Buffer
	z := gzip.NewWriter(&zipped)
	_, err := z.Write([]byte(sample))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	for name, text := range map[string]string{
		"plain": sample, "crlf": strings.ReplaceAll(sample, "\n", "\r\n"), "byte order mark": "\ufeff" + sample, "gzip": zipped.String(),
		"semicolons":  strings.NewReplacer("\"Soto, Ana\"", "Soto, Ana", ",Z", ";Z", ",zoe", ";zoe", ",ana", ";ana", "2,", "2;", "id,name,mail", "id;name;mail").Replace(sample),
		"tabs":        "id\tname\tmail\n1\tZoë\tzoe@l.example\n2\tSoto, Ana\tana@l.example\n",
		"latin-1":     encode(t, charmap.ISO8859_1.NewEncoder(), sample),
		"utf-16":      encode(t, unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder(), sample),
		"blank lines": sample + ",,\n\n",
	} {
		f, err := Open(strings.NewReader(text), Options{})
		require.NoError(t, err, name)
		r, err := f.Roster(record.Guess(f.Header), nil)
		require.NoError(t, err, name)
		require.Equal(t, 2, r.Len(), name)
		require.Empty(t, r.Rejected, name)
		i, ok := r.Find("1")
		require.True(t, ok)
		require.Equal(t, "Zoë", r.Column("displayName").Cell(i), name)
	}
}

// Rows that can't be trusted are told with line, column and reason, and keep
// their id only where it can be trusted.
func TestRejects(t *testing.T) {
	for _, c := range []struct{ row, id, column, reason string }{
		{"3,a,b,c", "3", "", "4 cells where the header has 3"},
		{"3,a", "3", "", "2 cells where the header has 3"},
		{"3,a\x00,b", "3", "name", "NUL byte"},
		{"3,\xff\xfe,b", "3", "name", "not UTF-8"},
		{"3,a \"b\" c,d", "3", "name", "quotation mark"},
		{" ,a,b", "", "id", "the id is blank"},
		{"1,again,x@l.example", "1", "id", "stands in 2 records (lines 2, 4)"},
		{"3," + strings.Repeat("x", 10<<20) + ",b", "3", "name", "over the limit of 64 KiB"},
	} {
		f, err := Open(strings.NewReader(sample+c.row+"\n"), Options{Encoding: "utf-8"})
		require.NoError(t, err)
		r, err := f.Roster(record.Guess(f.Header), nil)
		require.NoError(t, err)
		require.Len(t, r.Rejected, 1, c.reason)
		got := r.Rejected[0]
		require.Equal(t, c.id, got.ID, c.reason)
		require.Equal(t, c.column, got.Column)
		require.Contains(t, got.Reason, c.reason)
		if c.id == "1" {
			require.Equal(t, 2, got.Line)
			require.Equal(t, 2, r.Len(), "the two rows of one id stand as one unreadable record")
		} else {
			require.Equal(t, 4, got.Line, c.reason)
		}
	}
}

func TestRefuses(t *testing.T) {
	for text, want := range map[string]string{
		"": "empty", "\n \n": "empty", "id,name\n": "no records", "ana@larkspur.example,1\nbo@larkspur.example,2\n": "it is a record and not a header", "id,name\n1,\"open\n2,b\n": "never closed", "id,name\n1,b\n2,\"open\n": "never closed", "\x1f\x8bnot gzip": "gzip",
	} {
		f, err := Open(strings.NewReader(text), Options{})
		if err == nil {
			_, err = f.Roster(record.Guess(f.Header), nil)
		}
		require.ErrorContains(t, err, want, "%q", text)
	}
	f, err := Open(strings.NewReader("nr;name\n1;x\n"), Options{Delimiter: ','})
	require.NoError(t, err)
	_, err = f.Roster(record.Guess(f.Header), nil)
	require.ErrorContains(t, err, "is it another?")
}

func FuzzOpen(f *testing.F) {
	f.Add([]byte(sample))
	f.Add([]byte("\xff\xfe1\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		file, err := Open(bytes.NewReader(b), Options{})
		if err != nil {
			return
		}
		if r, err := file.Roster(record.Guess(file.Header), nil); err == nil {
			require.Positive(t, r.Len()+len(r.Rejected), "an empty reading is an error")
		}
	})
}
