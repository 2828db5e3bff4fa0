package session

import (
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// While many are signed or looked at, the heap may grow between collections, since the
// objects are small and short-lived; mostRoom is where that ends, unless more is in use.
const (
	roomyGC  = 500
	mostRoom = 156 << 20 // bytes
)

// Roomy lets the heap grow, and returns what sets everything back.
func Roomy() (back func()) {
	percent, limit := debug.SetGCPercent(roomyGC), debug.SetMemoryLimit(mostRoom)
	over, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		tick := time.NewTicker(200 * time.Millisecond)
		defer tick.Stop()
		for room := int64(mostRoom); ; {
			select {
			case <-over:
				return
			case <-tick.C:
			}
			if need := roomFor(inUse()); need > room {
				room = need
				debug.SetMemoryLimit(room)
			}
		}
	}()
	return func() {
		close(over)
		<-done
		debug.SetGCPercent(percent)
		debug.SetMemoryLimit(limit)
	}
}

// roomFor is how much memory there is to be where so much is in use: with less than half of it to spare, the program
// would do little else than collect.
func roomFor(live uint64) int64 { return max(mostRoom, int64(live/2*3)) }

// inUse is what the last collection left.
func inUse() uint64 {
	read := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(read)
	if read[0].Value.Kind() != metrics.KindUint64 {
		return 0
	}
	return read[0].Value.Uint64()
}
