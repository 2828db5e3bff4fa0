//go:build unix

package estate

import "syscall"

func pipe(file string) error { return syscall.Mkfifo(file, 0o600) }
