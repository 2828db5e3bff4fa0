//go:build !unix

package act_test

import "os"

func pipe(file string) error { return os.Mkdir(file, 0o700) }
