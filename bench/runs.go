package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"twinning/internal/app"
	"twinning/internal/cluster"
	"twinning/internal/service"
	"twinning/internal/store"
)

// runs measures a run of many changes, with its receipts on disk, beside a bare loop that sends
// the same requests, as many at a time; and what watching it costs.
func runs(o options) error {
	if o.sizes == "" || o.sizes == "10000,100000,1000000" {
		o.sizes = "5000,50000"
	}
	fmt.Printf("\nruns of one title each, %d at a time, over an application that answers in %d ms; limits: 0.8 of the bare loop's pace, no more per change than a small one, watched at most 1%% slower\n%9s  %9s  %9s  %9s  %12s  %9s\n",
		atATime, answerIn.Milliseconds(), "changes", "ours s", "loop s", "pace", "ms a change", "watched")
	for _, size := range strings.Split(o.sizes, ",") {
		n, err := strconv.Atoi(strings.TrimSpace(size))
		if err != nil {
			return err
		}
		if err := runsOf(n, o.rounds); err != nil {
			return err
		}
	}
	return nil
}

const (
	atATime  = 8
	answerIn = 10 * time.Millisecond
)

const runsCharter = `lane: bench
people: {from: hq}
accounts: {in: app}
mark: person.id
pairing: {keys: [{name: number, person: person.id, account: account.externalId}]}
attributes: {title: {value: person.title, rule: own}}
`

// quick is an application that keeps users in memory and answers after a fixed time. It counts
// what it is asked.
type quick struct {
	mu     sync.Mutex
	users  []map[string]any
	asked  atomic.Int64
	answer time.Duration
}

func newQuick(n int) *quick {
	q := &quick{}
	for i := range n {
		id := "u" + strconv.Itoa(i)
		q.users = append(q.users, map[string]any{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:User"}, "id": id, "externalId": runsID(i), "userName": "p" + strconv.Itoa(i), "active": true, "title": "", "meta": map[string]any{"resourceType": "User", "version": `W/"1"`}})
	}
	return q
}

func runsID(i int) string { return fmt.Sprintf("L%07d", i) }

func (q *quick) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	q.asked.Add(1)
	time.Sleep(q.answer)
	w.Header().Set("Content-Type", "application/scim+json")
	say := func(v any) { _ = json.NewEncoder(w).Encode(v) } // whoever went away does not matter
	id, one := strings.CutPrefix(r.URL.Path, "/scim/v2/Users/")
	q.mu.Lock()
	defer q.mu.Unlock()
	switch i, err := strconv.Atoi(strings.TrimPrefix(id, "u")); {
	case one && (err != nil || i >= len(q.users)):
		http.NotFound(w, r)
	case one && r.Method == http.MethodPatch:
		var body struct {
			Operations []struct {
				Path  string
				Value any
			}
		}
		if err := json.NewDecoder(r.Body).Decode(&body); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		for _, op := range body.Operations {
			q.users[i][op.Path] = op.Value
		}
		say(q.users[i])
	case one:
		say(q.users[i])
	case r.URL.Path == "/scim/v2/Users":
		start, _ := strconv.Atoi(r.URL.Query().Get("startIndex"))
		count, _ := strconv.Atoi(r.URL.Query().Get("count"))
		from := min(max(start, 1)-1, len(q.users))
		page := q.users[from:min(from+count, len(q.users))]
		say(map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:ListResponse"}, "totalResults": len(q.users), "startIndex": from + 1, "itemsPerPage": len(page), "Resources": page})
	default:
		http.NotFound(w, r)
	}
}

// overQuick opens a service whose lane has an application of so many users; end gives it back.
func overQuick(n int) (h *asker, q *quick, dir, base string, end func(), err error) {
	var ends []func()
	end = func() {
		for i := len(ends) - 1; i >= 0; i-- {
			ends[i]()
		}
	}
	defer func() {
		if err != nil {
			end()
		}
	}()
	if dir, err = os.MkdirTemp("", "twinning-bench-"); err != nil {
		return
	}
	ends = append(ends, func() { os.RemoveAll(dir) }) // best effort
	if err = os.Chmod(dir, 0o711); err != nil {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	ends = append(ends, cancel)
	db, err := cluster.Start(ctx, cluster.Config{Dir: filepath.Join(dir, "db")}) // what is committed is on disk
	if err != nil {
		return
	}
	ends = append(ends, func() { _ = db.Stop() }) // best effort
	a, err := app.Open(ctx, app.Config{DataDir: filepath.Join(dir, "data"), DatabaseURL: db.URL, Listen: "127.0.0.1:0", Files: []string{dir}, Talk: io.Discard})
	if err != nil {
		return
	}
	ends = append(ends, a.Close)
	ready, ended := make(chan string, 1), make(chan error, 1)
	go func() { ended <- a.Serve(ctx, func(address string) { ready <- address }) }()
	ends = append(ends, func() {
		cancel()
		<-ended
	})
	h = &asker{ctx: ctx, app: a, db: db.URL, lane: "bench", address: <-ready}
	if h.token, _, err = a.Service.AddToken(ctx, engineer, "admin", "bench", 1); err != nil {
		return
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return
	}
	q = newQuick(n)
	server := &http.Server{Handler: q, ReadHeaderTimeout: 10 * time.Second}
	go server.Serve(l)                                 // closed at the end
	ends = append(ends, func() { _ = server.Close() }) // best effort
	base = "http://" + l.Addr().String() + "/scim/v2"
	err = h.connect(dir, base)
	return
}

// drafting measures what a plan of many changes costs, beside copying its rows.
func drafting(o options) error {
	if o.sizes == "" || o.sizes == "10000,100000,1000000" {
		o.sizes = "100000"
	}
	fmt.Printf("\ndrafting a plan from a stored result; limit 2 beside a bare COPY of its rows\n%9s  %9s  %9s  %9s\n", "changes", "ours s", "copy s", "ratio")
	for _, size := range strings.Split(o.sizes, ",") {
		n, err := strconv.Atoi(strings.TrimSpace(size))
		if err != nil {
			return err
		}
		h, _, dir, _, end, err := overQuick(n)
		if err != nil {
			return err
		}
		var mine, bare, ratio []float64
		for round := range o.rounds {
			_, seconds, err := h.drafted(dir, n, fmt.Sprint(round))
			var copying float64
			if err == nil {
				copying, err = h.copied()
			}
			if err != nil {
				end()
				return err
			}
			mine, bare, ratio = append(mine, seconds), append(bare, copying), append(ratio, seconds/copying)
		}
		end()
		fmt.Printf("%9d  %9.2f  %9.2f  %9.2f\n", n, median(mine), median(bare), median(ratio))
	}
	return nil
}

func runsOf(n, rounds int) error {
	h, q, dir, base, end, err := overQuick(n)
	if err != nil {
		return err
	}
	defer end()
	var mine, bare, pace, watched []float64
	for round := range rounds {
		for _, watch := range []bool{round%2 == 0, round%2 == 1} { // one after the other, and in turns who is first
			plan, _, err := h.drafted(dir, n, fmt.Sprintf("%d-%t", round, watch))
			if err != nil {
				return err
			}
			before := q.asked.Load()
			q.answer = answerIn
			took, err := h.ran(plan, watch)
			q.answer = 0
			if err != nil {
				return err
			}
			if asked := q.asked.Load() - before; asked < int64(2*n) || asked > int64(2*n+10) { // it asks a few times what the application can do
				return fmt.Errorf("a run of %d changes asked %d times; the loop asks twice for each", n, asked)
			}
			if watch {
				watched = append(watched, took)
				continue
			}
			mine = append(mine, took)
		}
		q.answer = answerIn
		loop, err := bareWrites(base, n, fmt.Sprint("loop ", round))
		q.answer = 0
		if err != nil {
			return err
		}
		bare, pace = append(bare, loop), append(pace, loop/mine[len(mine)-1])
	}
	fmt.Printf("%9d  %9.2f  %9.2f  %9.2f  %12.3f  %8.1f%%\n", n, median(mine), median(bare), median(pace), 1e3*median(mine)/float64(n), 100*(median(watched)/median(mine)-1))
	return nil
}

func (h *asker) connect(dir, base string) error {
	token := "token"
	hq := store.System{Name: "hq", Kind: "file", Shape: "shape: {id: id, title: title}\nstable: true\n"}
	hq.Settings.V = map[string]string{"path": filepath.Join(dir, "hq.csv")}
	quick := store.System{Name: "app", Kind: "scim", AtOnce: atATime, Shape: "shape: {id: id, externalId: externalId, userName: userName, active: active, title: title}\nmark: externalId\nstable: true\n"}
	quick.Settings.V = map[string]string{"url": base, "page": "1000"}
	for _, x := range []store.System{hq, quick} {
		how := service.Putting{}
		if x.Kind == "scim" {
			how.Secret = &token
		}
		if _, err := h.app.Service.PutSystem(h.ctx, engineer, x, how); err != nil {
			return err
		}
	}
	if _, err := h.app.Service.SetWriting(h.ctx, engineer, "app", true, 0); err != nil {
		return err
	}
	if _, err := h.app.Service.PutCharter(h.ctx, engineer, h.lane, runsCharter, -1, ""); err != nil {
		return err
	}
	_, err := h.app.Service.SetObserving(h.ctx, engineer, h.lane, false)
	return err
}

// drafted gives everybody another title, and drafts the plan of that; seconds are the draft's.
func (h *asker) drafted(dir string, n int, title string) (p service.PlanView, seconds float64, err error) {
	var list bytes.Buffer
	list.WriteString("id,title\n")
	for i := range n {
		fmt.Fprintf(&list, "%s,Keeper %s\n", runsID(i), title)
	}
	if err := os.WriteFile(filepath.Join(dir, "hq.csv"), list.Bytes(), 0o600); err != nil {
		return p, 0, err
	}
	for _, system := range []string{"hq", "app"} {
		if _, _, err := h.task(h.app.Service.TakeRoster(h.ctx, engineer, system, service.Taking{})); err != nil {
			return p, 0, err
		}
	}
	if _, _, err := h.task(h.app.Service.Reconcile(h.ctx, engineer, h.lane, false)); err != nil {
		return p, 0, err
	}
	for busy := true; busy; {
		time.Sleep(50 * time.Millisecond)
		tasks, _, err := h.app.Service.Tasks(h.ctx, store.Page{})
		if err != nil {
			return p, 0, err
		}
		busy = false
		for _, t := range tasks {
			busy = busy || t.State == "queued" || t.State == "running"
		}
	}
	start := time.Now()
	p, later, err := h.app.Service.StartDraft(h.ctx, engineer, h.lane, service.Selection{})
	if err != nil {
		return p, 0, err
	}
	if later != nil {
		_, done, err := h.task(*later, nil)
		if err != nil {
			return p, 0, err
		}
		if p, err = h.app.Service.Plan(h.ctx, *done.Plan); err != nil {
			return p, 0, err
		}
	}
	seconds = time.Since(start).Seconds()
	if p.Total != n {
		return p, 0, fmt.Errorf("the plan has %d changes, not %d", p.Total, n)
	}
	p, err = h.app.Service.Seal(h.ctx, engineer, p.ID, p.Hash, "")
	return p, seconds, err
}

// ran carries a plan out; watched, by three who listen to the events and look at the run.
func (h *asker) ran(p service.PlanView, watched bool) (seconds float64, err error) {
	watching, cancel := context.WithCancel(h.ctx)
	defer cancel()
	start := time.Now()
	r, err := h.app.Service.StartRun(h.ctx, engineer, p.ID, p.Hash, service.RunOrder{})
	if err != nil {
		return 0, err
	}
	var all sync.WaitGroup
	defer all.Wait()
	defer cancel()
	if watched {
		for range 3 {
			all.Go(func() { h.reads(watching, fmt.Sprintf("tasks/%d/events", r.Task)) })
			all.Go(func() { h.looks(watching, p.ID, r.ID) })
		}
	}
	for {
		time.Sleep(20 * time.Millisecond)
		t, err := h.app.Service.Task(h.ctx, r.Task)
		switch {
		case err != nil:
			return 0, err
		case t.State == "finished" && t.Good == p.Total:
			return time.Since(start).Seconds(), nil
		case t.Ended != nil:
			return 0, fmt.Errorf("the run is %s: %s", t.State, t.Message)
		}
	}
}

// looks asks every two seconds what the console's page of a running plan asks: the plan, its run
// and the changes on the screen.
func (h *asker) looks(ctx context.Context, plan, run int64) {
	for ctx.Err() == nil {
		for _, what := range []string{fmt.Sprintf("plans/%d", plan), fmt.Sprintf("runs/%d", run), fmt.Sprintf("plans/%d/changes?limit=100&count=true", plan)} {
			h.reads(ctx, what)
		}
		select {
		case <-ctx.Done():
		case <-time.After(2 * time.Second):
		}
	}
}

// reads asks for something, and reads the answer to its end.
func (h *asker) reads(ctx context.Context, what string) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, h.address+"/v1/"+what, nil)
	if err != nil {
		return
	}
	r.Header.Set("Authorization", "Bearer "+h.token)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return
	}
	defer answer.Body.Close() // until it is over
	_, _ = io.Copy(io.Discard, answer.Body)
}

// bareWrites reads every user and writes their title, as many at a time, and keeps nothing.
func bareWrites(base string, n int, title string) (seconds float64, err error) {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: atATime}}
	var next atomic.Int64
	var all sync.WaitGroup
	errs := make([]error, atATime)
	start := time.Now()
	for w := range atATime {
		all.Go(func() {
			for errs[w] == nil {
				i := int(next.Add(1)) - 1
				if i >= n {
					return
				}
				at := base + "/Users/u" + strconv.Itoa(i)
				body := fmt.Sprintf(`{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[{"op":"replace","path":"title","value":%q}]}`, title)
				errs[w] = errors.Join(bareCall(client, http.MethodGet, at, ""), bareCall(client, http.MethodPatch, at, body))
			}
		})
	}
	all.Wait()
	return time.Since(start).Seconds(), errors.Join(errs...)
}

func bareCall(client *http.Client, method, at, body string) error {
	r, err := http.NewRequest(method, at, strings.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer token")
	r.Header.Set("Content-Type", "application/scim+json")
	answer, err := client.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close() // read to its end
	var user map[string]any
	if err := json.NewDecoder(answer.Body).Decode(&user); err != nil {
		return err
	}
	if answer.StatusCode != http.StatusOK {
		return fmt.Errorf("%s %s: %s", method, at, answer.Status)
	}
	return nil
}

// copied is how long a bare COPY of the newest plan's rows takes, into a table like theirs.
func (h *asker) copied() (seconds float64, err error) {
	db, err := pgx.Connect(h.ctx, h.db)
	if err != nil {
		return 0, err
	}
	defer db.Close(h.ctx) // best effort
	var rows bytes.Buffer
	if _, err := db.PgConn().CopyTo(h.ctx, &rows, `COPY (SELECT * FROM changes WHERE plan_id = (SELECT max(id) FROM plans)) TO STDOUT`); err != nil {
		return 0, err
	}
	if _, err := db.Exec(h.ctx, `DROP TABLE IF EXISTS bare_changes; CREATE TABLE bare_changes (LIKE changes INCLUDING ALL)`); err != nil {
		return 0, err
	}
	start := time.Now()
	_, err = db.PgConn().CopyFrom(h.ctx, &rows, `COPY bare_changes FROM STDIN`)
	return time.Since(start).Seconds(), err
}
