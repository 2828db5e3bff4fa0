package main

import (
	"bytes"
	"debug/elf"
	"fmt"
	"ironseal/internal/disk/inmemory"
	"ironseal/internal/store/onserver"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"
	"time"

	"ironseal/pki/bundle"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/specimen"
)

// program is the built program.
// program is the built program; scratch is a directory for all tests.
var program, scratch string

func TestMain(m *testing.M) {
	inmemory.Prefer()
	dir, err := os.MkdirTemp("", "ironseal-test-*")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	scratch, program = dir, filepath.Join(dir, "ironseal")
	if runtime.GOOS == "windows" {
		program += ".exe"
	}
	if err := os.Chmod(dir, 0o755); err != nil { // one test runs it as another user
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	build := exec.Command("go", "build", "-o", program, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if os.Getenv("IRONSEAL_RACE") != "" { // the program itself looks for data races
		build = exec.Command("go", "build", "-race", "-o", program, ".")
	}
	if built := os.Getenv("IRONSEAL_PROGRAM"); built != "" { // where there is no compiler
		program = built
	} else if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%v\n%s", err, out)
		os.Exit(1)
	}
	code := onserver.Run(m)
	os.RemoveAll(dir)
	os.Exit(code)
}

// long marks a test that keeps a processor for more than ten seconds.
func long(t testing.TB) {
	t.Helper()
	if !thorough() {
		t.Skip("it takes long: it runs under CI=true, or with IRONSEAL_LONG=yes")
	}
}

// thorough reports whether tests that can try less try everything: under CI=true, or with IRONSEAL_LONG=yes.
func thorough() bool { return os.Getenv("CI") == "true" || os.Getenv("IRONSEAL_LONG") != "" }

func TestDemoEndsWell(t *testing.T) {
	t.Parallel()
	p := place{t: t, dir: t.TempDir()}
	begin := time.Now()
	out := p.must("demo", "play")
	t.Logf("the demo took %.1f s", time.Since(begin).Seconds())
	for _, want := range []string{"$ ironseal authority create root", "Review sheet: R1", "✓ valid", "✗ not valid",
		"as booking.ternbay.example: trusted", "as tickets.ternbay.example: refused", "Journal intact"} {
		if !strings.Contains(out, want) {
			t.Errorf("the demo does not show %q", want)
		}
	}
	if strings.Contains(out, "\x1b") {
		t.Error("escapes reach a pipe")
	}
	p.dir = filepath.Join(p.dir, "play", "harbour")
	p.env = []string{"IRONSEAL_PASSPHRASE_FILE=../passphrase.txt"}
	p.must("sign", "R5", "--template", "web-server", "--yes")
	if r := (place{t: t, dir: filepath.Dir(p.dir)}).run("", "demo", "."); r.code != 1 ||
		!strings.Contains(r.errors, "not empty") {
		t.Errorf("a second demo in the same place: %+v", r)
	}
}

func TestProgramIsStaticallyLinked(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" {
		t.Skip("reads ELF")
	}
	f, err := elf.Open(program)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for _, s := range f.Progs {
		if s.Type == elf.PT_INTERP {
			t.Error("it asks for a dynamic linker")
		}
	}
	if libs, _ := f.ImportedLibraries(); len(libs) > 0 {
		t.Errorf("it asks for %v", libs)
	}
}

func TestColourOnlyWhereItIsWanted(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	for args, want := range map[string]bool{"authority list": false, "authority list --color always": true,
		"authority list --color never": false} {
		t.Run(args, func(t *testing.T) {
			p := p.with(t)
			if got := strings.Contains(p.must(strings.Fields(args)...), "\x1b["); got != want {
				t.Errorf("%s: escapes %v", args, got)
			}
		})
	}
	if r := p.run("", "authority", "list", "--color", "blue"); r.code != 2 {
		t.Errorf("%+v", r)
	}
}

func TestVersionTellsTheBuild(t *testing.T) {
	t.Parallel()
	if out := (place{t: t, dir: t.TempDir()}).must("--version"); !regexp.MustCompile(
		`^ironseal \S+ \(.*\), go1\.\d+`).MatchString(out) {
		t.Errorf("%q", out)
	}
}

// What a newcomer reads must name the next command at every step.
func TestEveryStepNamesTheNext(t *testing.T) {
	t.Parallel()
	p := place{t: t, dir: t.TempDir()}
	if out := p.must("estate", "create", "harbour"); !strings.Contains(out, "ironseal authority create root") {
		t.Error(out)
	}
	p.dir += "/harbour"
	if out := p.must("estate", "status"); !strings.Contains(out, "ironseal authority create root") {
		t.Error(out)
	}
	p.env = []string{"IRONSEAL_PASSPHRASE_FILE=" + p.file("../pass", []byte("x\n"))}
	if out := p.must("authority", "create", "root", "--yes", "--key", "ecdsa-p256"); !strings.Contains(out,
		"authority create services --under root") {
		t.Error(out)
	}
	p.must("authority", "create", "services", "--under", "root", "--yes", "--key", "ecdsa-p256")
	if out := p.must("estate", "status"); !strings.Contains(out, "ironseal request receive") {
		t.Error(out)
	}
	n := p.send("a.ternbay.example", []string{"a.ternbay.example"})
	if out := p.must("estate", "status"); !strings.Contains(out, "ironseal sign "+n) {
		t.Error(out)
	}
	if out := p.must("sign", n, "--template", "web-server", "--yes"); !strings.Contains(out,
		"certificate export "+n+" --with issuers") {
		t.Error(out)
	}
}

// Bad input gets a line or two that name the object, and the right status.
func TestBadInput(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	good := bundle.PEM(bundle.Request, specimen.Request(t, nil, "CN=a.ternbay.example",
		[]string{"a.ternbay.example"}).Raw)
	raw := specimen.Request(t, nil, "CN=b.ternbay.example", nil).Raw
	raw[len(raw)-5] ^= 1
	weak := specimen.Request(t, nil, "CN=ca.ternbay.example", []string{"ca.ternbay.example"},
		ext.Basic{Authority: true, PathLength: -1}.Extension())
	p.file("../forged.der", raw)
	p.file("../cut.pem", good[:len(good)/2])
	p.file("../noise", bytes.Repeat([]byte{0xfe, 1, 2, 0x99}, 2_500_000))
	p.file("../text", []byte("Dear all, the request is attached."))
	p.file("../ca.pem", bundle.PEM(bundle.Request, weak.Raw))
	p.file("../empty", nil)
	signer := specimen.Key(t, key.P256)
	plain, err := key.Plain(signer)
	if err != nil {
		t.Fatal(err)
	}
	p.file("../key.pem", bundle.PEM(bundle.PrivateKey, plain))
	p.must("request", "receive", "../ca.pem")
	p.file("templates/odd.toml", []byte("title = \"odd\"\nlifetim = \"5d\"\n"))
	for _, c := range []struct {
		what string
		args string
		code int
		word string
	}{
		{"not a request", "request receive ../text", 1, "../text: there is no certificate, request or key in it"},
		{"truncated", "request receive ../cut.pem", 1, "cut short"},
		{"forged", "request receive ../forged.der", 1, "possession of the key is not proven"},
		{"noise", "request receive ../noise", 1, "../noise"},
		{"empty", "request receive ../empty", 1, "it is empty"},
		{"a private key", "request receive ../key.pem", 1, "a private key stays on its machine"},
		{"missing file", "request receive ../nowhere", 1, "no such file"},
		{"asks to be an authority", "sign R1 --template web-server --yes", 3, "asks-for-authority"},
		{"no such request", "sign R77 --template web-server", 1, "R77: there is no such request"},
		{"no such template", "sign R1 --template web-servr", 1, `did you mean "web-server"`},
		{"unknown template key", "template show odd", 1,
			`templates/odd.toml:2:1: unknown key "lifetim"; did you mean "lifetime"?`},
		{"not a name", "sign R1 --template web-server --add-name a..b", 2, `"a..b" is not a name`},
		{"not a subject", "sign R1 --template web-server --subject booking", 2, "TYPE=VALUE"},
		{"not a lifetime", "sign R1 --template web-server --lifetime soon", 2, "not a lifetime"},
		{"not a key kind", "authority create x --key rsa-1024", 2, "not a key kind"},
		{"directory for a file", "verify ..", 1, "this is a directory"},
		{"missing estate", "estate status --estate ../nowhere", 1, "there is no estate here"},
		{"unknown command", "sing R1", 2, "sing"},
		{"unknown subcommand", "request sign", 2, "no command"},
		{"unknown flag", "sign R1 --tempalte x", 2, "tempalte"},
		{"argument missing", "request show", 2, "needs a request"},
		{"waiver without reason", "sign R1 --template web-server --waive asks-for-authority", 2, "--because"},
		{"waiver of nothing", "sign R1 --template web-server --waive no-such-code --because x", 2,
			"no finding of this code"},
		{"clock moved for an act", "sign R1 --template web-server --as-of 2030-01-01", 2, "--as-of"},
		{"nobody to ask", "sign R1 --template client --waive asks-for-authority --because firmware", 2, "--yes"},
		{"estate twice", "estate create .", 1, "there is an estate already"},
		{"decline without reason", "request decline R1", 2, "--because"},
	} {
		t.Run(c.what, func(t *testing.T) {
			p := p.with(t)
			before := p.must("journal", "list", "--count", "0", "--json")
			r := p.run("", strings.Fields(c.args)...)
			if r.code != c.code || !strings.Contains(r.errors, c.word) {
				t.Errorf("%s: status %d, want %d; %q; want %q", c.what, r.code, c.code, r.errors, c.word)
			}
			if lines := strings.Count(r.errors, "\n"); lines > 3 {
				t.Errorf("%s: %d lines of error:\n%s", c.what, lines, r.errors)
			}
			if after := p.must("journal", "list", "--count", "0", "--json"); after != before {
				t.Errorf("%s: the records changed", c.what)
			}
		})
	}
	two := p.run(string(good)+"\n"+string(bundle.PEM(bundle.Request,
		specimen.Request(t, nil, "CN=c.example", nil).Raw)), "request", "receive", "-", "--json")
	if two.code != 0 || strings.Count(two.out, `"request"`) != 2 {
		t.Errorf("two requests in one paste: %+v", two)
	}
}

func TestHostileTextIsShownEscapedAndNamesNoPath(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	for i, cn := range []string{"../../etc/x", `a\1b[31mred`, `gate\E2\80\AEelpmaxe`, `two\0alines`} {
		n := p.send(cn, []string{fmt.Sprintf("h%d.ternbay.example", i)})
		for _, args := range [][]string{{"request", "show", n}, {"request", "list"}, {"request", "show", n, "--json"},
			{"sign", n, "--template", "web-server", "--waive", "hostile-text", "--because", "trying", "--yes"}} {
			r := p.run("", args...)
			for _, bad := range []string{"\x1b[31m", "\u202e", "two\nlines"} {
				if strings.Contains(r.out+r.errors, bad) {
					t.Errorf("%v shows %q raw", args, bad)
				}
			}
		}
		out := filepath.Join(filepath.Dir(p.dir), "out")
		p.run("", "certificate", "export", n, "--out", out+"/", "--yes")
	}
	found := 0
	filepath.Walk(filepath.Join(filepath.Dir(p.dir), "out"), func(path string, info os.FileInfo, err error) error {
		if err == nil && !info.IsDir() {
			found++
			if strings.ContainsAny(filepath.Base(path), "\x1b\n\u202e") || strings.Count(path, "etc") > 0 &&
				filepath.Base(path) != "etc-x.certificate.pem" {
				t.Errorf("file %q", path)
			}
		}
		return nil
	})
	if found == 0 {
		t.Error("nothing was exported")
	}
}

func TestFiveThousandNames(t *testing.T) {
	long(t)
	t.Parallel()
	p := harbour(t)
	var names []string
	for i := range 5000 {
		names = append(names, fmt.Sprintf("h%d.ternbay.example", i))
	}
	n := p.send("h0.ternbay.example", names)
	r := p.run("", "sign", n, "--template", "web-server", "--yes")
	if r.code != 3 || !strings.Contains(r.errors, "many-names") || strings.Count(r.out, "\n") > 100 {
		t.Errorf("status %d, %d lines: %s", r.code, strings.Count(r.out, "\n"), r.errors)
	}
	if show := p.must("request", "show", n); strings.Count(show, "\n") > 60 ||
		!strings.Contains(show, "and 4988 more") {
		t.Errorf("show has %d lines", strings.Count(show, "\n"))
	}
}

func TestExportAsksBeforeReplacing(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.file("root.pem", []byte("something else"))
	if r := p.run("", "authority", "export", "root", "--out", "root.pem"); r.code != 2 ||
		!strings.Contains(r.errors, "--yes") {
		t.Errorf("%+v", r)
	}
	if data, _ := os.ReadFile(filepath.Join(p.dir, "root.pem")); string(data) != "something else" {
		t.Error("it was replaced without asking")
	}
	p.must("authority", "export", "root", "--out", "root.pem", "--yes")
	p.must("authority", "export", "root", "--out", "root.pem") // the same content asks nothing
	sum := strings.TrimSpace(p.must("authority", "show", "root", "--field", "sha256"))
	if len(sum) != 64 || strings.Contains(p.must("authority", "show", "root", "--all"), sum) {
		t.Error("a field is bare hex; for eyes it is grouped")
	}
	der := p.must("authority", "export", "root", "--as", "der", "--out", "-")
	if der[0] != 0x30 {
		t.Error("DER on standard output")
	}
}

func TestCompletionKnowsTheEstate(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	n := p.send("a.ternbay.example", []string{"a.ternbay.example"})
	for args, want := range map[string]string{"authority show ": "services", "sign --template ": "mutual-peer",
		"sign ": n, "request show ": n, "certificate show ": "root", "authority create x --key ": "ecdsa-p384"} {
		t.Run(args, func(t *testing.T) {
			p := p.with(t)
			out := p.must(append([]string{"__complete"}, strings.Split(args, " ")...)...)
			if !strings.Contains(out, want) {
				t.Errorf("%q completes to %q", args, out)
			}
		})
	}
	for _, shell := range []string{"bash", "zsh", "fish", "powershell"} {
		if out := p.must("completion", shell); len(out) < 500 {
			t.Errorf("completion for %s is %d bytes", shell, len(out))
		}
	}
}

// TestKilledAtRandom kills the program at random moments during 200 signings.
func TestKilledAtRandom(t *testing.T) {
	long(t)
	t.Parallel()
	p := harbour(t)
	const count = 200
	var all bytes.Buffer
	for i := range count {
		host := fmt.Sprintf("h%d.ternbay.example", i)
		all.Write(bundle.PEM(bundle.Request, specimen.Request(t, nil, "CN="+host, []string{host}).Raw))
	}
	if r := p.run(all.String(), "request", "receive", "-"); r.code != 0 {
		t.Fatal(r.errors)
	}
	shown := map[string]bool{}
	serial := regexp.MustCompile(`(?m)  serial ([0-9a-f]+)`)
	rounds, killed := 0, 0
	window := 100 * time.Millisecond // adapts itself to the machine
	for ; rounds < 1000; rounds++ {
		waiting := strings.Fields(p.must("request", "list", "--quiet"))
		if len(waiting) == 0 {
			break
		}
		batch := waiting[:min(20, len(waiting))]
		cmd := exec.Command(program, append(append([]string{"sign"}, batch...), "--template", "web-server", "--yes")...)
		cmd.Dir, cmd.Env = p.dir, append(os.Environ(), p.env...)
		var out bytes.Buffer
		cmd.Stdout = &out
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		timer := time.AfterFunc(time.Duration(rand.Int64N(int64(window))), func() { cmd.Process.Kill() })
		err := cmd.Wait()
		timer.Stop()
		told := serial.FindAllStringSubmatch(out.String(), -1)
		for _, m := range told {
			shown[m[1]] = true
		}
		switch {
		case err == nil:
			window = window * 4 / 5
		case len(told) == 0:
			killed++
			window = window * 5 / 4
		default:
			killed++
		}
		if r := p.run("", "journal", "verify"); r.code != 0 {
			t.Fatalf("after %d rounds: %s", rounds, r.out)
		}
	}
	recorded := strings.Fields(p.must("certificate", "list", "--quiet"))
	on := map[string]bool{}
	for _, s := range recorded {
		on[s] = true
	}
	for s := range shown {
		if !on[s] {
			t.Errorf("certificate %s was shown and is not on record", s)
		}
	}
	if len(recorded) != count+2 {
		t.Errorf("%d certificates on record, want %d", len(recorded), count+2)
	}
	t.Logf("%d rounds, %d killed, %d certificates shown", rounds, killed, len(shown))
	if killed < 5 {
		t.Errorf("only %d rounds were killed: the test proves nothing", killed)
	}
}

func BenchmarkSignProcess(b *testing.B) {
	p := harbour(b)
	i := 0
	for b.Loop() {
		b.StopTimer()
		i++
		host := fmt.Sprintf("h%d.ternbay.example", i)
		n := p.send(host, []string{host})
		b.StartTimer()
		p.must("sign", n, "--template", "web-server", "--yes")
	}
}

// The key of an authority is stolen in a rehearsal, and the demo's devices and display go from
// suspicion to zero.
func TestDemoOfAStolenKeyEndsWell(t *testing.T) {
	long(t)
	t.Parallel()
	p := place{t: t, dir: t.TempDir()}
	out := p.must("demo", "play", "--story", "stolen")
	for _, want := range []string{"not revoked: the display accepts every device", "it accepts the thief as the crane",
		"revoked and published: the display refuses every device", "replaced: the display accepts every device",
		"it refuses the thief: Tern Bay Ferries Services was revoked", "✓ closed I1"} {
		if !strings.Contains(out, want) {
			t.Errorf("the story does not show %q", want)
		}
	}
	report, err := os.ReadFile(filepath.Join(p.dir, "play/incident-1.txt"))
	if err != nil || strings.Count(string(report), "[x]") != 7 {
		t.Errorf("the report: %s, %v", report, err)
	}
}

// Eight live devices, first all wrong, then put right; and the root changes over them.
func TestDemoOfDevicesEndsWell(t *testing.T) {
	long(t)
	t.Parallel()
	p := place{t: t, dir: t.TempDir()}
	out := p.must("demo", "play", "--story", "devices")
	for _, want := range []string{"0 of 8 endpoints trusted", "self-made", "expired", "issuer-missing",
		"fog-horn says: the certificate is not valid yet", "short form", "8 of 8 endpoints trusted", "party-not-ready",
		"a switch now would break nothing", "with both roots, when all is handed over: the display connects"} {
		if !strings.Contains(out, want) {
			t.Errorf("the story does not show %q", want)
		}
	}
	before, err := os.ReadFile(filepath.Join(p.dir, "play/board-before.html"))
	after, err2 := os.ReadFile(filepath.Join(p.dir, "play/board-after.html"))
	if err != nil || err2 != nil || strings.Count(string(before), `"bad-row"`) != 8 ||
		strings.Count(string(after), `"good-row"`) != 8 {
		t.Error("the board does not go from red to green", err, err2)
	}
}
