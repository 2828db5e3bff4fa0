package term

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	xterm "golang.org/x/term"
)

// Console is where a person answers.
type Console interface {
	// Line asks a question and reads a line.
	Line(ctx context.Context, prompt string) (string, error)
	// Secret asks a question and reads a line that is not shown.
	Secret(ctx context.Context, prompt string) ([]byte, error)
}

// ErrNoTerminal says that there is no terminal to ask at.
var ErrNoTerminal = errors.New("there is no terminal to ask on")

// Device is the terminal device itself, so that questions can be asked even
// while standard input carries a request.
type Device struct{}

func openDevice() (in, out *os.File, err error) {
	in, out, err = openConsole()
	if err != nil || !xterm.IsTerminal(int(in.Fd())) {
		return nil, nil, ErrNoTerminal
	}
	return in, out, nil
}

// Line implements Console.
func (Device) Line(ctx context.Context, prompt string) (string, error) {
	in, out, err := openDevice()
	if err != nil {
		return "", err
	}
	fmt.Fprint(out, prompt)
	text, err := aside(ctx, func() ([]byte, error) { return readLine(in) })
	return strings.TrimSpace(string(text)), err
}

// Secret implements Console. When the context ends while it waits, the
// terminal's echo is restored first.
func (Device) Secret(ctx context.Context, prompt string) ([]byte, error) {
	in, out, err := openDevice()
	if err != nil {
		return nil, err
	}
	state, err := xterm.GetState(int(in.Fd()))
	if err != nil {
		return nil, err
	}
	if err := quieten(int(in.Fd())); err != nil { // before the prompt is seen: a paste comes at once
		return nil, err
	}
	fmt.Fprint(out, prompt)
	secret, err := aside(ctx, func() ([]byte, error) { return readHidden(in) })
	if restoring := xterm.Restore(int(in.Fd()), state); err == nil {
		err = restoring
	}
	fmt.Fprintln(out)
	return secret, err
}

// aside reads without keeping the caller from noticing that it should stop.
func aside(ctx context.Context, read func() ([]byte, error)) ([]byte, error) {
	type result struct {
		b   []byte
		err error
	}
	done := make(chan result, 1)
	go func() {
		b, err := read()
		done <- result{b, err}
	}()
	select {
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	case r := <-done:
		if r.err == nil {
			return r.b, nil
		}
		select { // Ctrl-C ends the reading on some systems before it is heard of
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-time.After(100 * time.Millisecond):
			return r.b, r.err
		}
	}
}

// longestAnswer bounds what is read of one line, in bytes.
const longestAnswer = 4096

func readLine(r io.Reader) ([]byte, error) {
	out := make([]byte, 0, longestAnswer) // it never moves: a secret leaves no copies
	one := make([]byte, 1)
	for len(out) < longestAnswer {
		n, err := r.Read(one)
		if n == 1 && one[0] == '\n' {
			return out, nil
		}
		if err != nil {
			return out, err
		}
		out = append(out, one[:n]...)
	}
	return out, nil
}

// Progress shows that long work is going on: elapsed seconds on a terminal, one
// line elsewhere. The function it returns ends it.
func (s *Screen) Progress(what string) (done func()) {
	begin := time.Now()
	if !s.Terminal {
		s.Say("%s …", what)
		return func() { s.Say("done after %.1f s", time.Since(begin).Seconds()) }
	}
	stop, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		tick := time.NewTicker(200 * time.Millisecond)
		defer tick.Stop()
		for {
			fmt.Fprintf(s.out, "\r%s … %.0f s ", what, time.Since(begin).Seconds())
			select {
			case <-stop:
				return
			case <-tick.C:
			}
		}
	}()
	return func() {
		close(stop)
		<-stopped
		fmt.Fprintf(s.out, "\r%s: %.1f s   \n", what, time.Since(begin).Seconds())
	}
}

// Counter shows on a terminal how many of many are done.
func (s *Screen) Counter(what string, total int) (count func(done int), stop func()) {
	var last time.Time
	return func(done int) {
			if now := time.Now(); done == total || now.Sub(last) > 100*time.Millisecond {
				last = now
				fmt.Fprintf(s.out, "\r%s %d of %d ", what, done, total)
			}
		}, func() {
			fmt.Fprint(s.out, "\r", strings.Repeat(" ", len(what)+24), "\r")
		}
}

// Clipboard puts text on the clipboard through the terminal, by the control
// sequence OSC 52, which works through remote sessions too.
func (s *Screen) Clipboard(text []byte) error {
	if !s.Terminal {
		return ErrNoTerminal
	}
	_, err := fmt.Fprintf(s.out, "\x1b]52;c;%s\a", base64.StdEncoding.EncodeToString(text))
	return err
}
