package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"twinning/internal/access"
	"twinning/internal/cluster"
	"twinning/internal/connector"
	"twinning/internal/connector/file"
	"twinning/internal/core/record"
	"twinning/internal/crypt"
	"twinning/internal/service"
	"twinning/internal/store"
)

// invented is a system of n records that come as fast as they can be made.
// Every touched'th of them is another one than at the reading before.
type invented struct{ n, touched, round int }

var shape = record.Shape{Stable: true, Attributes: map[string]record.Source{
	"id": {Native: "staff_no"}, "givenName": {Native: "given_name"}, "familyName": {Native: "family_name"}, "email": {Native: "mail"},
	"title": {Native: "job_title"}, "department": {Native: "department"}, "active": {Native: "status", True: []string{"A"}, False: []string{"L"}},
}}

func (x *invented) Declare() connector.Declaration {
	return connector.Declaration{Kind: "invented", Shape: shape, Extents: []string{connector.Whole}}
}

func (x *invented) record(i int) connector.Record {
	title := "Night assistant"
	if x.touched > 0 && i%x.touched == 0 {
		title += " " + strconv.Itoa(x.round)
	}
	id := "L" + strconv.Itoa(1000000+i*7919%9000000) // in no order
	return connector.Record{ID: id, Values: map[string][]string{
		"staff_no": {id}, "given_name": {"Given" + strconv.Itoa(i%997)}, "family_name": {"Family" + strconv.Itoa(i%7919)},
		"mail": {"person" + strconv.Itoa(i) + "@larkspur.example"}, "job_title": {title}, "department": {"Science"}, "status": {"A"},
	}}
}

func (x *invented) Read(_ context.Context, _ connector.Reading, sink connector.Sink) (string, error) {
	sink.Expect(x.n)
	for i := range x.n {
		if err := sink.Record(x.record(i)); err != nil {
			return "", err
		}
	}
	return "", nil
}

func (x *invented) One(context.Context, string) (connector.Record, error) {
	return connector.Record{}, errors.ErrUnsupported
}
func (x *invented) Find(context.Context, string, string) ([]connector.Record, error) {
	return nil, errors.ErrUnsupported
}
func (x *invented) Write(context.Context, connector.Write) (connector.Record, error) {
	return connector.Record{}, errors.ErrUnsupported
}

// text renders the same rows for COPY.
func (x *invented) text() []byte {
	var b bytes.Buffer
	for i := range x.n {
		r := x.record(i)
		values, _ := json.Marshal(r.Values) // plain texts
		fmt.Fprintf(&b, "1\t%s\t1\t%s\t\\\\x%032x\n", r.ID, strings.ReplaceAll(string(values), `\`, `\\`), i)
	}
	return b.Bytes()
}

// rosters measures a roster on its way into the store beside a bare COPY of the
// same rows, into a table without an index and into one with the key that
// records need.
func rosters(o options) error {
	fmt.Printf("\nroster into the store beside a bare COPY; limit 2 for the first, 0.3 of the first for a second with 0.1 %% changed\n%10s  %9s  %9s  %9s  %9s  %11s  %9s  %9s\n", "records", "first s", "COPY s", "ratio", "keyed s", "ratio keyed", "second s", "of first")
	for _, size := range strings.Split(o.sizes, ",") {
		n, err := strconv.Atoi(strings.TrimSpace(size))
		if err != nil {
			return err
		}
		var first, bare, keyed, second, r1, r2, r3 []float64
		for range o.rounds {
			t, err := rosterRound(n)
			if err != nil {
				return err
			}
			first, bare, keyed, second = append(first, t[0]), append(bare, t[1]), append(keyed, t[2]), append(second, t[3])
			r1, r2, r3 = append(r1, t[0]/t[1]), append(r2, t[0]/t[2]), append(r3, t[3]/t[0])
		}
		fmt.Printf("%10d  %9.2f  %9.2f  %9.2f  %9.2f  %11.2f  %9.2f  %9.2f\n", n, median(first), median(bare), median(r1), median(keyed), median(r2), median(second), median(r3))
	}
	return nil
}

func rosterRound(n int) (t [4]float64, err error) {
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "twinning-bench-")
	if err != nil {
		return t, err
	}
	defer os.RemoveAll(dir) // best effort
	db, err := cluster.Start(ctx, cluster.Config{Dir: filepath.Join(dir, "db"), Volatile: true, Settings: tuned})
	if err != nil {
		return t, err
	}
	defer db.Stop() // best effort
	x := &invented{n: n, touched: 1000}
	taker, err := newTaker(ctx, db.URL, dir, x)
	if err != nil {
		return t, err
	}
	defer taker.close()
	if t[0], err = taker.take(); err != nil {
		return t, err
	}
	rows := x.text()
	for i, key := range []string{"", ", PRIMARY KEY (system_id, native_id, since)"} {
		if t[1+i], err = copyBare(ctx, db.URL, rows, key); err != nil {
			return t, err
		}
	}
	x.round++
	t[3], err = taker.take()
	return t, err
}

func copyBare(ctx context.Context, url string, rows []byte, key string) (float64, error) {
	c, err := pgx.Connect(ctx, url)
	if err != nil {
		return 0, err
	}
	defer c.Close(ctx) // the server goes with the folder
	if _, err := c.Exec(ctx, `DROP TABLE IF EXISTS bare; CREATE TABLE bare (system_id bigint, native_id text COLLATE "C", since bigint, native jsonb, digest bytea`+key+`)`); err != nil {
		return 0, err
	}
	start := time.Now()
	_, err = c.PgConn().CopyFrom(ctx, bytes.NewReader(rows), `COPY bare FROM STDIN`)
	return time.Since(start).Seconds(), err
}

// taker takes rosters of one system through the service.
type taker struct {
	ctx     context.Context
	store   *store.Store
	service *service.Service
}

var engineer = access.Caller{Name: "bench", Rights: access.All}

func newTaker(ctx context.Context, url, dir string, c connector.Connector) (*taker, error) {
	s, err := store.Open(ctx, url)
	if err != nil {
		return nil, err
	}
	keeper, err := crypt.LoadKey("", filepath.Join(dir, "key"))
	if err != nil {
		return nil, err
	}
	t := &taker{ctx, s, service.New(service.Config{Store: s, Keeper: keeper, Node: "bench", DataDir: dir, Files: []string{dir}, Connectors: map[string]connector.Factory{
		"file":     file.New,
		"invented": func(connector.Config) (connector.Connector, error) { return c, nil },
	}})}
	_, err = t.service.PutSystem(ctx, engineer, store.System{Name: "invented", Kind: "invented"}, service.Putting{})
	return t, err
}

// file reads the people of a file from now on, instead of inventing them.
func (t *taker) file(path string) error {
	x := store.System{Name: "invented", Kind: "file", Shape: shape.YAML()}
	x.Settings.V = map[string]string{"path": path}
	_, err := t.service.PutSystem(t.ctx, engineer, x, service.Putting{})
	return err
}

func (t *taker) close() { t.store.Close() }

func (t *taker) take() (seconds float64, err error) {
	task, err := t.service.TakeRoster(t.ctx, engineer, "invented", service.Taking{})
	if err != nil {
		return 0, err
	}
	start := time.Now()
	if _, err := t.service.Perform(t.ctx); err != nil {
		return 0, err
	}
	seconds = time.Since(start).Seconds()
	if task, err = t.service.Task(t.ctx, task.ID); err == nil && task.State != "finished" {
		err = errors.New(task.Message)
	}
	return seconds, err
}
