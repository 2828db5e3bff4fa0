package estate

import (
	"runtime"
	"sync"
	"sync/atomic"
)

// OnAllCores runs fn for 0 to n-1, as many at once as there are cores, and waits for all. One goroutine a core does
// all: its stack grows once.
func OnAllCores(n int, fn func(int)) {
	var next atomic.Int64
	var all sync.WaitGroup
	for range min(n, runtime.GOMAXPROCS(0)) {
		all.Go(func() {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				fn(i)
			}
		})
	}
	all.Wait()
}

// Counting makes a counter that several may use at once; progress may be nil.
func Counting(progress func(done int)) func() {
	var mu sync.Mutex
	done := 0
	return func() {
		mu.Lock()
		defer mu.Unlock()
		if done++; progress != nil {
			progress(done)
		}
	}
}
