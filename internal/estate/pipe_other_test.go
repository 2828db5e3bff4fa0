//go:build !unix

package estate

import "os"

func pipe(file string) error { return os.Mkdir(file, 0o700) }
