//go:build unix

package act_test

import (
	"syscall"
)

func pipe(file string) error { return syscall.Mkfifo(file, 0o600) }
