//go:build unix

package term

import "os"

// EndOfInput is what a person types at the end of what was pasted.
const EndOfInput = "Ctrl-D"

// openConsole opens the terminal, to read from and to write to.
func openConsole() (in, out *os.File, err error) {
	in, err = os.OpenFile("/dev/tty", os.O_RDWR, 0)
	return in, in, err
}

// ShowUTF8 does nothing: terminals follow their own settings.
func ShowUTF8() (restore func()) { return func() {} }

// drawsColours reports whether a terminal understands control sequences.
func drawsColours(*os.File) bool { return true }
