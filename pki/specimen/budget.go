package specimen

import (
	"runtime"
	"testing"
	"time"
)

// patience is what anything may take that a stranger can hand in. Machines are noisy:
// this is far above what is needed, and far below what a quadratic reader took.
const patience = 15 * time.Second

// Within fails a test when fn takes very long by the clock that it is given, or allocates
// more than that many octets in all. Nothing else may run beside it.
func Within(t testing.TB, now func() time.Time, what string, octets uint64, fn func()) {
	t.Helper()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	begin := now()
	fn()
	took := now().Sub(begin)
	runtime.ReadMemStats(&after)
	if took > patience {
		t.Errorf("%s took %.1f s", what, took.Seconds())
	}
	if used := after.TotalAlloc - before.TotalAlloc; used > octets {
		t.Errorf("%s allocated %d octets, more than %d", what, used, octets)
	}
}
