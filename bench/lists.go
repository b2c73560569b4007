package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"twinning/bench/population"
	"twinning/internal/app"
	"twinning/internal/cluster"
	"twinning/internal/service"
	"twinning/internal/store"
)

// asks is how often each list is asked for.
const asks = 40

// lists measures what people look at in the console, and why, at so many people: the first
// page from the API beside a bare indexed read of as many rows, and the reconciliation
// that it comes from.
func lists(o options) error {
	for _, size := range strings.Split(o.sizes, ",") {
		n, err := strconv.Atoi(strings.TrimSpace(size))
		if err != nil {
			return err
		}
		if err := listsOf(n); err != nil {
			return err
		}
	}
	return nil
}

func listsOf(n int) error {
	dir, err := os.MkdirTemp("", "twinning-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir) // best effort
	if err := os.Chmod(dir, 0o711); err != nil {
		return err
	}
	if err := population.WriteNoisy(dir, n, 20261125, population.Medium, population.Wide); err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	db, err := cluster.Start(ctx, cluster.Config{Dir: filepath.Join(dir, "db"), Volatile: true})
	if err != nil {
		return err
	}
	defer db.Stop() // best effort
	a, err := app.Open(ctx, app.Config{DataDir: filepath.Join(dir, "data"), DatabaseURL: db.URL, Listen: "127.0.0.1:0", Files: []string{dir}, Talk: io.Discard})
	if err != nil {
		return err
	}
	defer a.Close()
	ready, ended := make(chan string, 1), make(chan error, 1)
	go func() { ended <- a.Serve(ctx, func(address string) { ready <- address }) }()
	defer func() {
		cancel()
		<-ended
	}()
	h := &asker{ctx: ctx, app: a, db: db.URL}
	select {
	case h.address = <-ready:
	case err := <-ended:
		ended <- err
		return err
	}
	if err := h.prepare(dir, n); err != nil {
		return err
	}
	return h.measure(n)
}

// asker asks a running service.
type asker struct {
	ctx            context.Context
	app            *app.App
	db             string
	address, token string
	lane           string
	plan           int64
	rosters        [2]int64
}

func (h *asker) prepare(dir string, n int) (err error) {
	if h.token, _, err = h.app.Service.AddToken(h.ctx, engineer, "admin", "bench", 1); err != nil {
		return err
	}
	for name, file := range map[string]string{"hq": "people", "app": "accounts"} {
		shape, err := os.ReadFile("bench/noisy-" + file + "-shape.yaml")
		if err != nil {
			return err
		}
		x := store.System{Name: name, Kind: "file", Shape: string(shape)}
		x.Settings.V = map[string]string{"path": filepath.Join(dir, file+".csv")}
		if _, err := h.app.Service.PutSystem(h.ctx, engineer, x, service.Putting{}); err != nil {
			return err
		}
		seconds, done, err := h.task(h.app.Service.TakeRoster(h.ctx, engineer, name, service.Taking{}))
		if err != nil {
			return err
		}
		fmt.Printf("\nroster of %s: %.1f s", name, seconds)
		h.rosters[map[string]int{"hq": 0, "app": 1}[name]] = *done.Roster
	}
	charter, err := os.ReadFile("bench/weighing-charter.yaml")
	if err != nil {
		return err
	}
	h.lane = "bench"
	if err := h.idle(); err != nil {
		return err
	}
	if _, err := h.app.Service.PutCharter(h.ctx, engineer, h.lane, string(charter), -1, ""); err != nil {
		return err
	}
	for range 2 { // the second takes the place of the first
		if err := h.idle(); err != nil {
			return err
		}
		seconds, _, err := h.task(h.app.Service.Reconcile(h.ctx, engineer, h.lane, false))
		if err != nil {
			return err
		}
		fmt.Printf("; reconciliation: %.1f s", seconds)
	}
	if err := h.idle(); err != nil {
		return err
	}
	plan, later, err := h.app.Service.StartDraft(h.ctx, engineer, h.lane, service.Selection{})
	if err != nil {
		return err
	}
	if later != nil {
		seconds, done, err := h.task(*later, nil)
		if err != nil {
			return err
		}
		if plan, err = h.app.Service.Plan(h.ctx, *done.Plan); err != nil {
			return err
		}
		fmt.Printf("; draft of %s: %.1f s", plan.Verbs, seconds)
	}
	h.plan = plan.ID
	err = h.idle()
	fmt.Println()
	return err
}

func (h *asker) task(t store.Task, err error) (seconds float64, done store.Task, _ error) {
	if err != nil {
		return 0, t, err
	}
	start := time.Now()
	for {
		time.Sleep(20 * time.Millisecond)
		if done, err = h.app.Service.Task(h.ctx, t.ID); err != nil {
			return 0, done, err
		}
		switch done.State {
		case "finished":
			return time.Since(start).Seconds(), done, nil
		case "failed", "halted":
			return 0, done, fmt.Errorf("%s: %s", done.Kind, done.Message)
		}
	}
}

// idle waits until nothing is at work in the background.
func (h *asker) idle() error {
	start := time.Now()
	for {
		tasks, _, err := h.app.Service.Tasks(h.ctx, store.Page{})
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(tasks, func(t store.Task) bool { return t.State == "queued" || t.State == "running" }) {
			if waited := time.Since(start).Seconds(); waited > 0.1 {
				fmt.Printf("; indexes: %.1f s", waited)
			}
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
}

func (h *asker) get(path string) ([]byte, error) {
	r, err := http.NewRequestWithContext(h.ctx, http.MethodGet, h.address+"/v1"+path, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Authorization", "Bearer "+h.token)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close() // read
	body, err := io.ReadAll(answer.Body)
	if err == nil && answer.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s: %s: %s", path, answer.Status, body)
	}
	return body, err
}

// some are records and words to ask for, from all over the list.
func (h *asker) some(side string) (ids, words []string, err error) {
	db, err := pgx.Connect(h.ctx, h.db)
	if err != nil {
		return nil, nil, err
	}
	defer db.Close(h.ctx) // best effort
	rows, err := db.Query(h.ctx, `SELECT native_id, label FROM verdicts WHERE side = $1 ORDER BY md5(native_id) LIMIT $2`, side, asks)
	if err != nil {
		return nil, nil, err
	}
	for rows.Next() {
		var id, label string
		if err := rows.Scan(&id, &label); err != nil {
			return nil, nil, err
		}
		ids = append(ids, id)
		if f := strings.Fields(label); len(f) > 0 {
			words = append(words, f[len(f)-1])
		}
	}
	return ids, words, rows.Err()
}

func (h *asker) measure(n int) error {
	people, names, err := h.some("people")
	if err != nil {
		return err
	}
	accounts, _, err := h.some("accounts")
	if err != nil {
		return err
	}
	bare, err := h.bare(people)
	if err != nil {
		return err
	}
	fmt.Printf("first pages at %d people; limits: 50 ms at p95, 100 ms for a search and for why\n%-52s  %8s  %8s  %12s\n%-52s  %8.1f  %8.1f\n", n, "list", "p50 ms", "p95 ms", "of the read", "a bare indexed read of 50 rows", bare[0], bare[1])
	of := func(list []string) func() string {
		return func() string { return url.QueryEscape(list[rand.IntN(len(list))]) }
	} //nolint:gosec // no secret
	lane, plan := "/lanes/"+h.lane, fmt.Sprintf("/plans/%d/changes?", h.plan)
	none := func() string { return "" }
	for _, x := range []struct {
		what, path string
		with       func() string
	}{
		{"people", lane + "/records?side=people", none}, {"people, by name", lane + "/records?side=people&sort=name", none}, {"people, by name from the end", lane + "/records?side=people&sort=-name", none},
		{"people contested, counted", lane + "/records?side=people&state=contested&count=true", none}, {"people missing, by name", lane + "/records?side=people&state=missing&sort=name", none},
		{"people twinned, counted", lane + "/records?side=people&state=twinned&count=true", none}, {"people twinned, by name", lane + "/records?side=people&state=twinned&sort=name", none},
		{"people: search a surname", lane + "/records?side=people&q=", of(names)}, {"people: search an id", lane + "/records?side=people&q=", of(people)}, {"people: search an id, counted", lane + "/records?side=people&count=true&q=", of(people)},
		{"people contested: search an id", lane + "/records?side=people&state=contested&q=", of(people)}, {"people: search what nobody has", lane + "/records?side=people&q=zzzzqqq", none},
		{"accounts, by name", lane + "/records?side=accounts&sort=name", none}, {"accounts orphaned", lane + "/records?side=accounts&state=orphan", none}, {"accounts: search an id", lane + "/records?side=accounts&q=", of(accounts)},
		{"findings", lane + "/findings?", none}, {"findings, counted", lane + "/findings?count=true", none}, {"findings, by name", lane + "/findings?sort=name", none}, {"findings of a code, counted", lane + "/findings?code=contested-match&count=true", none},
		{"findings of a severity", lane + "/findings?severity=error", none}, {"findings: search a surname", lane + "/findings?q=", of(names)}, {"findings: search an id", lane + "/findings?q=", of(people)},
		{"questions", lane + "/questions?", none}, {"questions of a code", lane + "/questions?code=rehire", none}, {"questions: search a surname", lane + "/questions?q=", of(names)},
		{"a plan", fmt.Sprintf("/plans/%d", h.plan), none}, {"changes", plan, none}, {"changes, counted", plan + "count=true", none}, {"changes, by name", plan + "sort=name", none}, {"changes of a verb, counted", plan + "verb=create&count=true", none}, {"changes of a verb, by name", plan + "verb=set&sort=name", none},
		{"changes: search a surname", plan + "q=", of(names)}, {"changes: search an id", plan + "q=", of(people)},
		{"records of a roster", fmt.Sprintf("/rosters/%d/records?", h.rosters[0]), none}, {"records of a roster: search an id", fmt.Sprintf("/rosters/%d/records?q=", h.rosters[0]), of(people)}, {"records of a roster: search a surname", fmt.Sprintf("/rosters/%d/records?q=", h.rosters[0]), of(names)},
		{"withheld", lane + "/withheld?", none}, {"why of a person", lane + "/why?person=", of(people)}, {"why of an account", lane + "/why?account=", of(accounts)},
	} {
		var took []float64
		for range asks {
			path := x.path + x.with()
			start := time.Now()
			body, err := h.get(path)
			if err != nil {
				return err
			}
			took = append(took, 1e3*time.Since(start).Seconds())
			if !json.Valid(body) {
				return fmt.Errorf("%s: no JSON", path)
			}
		}
		p50, p95 := percentiles(took)
		fmt.Printf("%-52s  %8.1f  %8.1f  %12.1f\n", x.what, p50, p95, p95/bare[1])
	}
	return nil
}

// bare is how long an indexed read of a page takes without a service.
func (h *asker) bare(from []string) (p [2]float64, err error) {
	db, err := pgx.Connect(h.ctx, h.db)
	if err != nil {
		return p, err
	}
	defer db.Close(h.ctx) // best effort
	var took []float64
	for i := range asks {
		start := time.Now()
		rows, err := db.Query(h.ctx, `SELECT v.* FROM verdicts v WHERE reconciliation_id = (SELECT max(id) FROM reconciliations) AND side = 'people' AND native_id > $1 ORDER BY native_id LIMIT 51`, from[i%len(from)])
		if err != nil {
			return p, err
		}
		for rows.Next() {
			if _, err := rows.Values(); err != nil {
				return p, err
			}
		}
		if err := rows.Err(); err != nil {
			return p, err
		}
		took = append(took, 1e3*time.Since(start).Seconds())
	}
	p[0], p[1] = percentiles(took)
	return p, nil
}

func percentiles(list []float64) (p50, p95 float64) {
	slices.Sort(list)
	return list[len(list)/2], list[len(list)*95/100]
}
