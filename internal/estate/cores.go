package estate

import (
	"runtime"
	"sync"

	"golang.org/x/sync/errgroup"
)

// OnAllCores runs fn for 0 to n-1, as many at once as there are cores, and waits for all.
func OnAllCores(n int, fn func(int)) {
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i := range n {
		g.Go(func() error { fn(i); return nil })
	}
	_ = g.Wait() // fn keeps its own failures
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
