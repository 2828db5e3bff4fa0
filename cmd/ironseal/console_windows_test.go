package main

import (
	"bytes"
	"errors"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf16"
	"unsafe"

	"golang.org/x/sys/windows"
)

// console is the program on a console of its own, as a person sees it.
type console struct {
	t       *testing.T
	keys    *os.File
	handle  windows.Handle
	process windows.Handle
	mu      sync.Mutex
	shown   bytes.Buffer
}

// onConsole starts the program on a console of 100 columns.
func (p place) onConsole(t *testing.T, args ...string) *console {
	t.Helper()
	var keysIn, keys, screen, screenOut windows.Handle
	if err := windows.CreatePipe(&keysIn, &keys, nil, 0); err != nil {
		t.Fatal(err)
	}
	if err := windows.CreatePipe(&screen, &screenOut, nil, 0); err != nil {
		t.Fatal(err)
	}
	c := &console{t: t, keys: os.NewFile(uintptr(keys), "keys")}
	if err := windows.CreatePseudoConsole(windows.Coord{X: 100, Y: 40}, keysIn, screenOut, 0, &c.handle); err != nil {
		t.Skip("there are no consoles here: ", err)
	}
	list, err := windows.NewProcThreadAttributeList(1)
	if err != nil {
		t.Fatal(err)
	}
	if err := list.Update(windows.PROC_THREAD_ATTRIBUTE_PSEUDOCONSOLE, *(*unsafe.Pointer)(unsafe.Pointer(&c.handle)),
		unsafe.Sizeof(c.handle)); err != nil {
		t.Fatal(err)
	}
	start := &windows.StartupInfoEx{ProcThreadAttributeList: list.List()}
	start.Cb = uint32(unsafe.Sizeof(*start))
	line, err := windows.UTF16PtrFromString(windows.ComposeCommandLine(append([]string{os.Args[0],
		"-test.run=^TestLaunchOnConsole$", "--", program}, args...)))
	if err != nil {
		t.Fatal(err)
	}
	dir, err := windows.UTF16PtrFromString(p.dir)
	if err != nil {
		t.Fatal(err)
	}
	var made windows.ProcessInformation
	variables := environment(append(os.Environ(), "LAUNCH_ON_CONSOLE=yes"))
	if err := windows.CreateProcess(nil, line, nil, nil, false,
		windows.EXTENDED_STARTUPINFO_PRESENT|windows.CREATE_UNICODE_ENVIRONMENT, variables, dir,
		&start.StartupInfo, &made); err != nil {
		t.Fatal(err)
	}
	c.process = made.Process
	go func() {
		b := make([]byte, 4096)
		out := os.NewFile(uintptr(screen), "screen")
		for n, err := out.Read(b); err == nil; n, err = out.Read(b) {
			c.mu.Lock()
			c.shown.Write(b[:n])
			c.mu.Unlock()
		}
	}()
	t.Cleanup(func() {
		_ = windows.TerminateProcess(c.process, 9)
		windows.ClosePseudoConsole(c.handle)
	})
	return c
}

// TestLaunchOnConsole is the program that starts another one with the console that it has itself: else that
// one would write where this test does.
func TestLaunchOnConsole(t *testing.T) {
	if os.Getenv("LAUNCH_ON_CONSOLE") == "" {
		t.Skip("another test runs it")
	}
	in, err := os.OpenFile("CONIN$", os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	out, err := os.OpenFile("CONOUT$", os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	args := os.Args[slices.Index(os.Args, "--")+1:]
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = in, out, out
	err = cmd.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		os.Exit(exit.ExitCode())
	}
	if err != nil {
		t.Fatal(err)
	}
	os.Exit(0)
}

// environment is a block of variables, each with an end, and an end of all.
func environment(list []string) *uint16 {
	var out []uint16
	for _, v := range list {
		if !strings.HasPrefix(v, "IRONSEAL_PASS") && !strings.HasPrefix(v, "IRONSEAL_ESTATE") {
			out = append(append(out, utf16.Encode([]rune(v))...), 0)
		}
	}
	return &append(out, 0)[0]
}

func (c *console) text() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.shown.String()
}

// see waits until something is shown.
func (c *console) see(want string) {
	c.t.Helper()
	until := time.Now().Add(20 * time.Second)
	for ; !strings.Contains(c.text(), want); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(until) {
			c.t.Fatalf("%q is not shown:\n%q", want, c.text())
		}
	}
}

func (c *console) press(keys string) {
	c.t.Helper()
	if _, err := c.keys.WriteString(keys); err != nil {
		c.t.Fatal(err)
	}
}

// end waits until the program has ended, and is its exit status.
func (c *console) end(within time.Duration) uint32 {
	c.t.Helper()
	if how, err := windows.WaitForSingleObject(c.process, uint32(within.Milliseconds())); err != nil || how != 0 {
		c.t.Fatalf("it has not ended within %s: %v\n%q", within, err, c.text())
	}
	var code uint32
	if err := windows.GetExitCodeProcess(c.process, &code); err != nil {
		c.t.Fatal(err)
	}
	return code
}

// A person signs at the console: the passphrase is not shown, and the sheet has colours and signs of its own.
func TestSigningAtTheConsole(t *testing.T) {
	p := harbour(t)
	number := p.send("www.ternbay.example", []string{"www.ternbay.example"})
	c := p.onConsole(t, "sign", number, "--template", "web-server", "--by", "services")
	c.see("Passphrase of services")
	c.press("tern and gull\r")
	c.see("[yes/no]")
	c.press("yes\r")
	if code := c.end(20 * time.Second); code != 0 {
		t.Errorf("exit status %d", code)
	}
	c.see("signed")
	shown := c.text()
	if strings.Contains(shown, "gull") {
		t.Error("the passphrase is shown")
	}
	if !strings.Contains(shown, "✓") || !strings.Contains(shown, "\x1b[") {
		t.Errorf("no colours, or no marks:\n%q", shown)
	}
}

// Ctrl-C ends a question at once, and nothing was done.
func TestCtrlCAtTheConsole(t *testing.T) {
	if windows.NewLazySystemDLL("ntdll.dll").NewProc("wine_get_version").Find() == nil {
		t.Skip("Wine ends a program by itself when Ctrl-C is pressed")
	}
	p := harbour(t)
	number := p.send("www.ternbay.example", []string{"www.ternbay.example"})
	for _, press := range []string{"", "tern and gull\r"} { // at the passphrase, and at the question
		c := p.onConsole(t, "sign", number, "--template", "web-server", "--by", "services")
		c.see("Passphrase of services")
		if press != "" {
			c.press(press)
			c.see("[yes/no]")
		}
		c.press("\x03")
		if code := c.end(5 * time.Second); code == 0 {
			t.Errorf("it ended well: %q", c.text())
		}
	}
	p.must("estate", "check")
	if out := p.must("request", "list"); !strings.Contains(out, number) {
		t.Errorf("the request waits no more: %s", out)
	}
}
