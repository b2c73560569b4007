package parallel

import "sync/atomic"

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
