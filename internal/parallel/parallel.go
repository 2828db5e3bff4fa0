// Package parallel does the same thing many times on every core.
package parallel

import (
	"runtime"
	"sync"
)

// Counting makes a counter that several may use at once.
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

// Each runs fn for 0 to n-1 on every core.
func Each(n int, fn func(int)) {
	var wg sync.WaitGroup
	next := make(chan int, 64)
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for i := range next {
				fn(i)
			}
		})
	}
	for i := range n {
		next <- i
	}
	close(next)
	wg.Wait()
}
