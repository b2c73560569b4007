package service

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"twinning/internal/access"
	"twinning/internal/cluster"
	"twinning/internal/connector"
	"twinning/internal/connector/file"
	"twinning/internal/core/lifecycle"
	"twinning/internal/core/record"
	"twinning/internal/crypt"
	"twinning/internal/store"
)

var (
	tester   = access.Caller{Name: "test", Rights: access.All}
	stage    *Service
	played   = &script{}
	stageURL string
)

func TestMain(m *testing.M) {
	os.Exit(func() int {
		ctx := context.Background()
		dir, err := os.MkdirTemp("", "twinning-service-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir) // best effort
		db, err := cluster.Start(ctx, cluster.Config{Dir: filepath.Join(dir, "db"), Volatile: true})
		if err != nil {
			panic(err)
		}
		defer db.Stop() // best effort
		stageURL = db.URL
		s, err := store.Open(ctx, db.URL)
		if err != nil {
			panic(err)
		}
		defer s.Close()
		if err := s.KeyTrail(ctx, []byte("a key for tests"), false); err != nil {
			panic(err)
		}
		keeper, err := crypt.LoadKey("", filepath.Join(dir, "key"))
		if err != nil {
			panic(err)
		}
		stage = New(Config{Store: s, Keeper: keeper, Node: "test", DataDir: dir, Lease: time.Second, Connectors: map[string]connector.Factory{
			"file":   file.New,
			"script": func(connector.Config) (connector.Connector, error) { return played, nil },
		}})
		return m.Run()
	}())
}

// script is a connector that plays lines to whoever reads:
//
//	ID name=… title=…     a record; @N before it is its line
//	! ID WHY              a record that can't be understood; ID - has none
//	- ID                  the system says it is gone
//	~ WHAT: WHY           hidden; "id ID" for WHAT: left out, and known by its id
//	restart               the list shifted
//	fail WHY              the reading breaks off
//	expired               the cursor is no longer good
//	hang                  the system does not answer any more
type script struct {
	lines   []string
	again   []string // what a whole reading gives after a cursor that expired
	scope   string
	shape   record.Shape
	changes bool
	hung    chan struct{}
}

func (s *script) Declare() connector.Declaration {
	d := connector.Declaration{Kind: "script", Shape: s.shape, Scope: s.scope, Extents: []string{connector.Whole, connector.Sample}}
	if s.changes {
		d.Extents = append(d.Extents, connector.Changes)
	}
	return d
}

func (s *script) Read(ctx context.Context, what connector.Reading, sink connector.Sink) (string, error) {
	lines := s.lines
	if what.Extent == connector.Whole && s.again != nil {
		lines = s.again
	}
	sink.Expect(len(lines))
	for _, l := range lines {
		if err := s.play(ctx, l, sink); err != nil {
			return "", err
		}
	}
	return fmt.Sprintf("after %d lines", len(lines)), nil
}

func (s *script) play(ctx context.Context, l string, sink connector.Sink) error {
	fault := func(kind connector.Kind, why string) error {
		return &connector.Error{Kind: kind, Doing: "read", Target: "the script", Reason: why}
	}
	line := 0
	if strings.HasPrefix(l, "@") {
		_, _ = fmt.Sscanf(l, "@%d", &line) // our own text
		_, l, _ = strings.Cut(l, " ")
	}
	first, rest, _ := strings.Cut(l, " ")
	switch first {
	case "!":
		id, why, _ := strings.Cut(rest, " ")
		if id == "-" {
			id = ""
		}
		return sink.Reject(record.Rejection{Line: line, ID: id, Reason: why})
	case "-":
		return sink.Gone(rest)
	case "~":
		what, why, _ := strings.Cut(rest, ": ")
		if id, named := strings.CutPrefix(what, "id "); named {
			return sink.LeftOut(connector.Left{Kind: record.LeftOut, ID: id, Reason: why})
		}
		return sink.LeftOut(connector.Left{Kind: record.Hidden, What: what, Reason: why})
	case "restart":
		return sink.Restart()
	case "fail":
		return fault(connector.Broken, rest)
	case "expired":
		return fault(connector.Expired, "the cursor is too old")
	case "hang":
		close(s.hung)
		<-ctx.Done()
		return ctx.Err()
	}
	r := connector.Record{ID: strings.ReplaceAll(first, `\0`, "\x00"), Line: line, Values: map[string][]string{"id": {first}}}
	for _, cell := range strings.Fields(rest) {
		name, value, _ := strings.Cut(cell, "=")
		r.Values[name] = strings.Split(strings.ReplaceAll(value, `\0`, "\x00"), "|")
	}
	return sink.Record(r)
}

func (s *script) One(context.Context, string) (connector.Record, error) {
	return connector.Record{}, errors.ErrUnsupported
}
func (s *script) Find(context.Context, string, string) ([]connector.Record, error) {
	return nil, errors.ErrUnsupported
}
func (s *script) Write(context.Context, connector.Write) (connector.Record, error) {
	return connector.Record{}, errors.ErrUnsupported
}

// take reads once and tells what came of it, in words.
func take(t *testing.T, how Taking) string {
	t.Helper()
	ctx := context.Background()
	task, err := stage.TakeRoster(ctx, tester, "script", how)
	require.NoError(t, err)
	did, err := stage.Perform(ctx)
	require.NoError(t, err)
	require.True(t, did)
	task, err = stage.Task(ctx, task.ID)
	require.NoError(t, err)
	var b strings.Builder
	fmt.Fprintf(&b, "%s: %s\n", task.State, task.Message)
	x, err := stage.Store.SystemByName(ctx, "script")
	require.NoError(t, err)
	newest, err := stage.Store.NewestRoster(ctx, x.ID)
	if err != nil {
		return b.String() + "nothing is kept\n"
	}
	if task.State == lifecycle.Finished {
		fmt.Fprintf(&b, "%s: came %d, went %d, changed %d, left out %d\n", newest.Extent, newest.Came, newest.Went, newest.Changed, newest.LeftOut)
	}
	list, err := stage.Store.AllRejections(ctx, newest.ID)
	require.NoError(t, err)
	for _, r := range list {
		fmt.Fprintf(&b, "rejected %q line %d: %s\n", r.ID, r.Line, r.Reason)
	}
	left, _, err := stage.Store.LeftOut(ctx, newest.ID, store.Page{})
	require.NoError(t, err)
	for _, l := range left {
		fmt.Fprintf(&b, "left out %s: %s\n", l.ID+l.What, l.Reason)
	}
	require.NoError(t, stage.Store.RosterRecords(ctx, x.ID, newest.ID, func(id string, native map[string][]string, _ []byte) error {
		delete(native, "id")
		fmt.Fprintf(&b, "now %s", id)
		for _, n := range slices.Sorted(maps.Keys(native)) {
			fmt.Fprintf(&b, " %s=%s", n, strings.Join(native[n], "|"))
		}
		b.WriteString("\n")
		return nil
	}))
	return b.String()
}

// What becomes of readings, as text: testdata/readings.txtar has a scenario a
// file; "take …" plays the lines below it, "want" is what is told after it.
func TestReadings(t *testing.T) {
	archive, err := txtar.ParseFile("testdata/readings.txtar")
	require.NoError(t, err)
	ctx := context.Background()
	for _, f := range archive.Files {
		t.Run(f.Name, func(t *testing.T) {
			*played = script{scope: "all", shape: scriptShape(t, "shape: {id: id, displayName: name, title: title, active: on}\n")}
			_, err := stage.PutSystem(ctx, tester, store.System{Name: "script", Kind: "script"}, Putting{})
			require.NoError(t, err)
			defer func() { require.NoError(t, stage.RemoveSystem(ctx, tester, "script")) }()
			var how *Taking
			var want, got []string
			check := func() {
				if want != nil {
					require.Equal(t, strings.Join(want, "\n"), strings.Join(got, "\n"))
				}
				want = nil
			}
			lines := bufio.NewScanner(strings.NewReader(string(f.Data)))
			for lines.Scan() {
				l := strings.TrimSpace(lines.Text())
				word, rest, _ := strings.Cut(l, " ")
				switch {
				case l == "" || strings.HasPrefix(l, "#"):
				case word == "take":
					check()
					extent, _, _ := strings.Cut(rest, " ")
					how = &Taking{Extent: extent, NewScope: strings.Contains(rest, "new-scope")}
					played.lines, played.again = []string{}, nil
				case word == "scope":
					check()
					played.scope = rest
				case word == "shape":
					check()
					played.shape = scriptShape(t, rest+"\n")
				case word == "tells":
					played.changes = true
				case l == "then":
					played.again = []string{}
				case l == "want":
					got = strings.Split(strings.TrimSpace(take(t, *how)), "\n")
					want = []string{}
				case want != nil:
					want = append(want, l)
				case played.again != nil:
					played.again = append(played.again, l)
				default:
					played.lines = append(played.lines, l)
				}
			}
			check()
		})
	}
}

func scriptShape(t *testing.T, text string) record.Shape {
	shape, err := record.ParseShape([]byte(text))
	require.NoError(t, err)
	return shape
}

// Whoever asks a reading to halt does not wait for a system that has fallen
// silent, and nothing of it is kept.
func TestHaltedReading(t *testing.T) {
	ctx := context.Background()
	*played = script{scope: "all", shape: scriptShape(t, "shape: {id: id}\n"), lines: []string{"a", "hang"}, hung: make(chan struct{})}
	_, err := stage.PutSystem(ctx, tester, store.System{Name: "script", Kind: "script"}, Putting{})
	require.NoError(t, err)
	defer func() { require.NoError(t, stage.RemoveSystem(ctx, tester, "script")) }()
	task, err := stage.TakeRoster(ctx, tester, "script", Taking{})
	require.NoError(t, err)
	go func() {
		<-played.hung
		_, _ = stage.HaltTask(ctx, tester, task.ID) // seen below
	}()
	_, err = stage.Perform(ctx)
	require.NoError(t, err)
	task, err = stage.Task(ctx, task.ID)
	require.NoError(t, err)
	require.Equal(t, lifecycle.Halted, task.State)
	list, _, err := stage.Rosters(ctx, "script", store.Page{})
	require.NoError(t, err)
	require.Equal(t, "halted", list[0].State)
	_, err = stage.HaltTask(ctx, tester, task.ID)
	require.ErrorContains(t, err, "has ended")

	// one that was asked before anybody began never begins
	task, err = stage.TakeRoster(ctx, tester, "script", Taking{})
	require.NoError(t, err)
	_, err = stage.HaltTask(ctx, tester, task.ID)
	require.NoError(t, err)
	played.lines, played.hung = []string{"a", "hang"}, make(chan struct{})
	_, err = stage.Perform(ctx)
	require.NoError(t, err)
	task, err = stage.Task(ctx, task.ID)
	require.NoError(t, err)
	require.Equal(t, lifecycle.Halted, task.State)
}

// A past day is what the rosters of that day showed; what nobody needs any
// more is forgotten, and what a roster shows is not.
func TestHistoryAndRetention(t *testing.T) {
	ctx := context.Background()
	*played = script{scope: "all", shape: scriptShape(t, "shape: {id: id, displayName: name}\n")}
	_, err := stage.PutSystem(ctx, tester, store.System{Name: "script", Kind: "script"}, Putting{})
	require.NoError(t, err)
	defer func() { require.NoError(t, stage.RemoveSystem(ctx, tester, "script")) }()
	for _, lines := range [][]string{{"a name=One", "b name=Bo"}, {"a name=Two", "b name=Bo"}, {"a name=Three", "b name=Bo"}, {"a name=Four", "c name=Cy"}} {
		played.lines = lines
		require.Contains(t, take(t, Taking{}), "finished")
	}
	x, err := stage.Store.SystemByName(ctx, "script")
	require.NoError(t, err)
	names := func(at string) (list []string) {
		h, err := stage.History(ctx, "script", "a", at)
		require.NoError(t, err)
		for _, v := range h.Versions {
			list = append(list, v.Values.V["name"][0])
		}
		return list
	}
	require.Equal(t, []string{"Four", "Three", "Two", "One"}, names(""))
	require.Equal(t, []string{"Four"}, names("2999-01-01"))
	require.Empty(t, names("1999-01-01"))
	rosters, _, err := stage.Rosters(ctx, "script", store.Page{})
	require.NoError(t, err)
	c, err := stage.CompareRosters(ctx, rosters[0].ID, Comparing{With: rosters[3].ID})
	require.NoError(t, err)
	require.Equal(t, []int{1, 1, 1}, []int{c.Came, c.Went, c.Changed})
	require.Equal(t, "displayName", c.Items[0].Attributes[0].Attribute)
	require.Equal(t, []string{"One"}, c.Items[0].Attributes[0].Old)
	only, err := stage.CompareRosters(ctx, rosters[0].ID, Comparing{With: rosters[3].ID, Kind: "went"})
	require.NoError(t, err)
	require.Equal(t, "b", only.Items[0].ID)
	s, err := stage.Statistics(ctx, rosters[0].ID)
	require.NoError(t, err)
	require.Equal(t, 1, s.Attributes[1].Changed, "since the roster before")
	kept, err := stage.Statistics(ctx, rosters[0].ID)
	require.NoError(t, err)
	require.Equal(t, s, kept)

	require.NoError(t, stage.Store.PruneRosters(ctx, x.ID, time.Now().AddDate(0, 0, -30)))
	require.Len(t, names(""), 4, "not old enough")
	require.NoError(t, stage.Store.PruneRosters(ctx, x.ID, time.Now().AddDate(0, 0, 1)))
	require.Equal(t, []string{"Four", "Three"}, names(""), "the two newest stay, with what they show")
	b, err := stage.History(ctx, "script", "b", "")
	require.NoError(t, err)
	require.Len(t, b.Versions, 1, "the third roster shows her")
}

// What goes out is what came in: bytes as they were, and references as ids.
func TestExports(t *testing.T) {
	ctx := context.Background()
	*played = script{scope: "all", shape: scriptShape(t, "shape: {id: id, displayName: name, manager: {from: boss, refers: dn}, badge: {from: badge, coding: hex}, dn: dn}\n"),
		lines: []string{"a dn=cn=a,dc=x name=Ana badge=00ff boss=CN=B,DC=X", "b dn=cn=b,dc=x name=Bo boss=cn=gone,dc=x"}}
	_, err := stage.PutSystem(ctx, tester, store.System{Name: "script", Kind: "script"}, Putting{})
	require.NoError(t, err)
	defer func() { require.NoError(t, stage.RemoveSystem(ctx, tester, "script")) }()
	take(t, Taking{})
	x, err := stage.Store.SystemByName(ctx, "script")
	require.NoError(t, err)
	newest, err := stage.Store.NewestRoster(ctx, x.ID)
	require.NoError(t, err)
	for _, c := range []struct {
		how  Exporting
		want string
	}{
		{Exporting{Columns: []string{"id", "manager", "badge"}}, "id,manager,badge\na,b,00ff\nb,\"cn=gone,dc=x\",\n"},
		{Exporting{Format: "ldif", Native: true, Columns: []string{"dn", "badge", "boss"}}, "dn: cn=a,dc=x\nbadge:: AP8=\nboss: CN=B,DC=X\n\ndn: cn=b,dc=x\nboss: cn=gone,dc=x\n"},
		{Exporting{Format: "csv", Native: true, Columns: []string{"badge", "boss"}}, "badge,boss\n00ff,\"CN=B,DC=X\"\n,\"cn=gone,dc=x\"\n"},
	} {
		e, err := stage.ExportRoster(ctx, tester, newest.ID, c.how)
		require.NoError(t, err)
		var b strings.Builder
		require.NoError(t, e.Write(&b))
		require.Equal(t, c.want, strings.TrimPrefix(strings.ReplaceAll(b.String(), "\r\n", "\n"), "version: 1\n\n"), "%+v", c.how)
	}
}
