// Package mailgate is a simulated mail gateway that knows files alone: a list
// that it gives, and upload files that somebody feeds to it by hand.
package mailgate

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Gate is the gateway with its two folders.
type Gate struct {
	List  string // the file it gives
	Inbox string // where upload files are put; loaded ones get the ending .loaded
}

var (
	listHead   = []string{"Box", "Staff", "Name", "Address", "State"}
	uploadHead = append([]string{"Action"}, listHead...)
)

// Load takes every upload file that waits, in the order of their names, and
// returns what it made of each row that it did not like.
func (g Gate) Load() (rows int, complaints []string, err error) {
	list, err := g.read()
	if err != nil {
		return 0, nil, err
	}
	files, err := filepath.Glob(filepath.Join(g.Inbox, "*.csv"))
	if err != nil {
		return 0, nil, err
	}
	slices.Sort(files)
	for _, f := range files {
		n, told, err := g.loadFile(f, &list)
		if err != nil {
			return rows, complaints, err
		}
		rows, complaints = rows+n, append(complaints, told...)
		if err := os.Rename(f, f+".loaded"); err != nil {
			return rows, complaints, err
		}
	}
	return rows, complaints, g.write(list)
}

func (g Gate) loadFile(path string, list *[][]string) (rows int, complaints []string, err error) {
	src, err := os.ReadFile(path)
	if err != nil {
		return 0, nil, err
	}
	first, rest, _ := bytes.Cut(bytes.TrimPrefix(src, []byte("\xef\xbb\xbf")), []byte("\r\n"))
	if string(first) != "#mail-gate upload 3" {
		return 0, nil, fmt.Errorf("upload file %q begins with %q where %q is wanted", path, first, "#mail-gate upload 3")
	}
	table, err := parse(rest, uploadHead)
	if err != nil {
		return 0, nil, fmt.Errorf("upload file %q: %w", path, err)
	}
	for _, row := range table {
		rows++
		at := slices.IndexFunc(*list, func(r []string) bool { return r[0] == row[1] })
		switch action := row[0]; {
		case action == "ADD" && at >= 0, action != "ADD" && at < 0:
			complaints = append(complaints, fmt.Sprintf("%s %s: there is %s box of that name", action, row[1], map[bool]string{true: "already a", false: "no"}[at >= 0]))
		case action == "ADD":
			fresh := slices.Clone(row[1:])
			if fresh[4] == "" {
				fresh[4] = "on"
			}
			*list = append(*list, fresh)
		case action == "SET":
			for i, v := range row[1:] {
				if v == "-" {
					(*list)[at][i] = ""
				} else if v != "" {
					(*list)[at][i] = v
				}
			}
		case action == "DROP":
			*list = slices.Delete(*list, at, at+1)
		default:
			complaints = append(complaints, fmt.Sprintf("%q is no action", action))
		}
	}
	return rows, complaints, nil
}

func parse(src []byte, head []string) ([][]string, error) {
	r := csv.NewReader(bytes.NewReader(src))
	r.Comma, r.FieldsPerRecord = ';', len(head)
	table, err := r.ReadAll()
	if err != nil {
		return nil, err
	}
	if len(table) == 0 || !slices.Equal(table[0], head) {
		return nil, fmt.Errorf("its columns are not %s", strings.Join(head, ";"))
	}
	return table[1:], nil
}

func (g Gate) read() ([][]string, error) {
	src, err := os.ReadFile(g.List)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	_, rest, _ := bytes.Cut(src, []byte("\r\n"))
	return parse(rest, listHead)
}

func (g Gate) write(list [][]string) error {
	var b bytes.Buffer
	b.WriteString("#mail-gate 3\r\n")
	w := csv.NewWriter(&b)
	w.Comma, w.UseCRLF = ';', true
	if err := errors.Join(w.Write(listHead), w.WriteAll(list)); err != nil {
		return err
	}
	return os.WriteFile(g.List, b.Bytes(), 0o600)
}
