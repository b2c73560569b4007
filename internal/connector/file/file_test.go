package file_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"twinning/internal/connector"
	"twinning/internal/connector/connectortest"
	"twinning/internal/connector/file"
	"twinning/internal/core/record"
)

// good and cut files of every format, with the same two people.
var files = map[string]struct{ good, cut string }{
	"people.csv":   {"id,name,password\n2,Bo,secret\n1,Ana,secret\n", "id,name,password\n2,Bo,secret\n3,\"cut off"},
	"people.jsonl": {`{"id": 2, "name": "Bo", "password": "secret"}` + "\n" + `{"id": "1", "name": "Ana"}` + "\n", `{"id": 2, "name": "Bo"}` + "\n" + `{"id": 3, "na`},
	"people.ldif":  {"version: 1\n\ndn: uid=bo\nid: 2\nname: Bo\nuserPassword: secret\n\ndn: uid=ana\nid: 1\nname:: QW5h\n", "dn: uid=bo\nid: 2\n\ndn: uid=ana\nchangetype: delete\n"},
	"people.json":  {`{"totalResults": 2, "Resources": [{"id": "2", "name": "Bo"}, {"id": "1", "password": "secret"}]}`, `{"totalResults": 2, "Resources": [{"id": "2", "name": "Bo"}]}`},
}

func TestBehaviour(t *testing.T) {
	for name, f := range files {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), name)
			write := func(text string) { require.NoError(t, os.WriteFile(path, []byte(text), 0o600)) }
			write(f.good)
			spoil := func(text string) func(t *testing.T) {
				return func(t *testing.T) {
					write(text)
					t.Cleanup(func() { write(f.good) })
				}
			}
			connectortest.Run(t, connectortest.Subject{
				IDs: []string{"1", "2"},
				New: func(t *testing.T) connector.Connector {
					c, err := file.New(connector.Config{Settings: map[string]string{"path": path, "id": "id"}})
					require.NoError(t, err)
					return c
				},
				Spoil: map[string]func(t *testing.T){"cut short": spoil(f.cut), "empty": spoil("")},
			})
		})
	}
}

// A file is read from, and written to, the declared folders alone, whatever
// links say.
func TestConfined(t *testing.T) {
	inside, outside := t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "x.csv"), []byte("id\n1\n"), 0o600))
	require.NoError(t, os.Symlink(filepath.Join(outside, "x.csv"), filepath.Join(inside, "link.csv")))
	require.NoError(t, os.Symlink(outside, filepath.Join(inside, "dir")))
	for _, path := range []string{filepath.Join(outside, "x.csv"), inside + "/../x.csv", "x.csv"} {
		_, err := file.New(connector.Config{Folders: []string{inside}, Settings: map[string]string{"path": path, "id": "id"}})
		require.ErrorContains(t, err, "in none of the folders", path)
	}
	for _, path := range []string{"link.csv", "dir/x.csv"} {
		c, err := file.New(connector.Config{Folders: []string{inside}, Settings: map[string]string{"path": filepath.Join(inside, path), "id": "id"}})
		require.NoError(t, err)
		_, err = c.Read(context.Background(), connector.Reading{}, &connectortest.Kept{})
		require.ErrorContains(t, err, "escapes", path)
	}
	require.NoError(t, os.MkdirAll(filepath.Join(inside, "out"), 0o700))
	require.NoError(t, os.Symlink(filepath.Join(outside, "x.csv"), filepath.Join(inside, "out", "gate-run-7-001.csv.part")))
	shape, err := record.ParseShape([]byte("shape: {id: id, userName: id}\nupload: {columns: [id]}\n"))
	require.NoError(t, err)
	for _, out := range []string{"dir", "out"} {
		c, err := file.New(connector.Config{Name: "gate", Shape: shape, Batch: "run-7", Folders: []string{inside}, Settings: map[string]string{"out": filepath.Join(inside, out)}})
		require.NoError(t, err)
		_, err = c.Write(context.Background(), connector.Write{Edits: []connector.Edit{{Native: "id", New: []string{"2"}}}})
		if out == "dir" {
			require.ErrorContains(t, err, "escapes")
		} // else what lies in the place of an unfinished file is passed over
		_ = c.(connector.Closer).Close()
		untouched, err := os.ReadFile(filepath.Join(outside, "x.csv"))
		require.NoError(t, err)
		require.Equal(t, "id\n1\n", string(untouched))
	}
	_, err = file.New(connector.Config{Settings: map[string]string{"pth": "x"}})
	require.ErrorContains(t, err, `did you mean "path"`)
}

// The file that a system's own upload takes, as the shape declares it: a row a
// change, a file for so many rows, taken up again after a crash.
func TestUpload(t *testing.T) {
	shape, err := record.ParseShape([]byte(`shape: {id: Login, userName: Login, email: Mail, displayName: Name}
upload:
  columns: [Login, {name: E-Mail, from: Mail}, Name, {name: Action, create: A, change: M, delete: D}, {name: Origin, fixed: larkspur}]
  first-lines: ["#gateway v2"]
  delimiter: ";"
  encoding: windows-1252
  clear: "<none>"
  rows: 2
`))
	require.NoError(t, err)
	again, err := record.ParseShape([]byte(shape.YAML()))
	require.NoError(t, err)
	require.Equal(t, shape, again)
	out := t.TempDir()
	connect := func() connector.Connector {
		c, err := file.New(connector.Config{Name: "mail-gate", Shape: shape, Batch: "run-7", Settings: map[string]string{"out": out}})
		require.NoError(t, err)
		return c
	}
	ctx := context.Background()
	edit := func(native string, values ...string) connector.Edit {
		return connector.Edit{Native: native, New: values}
	}
	bo := connector.Record{ID: "bo", Values: map[string][]string{"Mail": {"bo@larkspur.example"}, "Name": {"Bo; \"the cook\""}}}
	c := connect()
	_, err = c.Write(ctx, connector.Write{Edits: []connector.Edit{edit("Login", "ana"), edit("Mail", "ana@larkspur.example"), edit("Name", "Ana Peña")}})
	require.NoError(t, err)
	_, err = c.Write(ctx, connector.Write{Edits: []connector.Edit{edit("Login", "nad"), edit("Name", "Надежда")}})
	require.ErrorContains(t, err, `can't be written in windows-1252`)
	_, err = c.Write(ctx, connector.Write{Record: &bo, Edits: []connector.Edit{edit("Mail")}})
	require.NoError(t, err)
	require.NoError(t, c.(connector.Deleter).Delete(ctx, bo))
	// the node dies here; the next one goes on
	c = connect()
	require.NoError(t, c.(connector.Deleter).Delete(ctx, connector.Record{ID: "cy"}))
	require.NoError(t, c.(connector.Closer).Close())
	head := "#gateway v2\r\nLogin;E-Mail;Name;Action;Origin\r\n"
	for name, want := range map[string]string{
		"001": head + "ana;ana@larkspur.example;Ana Pe\xf1a;A;larkspur\r\nbo;<none>;\"Bo; \"\"the cook\"\"\";M;larkspur\r\n",
		"002": head + "bo;bo@larkspur.example;\"Bo; \"\"the cook\"\"\";D;larkspur\r\n",
		"003": head + "cy;;;D;larkspur\r\n",
	} {
		path := filepath.Join(out, "mail-gate-run-7-"+name+".csv")
		got, err := os.ReadFile(path)
		require.NoError(t, err)
		info, err := os.Stat(path)
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		require.Equal(t, want, string(got), name)
	}
}

// A large file is read as it was when it was opened, packed or not, whatever
// becomes of it meanwhile; one that is cut is refused.
func TestSnapshot(t *testing.T) {
	var text, packed bytes.Buffer
	text.WriteString("id,name\n")
	const n = 60000
	for i := range n {
		fmt.Fprintf(&text, "L%d,Given%d Family%d of the observatories\n", i, i, i)
	}
	z := gzip.NewWriter(&packed)
	_, err := z.Write(text.Bytes())
	require.NoError(t, errors.Join(err, z.Close()))
	require.Greater(t, text.Len(), 1<<20, "large enough to be mapped")
	dir := t.TempDir()
	path := filepath.Join(dir, "people.csv")
	for name, body := range map[string][]byte{"plain": text.Bytes(), "packed": packed.Bytes()} {
		require.NoError(t, os.WriteFile(path, body, 0o600))
		connect := func() connector.Connector {
			c, err := file.New(connector.Config{Temp: filepath.Join(dir, "temp"), Settings: map[string]string{"path": path, "id": "id"}})
			require.NoError(t, err)
			return c
		}
		c := connect()
		k := &spoiler{path: path}
		_, err := c.Read(context.Background(), connector.Reading{}, k)
		require.NoError(t, err, name)
		require.Len(t, k.Records, n, name)
		require.NoError(t, c.(connector.Closer).Close())
		require.Equal(t, "Given59999 Family59999 of the observatories", k.Records[n-1].Values["name"][0], "what was given stays when the file is let go")
		left, err := os.ReadDir(filepath.Join(dir, "temp"))
		require.NoError(t, err)
		require.Empty(t, left)
	}
	require.NoError(t, os.WriteFile(path, packed.Bytes()[:packed.Len()/2], 0o600))
	c, err := file.New(connector.Config{Settings: map[string]string{"path": path, "id": "id"}})
	require.NoError(t, err)
	_, err = c.Read(context.Background(), connector.Reading{}, &connectortest.Kept{})
	require.ErrorContains(t, err, "ends before it should")
}

// spoiler cuts the file at the first record.
type spoiler struct {
	connectortest.Kept
	path string
}

func (s *spoiler) Record(r connector.Record) error {
	if len(s.Records) == 0 {
		if err := os.Truncate(s.path, 10); err != nil {
			return err
		}
	}
	return s.Kept.Record(connector.Record{ID: r.ID, Values: r.Values})
}
