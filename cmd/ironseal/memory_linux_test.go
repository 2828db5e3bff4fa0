package main

import (
	"os"
	"runtime/debug"
	"syscall"
)

// forgetMemory gives memory back, and lets the system forget how much this program had: one that is started from it
// counts no less.
func forgetMemory() {
	debug.FreeOSMemory()
	_ = os.WriteFile("/proc/self/clear_refs", []byte("5"), 0o200) // where it cannot be, more is measured
}

// memoryOf is the most memory that an ended program had, in megabytes.
func memoryOf(p *os.ProcessState) float64 {
	if u, ok := p.SysUsage().(*syscall.Rusage); ok {
		return float64(u.Maxrss) / 1024
	}
	return 0
}
