package session

import "runtime/debug"

// While many are signed or looked at, the heap may grow between collections, since the
// objects are small and short-lived; mostRoom is where that ends.
const (
	roomyGC  = 500
	mostRoom = 164 << 20 // bytes
)

// Roomy sets both, and returns what sets them back.
func Roomy() (back func()) {
	percent, limit := debug.SetGCPercent(roomyGC), debug.SetMemoryLimit(mostRoom)
	return func() { debug.SetGCPercent(percent); debug.SetMemoryLimit(limit) }
}
