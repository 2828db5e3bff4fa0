package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"ironseal/pki/bundle"
	"ironseal/pki/specimen"
)

// detach gives the program a session without a terminal.
func detach(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }

// terminal is a program that runs on a terminal of its own.
type terminal struct {
	t      *testing.T
	cmd    *exec.Cmd
	master *os.File
	slave  *os.File
	out    chan []byte
	seen   string
}

func (p place) onTerminal(t *testing.T, stdin io.Reader, args ...string) *terminal {
	t.Helper()
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR, 0)
	if err != nil {
		t.Skip("no terminals here: ", err)
	}
	if err := unix.IoctlSetPointerInt(int(master.Fd()), unix.TIOCSPTLCK, 0); err != nil {
		t.Fatal(err)
	}
	n, err := unix.IoctlGetInt(int(master.Fd()), unix.TIOCGPTN)
	if err != nil {
		t.Fatal(err)
	}
	slave, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = p.dir, append(append(os.Environ(), "IRONSEAL_PASSPHRASE_FILE=", "TERM=dumb"), p.env...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	if stdin != nil {
		cmd.Stdin = stdin
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true, Ctty: 1}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Kill(); master.Close(); slave.Close() })
	x := &terminal{t: t, cmd: cmd, master: master, slave: slave, out: make(chan []byte, 1000)}
	go func() {
		for {
			buf := make([]byte, 4096)
			n, err := master.Read(buf)
			if n > 0 {
				x.out <- buf[:n]
			}
			if err != nil {
				close(x.out)
				return
			}
		}
	}()
	return x
}

// expect waits until the program has shown a text.
func (x *terminal) expect(text string) {
	x.t.Helper()
	deadline := time.After(30 * time.Second)
	wanted := regexp.MustCompile(strings.ReplaceAll(regexp.QuoteMeta(text), " ", `\s+`)) // lines are wrapped anywhere
	for !wanted.MatchString(x.seen) {
		select {
		case b, open := <-x.out:
			x.seen += string(b)
			if !open {
				x.t.Fatalf("waiting for %q, the terminal closed; seen:\n%s", text, x.seen)
			}
		case <-deadline:
			x.t.Fatalf("waiting for %q; seen:\n%s", text, x.seen)
		}
	}
	x.seen = x.seen[wanted.FindStringIndex(x.seen)[1]:]
}

func (x *terminal) send(text string) { fmt.Fprint(x.master, text) }

func (x *terminal) echoes() bool {
	state, err := unix.IoctlGetTermios(int(x.slave.Fd()), unix.TCGETS)
	if err != nil {
		x.t.Fatal(err)
	}
	return state.Lflag&unix.ECHO != 0
}

// silent demands that what is typed is shown no longer, as soon as a prompt is seen: a
// pasted passphrase comes at once.
func (x *terminal) silent() {
	x.t.Helper()
	if x.echoes() {
		x.t.Error("a passphrase would be shown while it is typed")
	}
}

func (x *terminal) wait() int {
	err := x.cmd.Wait()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return exit.ExitCode()
	}
	return 0
}

// A whole evening at the terminal: passphrases chosen and mistyped, a question
// answered, a request on standard input.
func TestAtATerminal(t *testing.T) {
	p := harbour(t)
	p.env = nil
	x := p.onTerminal(t, nil, "authority", "create", "ships", "--under", "root", "--key", "ecdsa-p256")
	x.expect("Passphrase of root")
	x.send("wrong\n")
	x.expect("Wrong passphrase for root")
	x.send("tern and gull\n")
	x.expect("Choose a passphrase for ships:")
	x.send("\n")
	x.expect("protects nothing")
	x.expect("Choose a passphrase for ships:")
	x.silent()
	x.send("puffin\n")
	x.expect("Once more:")
	x.send("razorbill\n")
	x.expect("The two differ")
	x.expect("Choose a passphrase for ships:")
	x.send("puffin\n")
	x.expect("Once more:")
	x.send("puffin\n")
	x.expect("Review sheet")
	x.expect("Make ships as shown, until ")
	x.send("yes\n")
	x.expect("made")
	if code := x.wait(); code != 0 {
		t.Errorf("exit status %d", code)
	}

	in, err := os.Open(p.file("../paste", bundle.PEM(bundle.Request,
		specimen.Request(t, nil, "CN=a.ternbay.example", []string{"a.ternbay.example"}).Raw)))
	if err != nil {
		t.Fatal(err)
	}
	x = p.onTerminal(t, in, "sign", "-", "--template", "web-server", "--by", "services")
	x.expect("Passphrase of services")
	x.send("tern and gull\n")
	x.expect(" as shown: 1 name, until ")
	x.send("yes\n")
	x.expect("signed")
	if code := x.wait(); code != 0 {
		t.Errorf("exit status %d", code)
	}
}

func TestDraftingByAnsweringQuestions(t *testing.T) {
	p := harbour(t)
	x := p.onTerminal(t, nil, "request", "draft", "--out", "..")
	for _, step := range [][2]string{{"full name", "shop.ternbay.example"}, {"on the inside", "quay.ternbay.example"},
		{"What runs there?", "wbe"}, {"not in the table", "web gateway"},
		{"Another name", "192.0.2.80"}, {"Another name", ""}, {"Leave out which?", "9"},
		{"not one of the numbers", "3"}, {"Key kind", ""}, {"Write it?", "yes"}} {
		x.expect(step[0])
		x.send(step[1] + "\n")
	}
	if code := x.wait(); code != 0 {
		t.Fatalf("exit status %d", code)
	}
	p.must("request", "receive", "../shop.ternbay.example.request.pem")
	out := p.must("request", "show", "R1", "--json")
	for _, name := range []string{"shop.ternbay.example", "shop.quay.ternbay.example", "www.shop.ternbay.example",
		"192.0.2.80"} {
		if !strings.Contains(out, name) {
			t.Errorf("%s is not in the request", name)
		}
	}
	if strings.Contains(out, "vpn.ternbay.example") {
		t.Error("a name that was left out is in the request")
	}
}

// Each level of a cascade has its own sheet, consent and passphrases; declining
// one keeps what was done before it, and the next run goes on there.
func TestCascadeAsksAtEveryLevel(t *testing.T) {
	p := harbour(t)
	env := p.env
	p.env = nil
	x := p.onTerminal(t, nil, "authority", "renew", "root", "--cascade")
	for _, step := range [][2]string{{"Passphrase of root.g1, to sign a certificate", "tern and gull"},
		{"Choose a passphrase for root", "gannet and gull"}, {"Once more", "gannet and gull"},
		{"Renew root as shown", "yes"},
		{"Passphrase of root", "gannet and gull"}, {"Choose a passphrase for services", "petrel"},
		{"Once more", "petrel"}, {"renewal of services", ""}, {"Renew services as shown", "no"}} {
		x.expect(step[0])
		if step[1] != "" {
			x.send(step[1] + "\n")
		}
	}
	x.expect("continue: ironseal authority renew root --cascade")
	if code := x.wait(); code != 3 {
		t.Errorf("exit status %d", code)
	}
	x = p.onTerminal(t, nil, "authority", "renew", "root", "--cascade")
	x.expect("was renewed already")
	for _, step := range [][2]string{{"Passphrase of root, to sign a certificate", "gannet and gull"},
		{"Choose a passphrase for services", "petrel"}, {"Once more", "petrel"}, {"Renew services as shown", "yes"}} {
		x.expect(step[0])
		x.send(step[1] + "\n")
	}
	if code := x.wait(); code != 0 {
		t.Errorf("exit status %d", code)
	}
	p.env = env
	if out := p.must("authority", "list"); !strings.Contains(out, "root g2") || !strings.Contains(out, "services g2") ||
		strings.Contains(out, "root g3") {
		t.Error(out)
	}
	p.must("estate", "check")
}

func TestDecliningAtTheSheet(t *testing.T) {
	p := harbour(t)
	n := p.send("a.ternbay.example", []string{"a.ternbay.example"})
	x := p.onTerminal(t, nil, "sign", n, "--template", "web-server")
	x.expect("[yes/no]")
	x.send("no\n")
	x.expect("declined")
	if code := x.wait(); code != 3 {
		t.Errorf("exit status %d, want 3", code)
	}
	if out := p.must("request", "list", "--quiet"); strings.TrimSpace(out) != n {
		t.Errorf("the request should still wait: %q", out)
	}
}

func TestCtrlCAtAPromptRestoresTheTerminal(t *testing.T) {
	p := harbour(t)
	n := p.send("a.ternbay.example", []string{"a.ternbay.example"})
	p.env = nil
	x := p.onTerminal(t, nil, "sign", n, "--template", "web-server", "--yes")
	x.expect("Passphrase of services")
	x.silent()
	x.send("half a pass\x03")
	if code := x.wait(); code == 0 {
		t.Error("Ctrl-C must not count as an answer")
	}
	if !x.echoes() {
		t.Error("the terminal no longer echoes")
	}
	if out := p.must("request", "list", "--quiet"); strings.TrimSpace(out) != n {
		t.Errorf("the request should still wait: %q", out)
	}
}

func TestCtrlCWhileAKeyIsMade(t *testing.T) {
	p := harbour(t)
	x := p.onTerminal(t, nil, "authority", "create", "slow", "--under", "root", "--key", "rsa-4096", "--yes")
	x.expect("making a key of kind rsa-4096")
	x.send("\x03")
	x.expect("nothing was kept")
	if code := x.wait(); code != 1 {
		t.Errorf("exit status %d", code)
	}
	keys, err := filepath.Glob(filepath.Join(p.dir, "keys", "*"))
	if err != nil || len(keys) != 2 {
		t.Errorf("%d key files, %v", len(keys), err)
	}
	if out := p.must("authority", "list", "--quiet"); strings.Contains(out, "slow") {
		t.Error("a half made authority is on record")
	}
}

// nobody is a user who owns nothing.
const nobody = 65534

func TestReadOnlyDirectory(t *testing.T) {
	p := harbour(t)
	outside := filepath.Dir(p.dir)
	n := p.send("a.ternbay.example", []string{"a.ternbay.example"})
	credential := &syscall.Credential{Uid: uint32(os.Getuid()), Gid: uint32(os.Getgid())}
	if os.Getuid() == 0 { // the superuser writes anywhere
		credential = &syscall.Credential{Uid: nobody, Gid: nobody}
		for _, d := range []string{outside, filepath.Dir(outside)} {
			if err := os.Chmod(d, 0o755); err != nil {
				t.Fatal(err)
			}
		}
		err := filepath.Walk(outside, func(path string, _ os.FileInfo, err error) error {
			return errors.Join(err, os.Lchown(path, nobody, nobody))
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, d := range []string{filepath.Join(p.dir, "keys"), p.dir, outside} {
		if err := os.Chmod(d, 0o500); err != nil {
			t.Fatal(err)
		}
		defer os.Chmod(d, 0o700)
	}
	for args, word := range map[string]string{
		"estate create ../new":                       "cannot be written",
		"authority create x --under root --yes":      "cannot be written",
		"sign " + n + " --template web-server --yes": "cannot be written",
		"request decline " + n + " --because trying": "cannot be written",
		"authority export root --out ../root.pem":    "cannot be written",
		"request draft d.ternbay.example --out ../d": "cannot be written",
	} {
		t.Run(args, func(t *testing.T) {
			cmd := exec.Command(program, strings.Fields(args)...)
			cmd.Dir, cmd.Env = p.dir, append(os.Environ(), p.env...)
			cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Credential: credential}
			out, err := cmd.CombinedOutput()
			if err == nil || !strings.Contains(string(out), word) {
				t.Errorf("%s: %v\n%s", args, err, out)
			}
		})
	}
	keys, _ := filepath.Glob(filepath.Join(p.dir, "keys", "*"))
	if len(keys) != 2 {
		t.Errorf("%d key files", len(keys))
	}
}

// lock holds a file the way a program does that is making it.
func lock(t *testing.T, f *os.File) {
	t.Helper()
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX); err != nil {
		t.Fatal(err)
	}
}
