package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/metrics"
	"strings"
	"time"

	"twinning/bench/population"
	"twinning/internal/cluster"
)

// memory measures what a process holds while it takes a roster, the first and
// a second one, at two sizes.
func memory(options) error {
	fmt.Printf("\nmemory while reading; limit 64 MiB and 24 bytes a record (of a file, the process also shows pages of a mapped copy, which the machine may take back)\n%10s  %8s  %12s  %12s  %12s\n", "records", "from", "heap MiB", "process MiB", "limit MiB")
	for _, from := range []string{"system", "file"} {
		for _, n := range []int{10000, 1000000} {
			dir, err := os.MkdirTemp("", "twinning-bench-")
			if err != nil {
				return err
			}
			err = memoryOf(n, dir, from)
			_ = os.RemoveAll(dir) // best effort
			if err != nil {
				return err
			}
		}
	}
	return nil
}

func memoryOf(n int, dir, from string) error {
	if from == "file" {
		if err := population.Write(dir, n, 20261125); err != nil {
			return err
		}
	}
	db, err := cluster.Start(context.Background(), cluster.Config{Dir: filepath.Join(dir, "db"), Volatile: true, Settings: tuned})
	if err != nil {
		return err
	}
	defer db.Stop() // best effort
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(self, "-child", db.URL, "-n", fmt.Sprint(n)) // ourselves
	cmd.Dir = dir
	out, err := cmd.Output()
	if err != nil {
		return err
	}
	var peak [2]uint64 // of the heap in bytes, of the process in KiB
	if err := json.Unmarshal(out, &peak); err != nil {
		return err
	}
	fmt.Printf("%10d  %8s  %12.1f  %12.1f  %12.1f\n", n, from, float64(peak[0])/(1<<20), float64(peak[1])/(1<<10), 64+24*float64(n)/(1<<20))
	return nil
}

// readInChild takes two rosters and prints the peak of the heap.
func readInChild(url string, n int) error {
	x := &invented{n: n, touched: 1000}
	t, err := newTaker(context.Background(), url, workDir(), x)
	if err != nil {
		return err
	}
	defer t.close()
	if _, err := os.Stat("people.csv"); err == nil {
		if err := t.file(filepath.Join(workDir(), "people.csv")); err != nil {
			return err
		}
	}
	peak, done := make(chan uint64), make(chan struct{})
	go func() {
		sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
		var most uint64
		for {
			metrics.Read(sample)
			most = max(most, sample[0].Value.Uint64())
			select {
			case <-done:
				peak <- most
				return
			case <-time.After(5 * time.Millisecond):
			}
		}
	}()
	for range 2 {
		if _, err := t.take(); err != nil {
			return err
		}
		x.round++
	}
	close(done)
	status, err := os.ReadFile("/proc/self/status") // what the parent held is not in it
	if err != nil {
		return err
	}
	_, high, _ := strings.Cut(string(status), "VmHWM:")
	var process uint64
	if _, err := fmt.Sscan(high, &process); err != nil {
		return err
	}
	fmt.Printf("[%d, %d]\n", <-peak, process)
	runtime.KeepAlive(x)
	return nil
}

func workDir() string {
	dir, err := os.Getwd()
	if err != nil {
		return "."
	}
	return dir
}
