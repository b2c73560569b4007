package main

import (
	"bufio"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"twinning/bench/population"
	"twinning/internal/cluster"
)

// tuned is what an engineer would set for a one-off job on two cores and 24 GiB.
var tuned = map[string]string{
	"shared_buffers": "4GB", "work_mem": "1GB", "maintenance_work_mem": "1GB", "max_parallel_workers_per_gather": "2",
	"max_wal_size": "8GB", "jit": "off", "effective_cache_size": "12GB", "checkpoint_timeout": "30min",
}

// offline measures the reconciliation of two files beside a PostgreSQL script
// that does exact keys only.
func offline(o options) error {
	dir, err := os.MkdirTemp("", "twinning-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir) // best effort
	db, err := cluster.Start(context.Background(), cluster.Config{Dir: filepath.Join(dir, "db"), Volatile: true, Settings: tuned})
	if err != nil {
		return err
	}
	defer db.Stop() // best effort
	fmt.Printf("\noffline reconciliation beside a PostgreSQL script; limits: 0.3 with keys alone, 0.4 with evidence, which the script has not\n%10s  %8s  %10s  %10s  %7s  %10s  %10s  %9s  %14s\n", "people", "pairing", "twinning s", "anchor s", "ratio", "reading s", "of reading", "peak MiB", "µs per person")
	for _, size := range strings.Split(o.sizes, ",") {
		n, err := strconv.Atoi(strings.TrimSpace(size))
		if err != nil {
			return err
		}
		files := filepath.Join(dir, size)
		if err := population.WriteNoisy(files, n, 20261125, population.Medium, population.Wide); err != nil {
			return err
		}
		if err := measure(n, o.rounds, o.binary, files, db.URL); err != nil {
			return err
		}
	}
	return nil
}

// forgetPeak gives back what making the lists took. A process begins with the peak of whoever
// started it: without this ours would be measured.
func forgetPeak() error {
	debug.FreeOSMemory()
	return os.WriteFile("/proc/self/clear_refs", []byte("5"), 0) // proc(5)
}

func measure(n, rounds int, binary, files, url string) error {
	if err := forgetPeak(); err != nil {
		return err
	}
	out := filepath.Join(files, "out")
	if err := os.MkdirAll(out, 0o750); err != nil {
		return err
	}
	ours := func(charter string) []string {
		return []string{binary, "reconcile", "--charter", charter, "--people-shape", "bench/noisy-people-shape.yaml", "--accounts-shape", "bench/noisy-accounts-shape.yaml",
			"--people", files + "/people.csv", "--accounts", files + "/accounts.csv", "--out", out}
	}
	anchor := []string{"psql", "-q", "-X", url, "-v", "people=" + files + "/people.csv", "-v", "accounts=" + files + "/accounts.csv", "-v", "twins_file=" + out + "/t.csv", "-v", "changes_file=" + out + "/c.csv", "-v", "findings_file=" + out + "/f.csv", "-f", "bench/anchor/anchor.sql"}
	ways := []*struct {
		name, charter string
		mine, ratios  []float64
		peak          int64
	}{{name: "keys", charter: "bench/charter.yaml"}, {name: "evidence", charter: "bench/weighing-charter.yaml"}, {name: "full", charter: "bench/full-charter.yaml"}}
	var theirs, bare []float64
	for range rounds {
		r, err := reading(files+"/people.csv", files+"/accounts.csv")
		if err != nil {
			return err
		}
		bare = append(bare, r)
		b, _, err := timed(anchor, 0)
		if err != nil {
			return err
		}
		theirs = append(theirs, b)
		for _, w := range ways {
			a, memory, err := timed(ours(w.charter), 3)
			if err != nil {
				return err
			}
			w.mine, w.ratios, w.peak = append(w.mine, a), append(w.ratios, a/b), max(w.peak, memory)
		}
	}
	for _, w := range ways {
		fmt.Printf("%10d  %8s  %10.2f  %10.2f  %7.3f  %10.2f  %10.1f  %9d  %14.2f\n", n, w.name, median(w.mine), median(theirs), median(w.ratios), median(bare), median(w.mine)/median(bare), w.peak>>10, 1e6*median(w.mine)/float64(n))
	}
	return nil
}

// reading is how long it takes to read the files and do nothing with them, both at once.
func reading(paths ...string) (seconds float64, err error) {
	start := time.Now()
	ended := make(chan error, len(paths))
	for _, path := range paths {
		go func() {
			f, err := os.Open(path)
			if err != nil {
				ended <- err
				return
			}
			defer f.Close() // only read
			r := csv.NewReader(bufio.NewReaderSize(f, 1<<20))
			r.ReuseRecord = true
			for err == nil {
				_, err = r.Read()
			}
			if errors.Is(err, io.EOF) {
				err = nil
			}
			ended <- err
		}()
	}
	for range paths {
		err = errors.Join(err, <-ended)
	}
	return time.Since(start).Seconds(), err
}

// timed runs a command that must exit with the code; memory is its peak in KiB.
func timed(args []string, code int) (seconds float64, memory int64, err error) {
	cmd := exec.Command(args[0], args[1:]...) // our own arguments
	var talk strings.Builder
	cmd.Stderr = &talk
	start := time.Now()
	err = cmd.Run()
	seconds = time.Since(start).Seconds()
	if cmd.ProcessState == nil || cmd.ProcessState.ExitCode() != code {
		return 0, 0, fmt.Errorf("%s: %v\n%s", args[0], err, talk.String())
	}
	usage, _ := cmd.ProcessState.SysUsage().(*syscall.Rusage)
	return seconds, usage.Maxrss, nil
}

func median(x []float64) float64 {
	x = slices.Sorted(slices.Values(x))
	return x[len(x)/2]
}
