package main

import (
	"os"
	"syscall"
)

// memoryOf is the most memory that an ended program had, in megabytes.
func memoryOf(p *os.ProcessState) float64 {
	if u, ok := p.SysUsage().(*syscall.Rusage); ok {
		return float64(u.Maxrss) / 1024
	}
	return 0
}
