package term

import (
	"bytes"
	"os"

	"golang.org/x/sys/windows"
)

// EndOfInput is what a person types at the end of what was pasted.
const EndOfInput = "Ctrl-Z and Enter"

// openConsole opens the console, to read from and to write to.
func openConsole() (in, out *os.File, err error) {
	if in, err = os.OpenFile("CONIN$", os.O_RDWR, 0); err != nil {
		return nil, nil, err
	}
	if out, err = os.OpenFile("CONOUT$", os.O_RDWR, 0); err != nil {
		in.Close()
		return nil, nil, err
	}
	return in, out, nil
}

// unicode is the code page of UTF-8.
const unicode = 65001

// ShowUTF8 lets the console understand what is written to it as UTF-8, where it does not go through the system's
// calls for text. restore sets the code page that was there.
func ShowUTF8() (restore func()) {
	was, err := windows.GetConsoleOutputCP()
	if err != nil || was == unicode || windows.SetConsoleOutputCP(unicode) != nil {
		return func() {}
	}
	return func() { _ = windows.SetConsoleOutputCP(was) }
}

// drawsColours lets a console understand control sequences; false where it cannot.
func drawsColours(f *os.File) bool {
	h := windows.Handle(f.Fd())
	var mode uint32
	if windows.GetConsoleMode(h, &mode) != nil {
		return false
	}
	const wanted = windows.ENABLE_PROCESSED_OUTPUT | windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING
	return mode&wanted == wanted || windows.SetConsoleMode(h, mode|wanted) == nil
}

// quieten lets a console show no longer what is typed; Ctrl-C still counts, and a line is a line.
func quieten(fd int) error {
	h := windows.Handle(fd)
	var mode uint32
	if err := windows.GetConsoleMode(h, &mode); err != nil {
		return err
	}
	mode &^= windows.ENABLE_ECHO_INPUT
	return windows.SetConsoleMode(h, mode|windows.ENABLE_LINE_INPUT|windows.ENABLE_PROCESSED_INPUT)
}

// readHidden reads a line from a console that was quietened.
func readHidden(f *os.File) ([]byte, error) {
	line, err := readLine(f)
	return bytes.TrimSuffix(line, []byte("\r")), err
}
