package session

import (
	"runtime"
	"runtime/debug"
	"testing"
)

// What is in use has room, and what was set before is set again.
func TestRoomGrowsWithWhatIsInUse(t *testing.T) {
	if roomFor(1<<20) != mostRoom || roomFor(1<<30) != 3<<29 {
		t.Errorf("room for 1 MB: %d, for 1 GB: %d", roomFor(1<<20), roomFor(1<<30))
	}
	percent, limit := debug.SetGCPercent(100), debug.SetMemoryLimit(1<<40)
	defer func() { debug.SetGCPercent(percent); debug.SetMemoryLimit(limit) }()
	back := Roomy()
	if debug.SetMemoryLimit(-1) != mostRoom {
		t.Errorf("the limit is %d", debug.SetMemoryLimit(-1))
	}
	held := make([]byte, 1<<20)
	runtime.GC()
	if inUse() < 1<<20 {
		t.Errorf("%d octets are in use, and %d are held", inUse(), len(held))
	}
	runtime.KeepAlive(held)
	back()
	if p, l := debug.SetGCPercent(100), debug.SetMemoryLimit(-1); p != 100 || l != 1<<40 {
		t.Errorf("afterwards: %d percent, limit %d", p, l)
	}
}
