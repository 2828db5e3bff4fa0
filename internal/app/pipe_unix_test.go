//go:build unix

package app_test

import (
	"os"
	"syscall"
)

// strange makes what is no plain file.
func strange() map[string]func(file string) error {
	return map[string]func(string) error{
		"a link":                 func(f string) error { return os.Symlink("/dev/zero", f) },
		"a link to another file": func(f string) error { return os.Symlink("/etc/hostname", f) },
		"a pipe":                 func(f string) error { return syscall.Mkfifo(f, 0o600) },
	}
}
