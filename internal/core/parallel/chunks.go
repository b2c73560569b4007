package parallel

import (
	"sync"
	"sync/atomic"
)

// Each does something for every i below n, on so many goroutines.
func Each(cores, n int, do func(i int)) {
	var next atomic.Int64
	var g Group
	for range min(max(1, cores), n) {
		g.Go(func() {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				do(i)
			}
		})
	}
	g.Wait()
}

// InChunks works through 0..n in parts on so many goroutines; begin makes what one of them
// works with.
func InChunks(cores, n int, begin func() (part func(from, to int))) {
	const chunk = 2048
	var next atomic.Int64
	var g Group
	for range min(max(1, cores), n/chunk+1) {
		g.Go(func() {
			part := begin()
			for {
				from := int(next.Add(chunk)) - chunk
				if from >= n {
					return
				}
				part(from, min(from+chunk, n))
			}
		})
	}
	g.Wait()
}

// buckets are how many parts Bucketed makes.
const buckets = 1 << 8

// Bucketed parts what 0..n give by the bucket that each is put into, on so many goroutines:
// in any order, so that each part can be sorted on a core of its own.
func Bucketed[T any](cores, n int, each func(from, to int, put func(bucket uint8, x T))) (parts [buckets][]T) {
	var mu sync.Mutex
	InChunks(cores, n, func() func(from, to int) {
		var own [buckets][]T
		put := func(bucket uint8, x T) { own[bucket] = append(own[bucket], x) }
		return func(from, to int) {
			each(from, to, put)
			mu.Lock()
			defer mu.Unlock()
			for b := range own {
				parts[b] = append(parts[b], own[b]...)
				own[b] = own[b][:0]
			}
		}
	})
	return parts
}
