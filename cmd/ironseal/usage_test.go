package main

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/pki/bundle"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/request"
	"ironseal/pki/san"
	"ironseal/pki/specimen"
)

// A flag that a mode does not use, a filter that can fit nothing and a command that
// is not there are wrong usage, and never silently something else.
func TestWrongUsageIsSaid(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	n := p.send("a.ternbay.example", []string{"a.ternbay.example"})
	p.must("sign", n, "--template", "web-server", "--yes")
	p.must("authority", "export", "root", "--out", "../root.pem")
	p.file("../rows.csv", []byte("host\nb.ternbay.example\n"))
	for _, c := range []struct{ args, word string }{
		{"request list --state waitin", "use one of waiting"},
		{"certificate list --state expird", "use one of any, valid"},
		{"certificate list --template web-sever", "use one of"},
		{"certificate list --by servces", "no authority is called"},
		{"help nosuch", "has no command"},
		{"help request nosuch", "has no command"},
		{"nosuch", "has no command"},
		{"request nosuch", "no command"},
		{"publish", "did you mean ironseal revocations publish?"},
		{"request publish", "did you mean ironseal revocations publish?"},
		{"request recieve", "did you mean ironseal request receive?"},
		{"changeover progress", "for example: ironseal changeover progress services"},
		{"sign", "for example: ironseal sign R5"},
		{"verify", "for example: ironseal verify ../handed-out/"},
		{"sign --all --template web-server --add-name x.ternbay.example", "--add-name has no meaning"},
		{"sign --all --template web-server --subject CN=x", "--subject has no meaning"},
		{"sign R1 R2 --template web-server --drop-name x.ternbay.example", "--drop-name has no meaning"},
		{"sign R1 --waive odd-key --because x", "has no meaning without --template"},
		{"certificate renew --due --template web-server", "--template has no meaning"},
		{"certificate renew --due --lifetime 90d", "--lifetime has no meaning"},
		{"certificate renew a.ternbay.example --within 90d", "--within has no meaning"},
		{"request draft b.ternbay.example --manifest ../rows.csv", "one of the two"},
		{"request draft --manifest ../rows.csv --subject CN=x", "--subject has no meaning"},
		{"request draft b.ternbay.example --encrypt --encrypt-with ../pass", "one of the two"},
		{"authority apply gates --withdraw --same-key", "--same-key has no meaning"},
		{"authority apply gates --again --out x --key rsa-2048", "--key has no meaning"},
		{"transfer pack ../c R1 --all", "one of the two"},
		{"certificate export R1 --copy --out x", "one of the two"},
		{"certificate export R1 --out - --json", "leave out --json"},
		{"certificate show R1 --template-changes --all", "--all has no meaning"},
		{"certificate show R1 --field serial --json", "one of the two"},
		{"certificate handover R1 --for nginx --make-password", "leave out --make-password"},
		{"convert ../root.pem --to pem --make-password", "not encrypted"},
		{"journal show J1xyz", "is not an entry"},
		{"journal clock", "needs a reason"},
		{"authority create x --under root --template client --key ecdsa-p256 --yes", ""},
	} {
		t.Run(c.args, func(t *testing.T) {
			p := p.with(t)
			r := p.run("", strings.Fields(c.args)...)
			want := 2
			if c.word == "" {
				want = 3
			}
			if r.code != want || !strings.Contains(r.errors, c.word) {
				t.Errorf("%s: exit status %d, %s", c.args, r.code, r.errors)
			}
		})
	}
	if out := p.must("authority", "list"); strings.Contains(out, "x g1") {
		t.Errorf("a leaf is listed as an authority:\n%s", out)
	}
	if r := p.run("", "sign", "RRr7", "--template", "web-server"); r.code != 1 || strings.Contains(r.errors, "R7 ") {
		t.Errorf("RRr7 is R7: %s", r.errors)
	}
	if !strings.Contains(p.must("help", "request", "list"), "List the requests that wait") {
		t.Error("help of a command that is there")
	}
}

// With --json every command prints JSON, also when there is nothing to tell.
func TestJSONIsAlwaysJSON(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	for _, args := range []string{
		"sign --all --template web-server --json --yes", "certificate renew --due --json --yes",
		"certificate list --json", "request list --json", "due --json", "forecast --json",
		"authority list --json", "authority tree --json", "journal list --json", "journal verify --json",
		"estate status --json", "estate check --json",
		"authority renew services --switch-day 2030-01-01 --json --yes", "changeover prepare services --json --yes",
		"changeover progress services --json",
		"changeover switch services --early --json --yes",
		"changeover back services --switch-day 2030-01-01 --json --yes",
		"authority apply gates --out ../gates.pem --json", "authority apply gates --withdraw --json",
		"estate backup ../b --json", "template list --json",
	} {
		r := p.run("", strings.Fields(args)...)
		if r.code != 0 || !json.Valid([]byte(r.out)) {
			t.Errorf("%s: exit status %d: %q %s", args, r.code, r.out, r.errors)
		}
	}
}

// hostile drafts a request whose bytes are not what our own drafting would make.
func hostile(t *testing.T, p place, name string, subject string, names ...san.Name) string {
	t.Helper()
	alt, err := ext.NamesExtension(names, false)
	if err != nil {
		t.Fatal(err)
	}
	cn, err := dn.Parse(subject)
	if err != nil {
		t.Fatal(err)
	}
	der, err := request.Draft(cn, ext.Set{alt}, specimen.Key(t, key.P256), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return p.file("../"+name, bundle.PEM(bundle.Request, der))
}

// A name that used to end the program after it was recorded is reported, left out, and
// keeps nothing else from being done.
func TestNamesThatEndedTheProgram(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	f := hostile(t, p, "star.pem", "CN=gate.ternbay.example", san.Found(san.DNS, "*."),
		san.Found(san.DNS, "gate.ternbay.example"), san.Found(san.DNS, "10.0.0.1."),
		san.Found(san.URI, "https:evil.example"))
	for _, args := range [][]string{{"read", f}, {"request", "receive", f}, {"request", "list"},
		{"request", "show", "R1"}, {"sign", "R1", "--template", "web-server", "--drop-name", "uri:https:evil.example",
			"--yes"}} {
		if r := p.run("", args...); r.code != 0 {
			t.Errorf("%v: exit status %d\n%s%s", args, r.code, r.out, r.errors)
		}
	}
	if out := p.must("certificate", "show", "R1"); strings.Contains(out, "*.") ||
		!strings.Contains(out, "ip:10.0.0.1") || strings.Contains(out, "evil") {
		t.Errorf("it was signed as it came:\n%s", out)
	}
}

// The sheet of many shows every finding of what will be signed, notes too.
func TestNothingIsSignedUnseenInBulk(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	for i, name := range []string{"*.quay.ternbay.example", "xn--fjre-woa.ternbay.example"} {
		p.must("request", "receive", hostile(t, p, string(rune('a'+i)), "CN=Harbour", san.Found(san.DNS, name)))
	}
	r := p.run("", "sign", "--all", "--template", "web-server", "--yes")
	for _, want := range []string{"*.quay.ternbay.example covers", "xn--fjre-woa.ternbay.example reads fjære"} {
		if text := strings.Join(strings.Fields(r.out), " "); !strings.Contains(text, want) {
			t.Errorf("%q is not on the sheet:\n%s", want, r.out)
		}
	}
}

// A mistyped name to drop, an authority that was not asked for, a receiver's demand:
// each stops, and says how to go on.
func TestStopsThatWerePassed(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	n := p.send("a.ternbay.example", []string{"a.ternbay.example", "evil.example"})
	p.refused(3, "drop-name-not-there", "sign", n, "--template", "web-server", "--drop-name", "evil.exmaple", "--yes")
	if r := p.run("", "sign", n, "--template", "web-server", "--drop-name", "evil.exmaple",
		"--yes"); !strings.Contains(r.out, "did you mean evil.example") {
		t.Errorf("%s", r.out)
	}
	p.refused(3, "authority-not-asked-for", "sign", n, "--template", "intermediate-authority", "--by", "root", "--yes")
	p.must("sign", n, "--template", "client", "--drop-name", "evil.example", "--yes")
	p.refused(3, "receiver-demand", "certificate", "handover", n, "--for", "nginx", "--out", "..")
	if p.exists("../a.ternbay.example.nginx") {
		t.Error("a handover that was refused is there")
	}
	p.must("certificate", "handover", n, "--for", "nginx", "--out", "..", "--waive", "receiver-demand", "--because",
		"a trial")
}

// What a declined sign leaves is said: the file was received.
func TestADeclinedFileStaysReceived(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	der := specimen.Request(t, nil, "CN=a.ternbay.example", []string{"a.ternbay.example"})
	f := p.file("../a.pem", bundle.PEM(bundle.Request, der.Raw))
	r := p.run("", "sign", f, "--template", "web-server")
	if r.code != 2 { // nobody to ask
		t.Errorf("%+v", r)
	}
	if out := p.must("request", "list", "--quiet"); !strings.Contains(out, "R1") {
		t.Error(out)
	}
}

// An earlier generation is never simply valid, and is below the root that signed it.
func TestEarlierGenerationsAreCalledReplaced(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("authority", "create", "other", "--key", "ecdsa-p256", "--yes", "--subject", "CN=Other Root")
	p.must("authority", "renew", "services", "--under", "other", "--yes")
	var list []struct {
		Handle, State, Under string
		Generation           int
	}
	if err := json.Unmarshal([]byte(p.must("authority", "list", "--json")), &list); err != nil {
		t.Fatal(err)
	}
	for _, a := range list {
		if a.Handle == "services" && (a.Generation == 1) != (a.State == "replaced") {
			t.Errorf("%+v", a)
		}
	}
	var tree []struct {
		Handle string
		Below  []struct {
			Handle      string
			Generations []struct{ Number int }
		}
	}
	if err := json.Unmarshal([]byte(p.must("authority", "tree", "--json")), &tree); err != nil {
		t.Fatal(err)
	}
	for _, r := range tree {
		want := map[string]int{"root": 1, "other": 2}[r.Handle]
		if len(r.Below) != 1 || len(r.Below[0].Generations) != 1 || r.Below[0].Generations[0].Number != want {
			t.Errorf("below %s: %+v", r.Handle, r.Below)
		}
	}
	p.must("certificate", "export", "services.g1", "--with", "issuers", "--out", "../g1.pem")
	if r := p.run("", "verify", "../g1.pem"); r.code != 0 || !strings.Contains(r.out, "superseded-on-record") {
		t.Errorf("%+v", r)
	}
}

// A chain in a wrong order is told by what fails, and nothing holds of two that never
// signed each other.
func TestAWrongOrderIsExplained(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	n := p.send("a.ternbay.example", []string{"a.ternbay.example"})
	p.must("sign", n, "--template", "web-server", "--yes")
	p.must("certificate", "export", n, "--out", "../leaf.pem")
	p.must("certificate", "export", "services", "--out", "../mid.pem")
	p.must("certificate", "export", "root", "--out", "../root.pem")
	var v struct {
		Steps []struct {
			Good  bool
			Words string
		}
	}
	if err := json.Unmarshal([]byte(p.run("", "verify", "--path", "../leaf.pem", "../root.pem", "../mid.pem",
		"--json").out), &v); err != nil {
		t.Fatal(err)
	}
	if s := v.Steps[0]; s.Good || !strings.Contains(s.Words, "was issued by") ||
		strings.Contains(s.Words, "signature holds") {
		t.Errorf("%+v", s)
	}
}

// An estate that somebody else could have put there is not used unless it is named.
func TestAnEstateOfSomebodyElse(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("estate", "check")
	if err := os.Chmod(p.dir, 0o777); err != nil {
		t.Fatal(err)
	}
	if r := p.run("", "estate", "status"); r.code != 1 || !strings.Contains(r.errors, "name it: --estate") {
		t.Errorf("%+v", r)
	}
	p.must("estate", "status", "--estate", p.dir)
	r := p.run("", "estate", "check", "--estate", p.dir)
	if r.code != 4 || !strings.Contains(r.out, "others may write to it") {
		t.Errorf("%+v", r)
	}
	if err := os.Chmod(p.dir, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(filepath.Join(p.dir, "records.db"), 0o666); err != nil {
		t.Fatal(err)
	}
	if r := p.run("", "estate", "check"); r.code != 4 || !strings.Contains(r.out, "records.db") {
		t.Errorf("%+v", r)
	}
}

// Hostile text that is large, or claims to be, is read within bounds of time that are
// wide for a busy machine and far below what a quadratic reader would take.
func TestLargeInputIsReadInTime(t *testing.T) {
	t.Parallel()
	p := place{t: t, dir: t.TempDir()}
	var names []san.Name
	for i := range 20_000 {
		names = append(names, san.Found(san.DNS,
			strings.Repeat("n", 1+i%20)+strings.Repeat("x", i/20%30)+string(rune('a'+i%26))+".ternbay.example"))
	}
	e := harbour(t)
	for what, file := range map[string]string{
		"beginnings without an end": p.file("begin",
			[]byte(strings.Repeat("-----BEGIN A-----\nx\n", 20_000)+strings.Repeat("filler filler\n", 30_000))),
		"bare lines": p.file("bare", []byte(strings.Repeat("MIMGqqoBAQEBAQEBAAAA\n", 60_000))),
		"many names": hostile(t, e, "many.pem", "CN=a", names...),
	} {
		t.Run(what, func(t *testing.T) {
			p := p.with(t)
			begin := time.Now()
			p.run("", "read", file)
			if took := time.Since(begin); took > 20*time.Second {
				t.Errorf("%s: %.1f s", what, took.Seconds())
			}
		})
	}
}

// A certificate's title cannot move the cursor from a table's header either.
func TestComparedTitlesAreEscaped(t *testing.T) {
	t.Parallel()
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true})
	p := place{t: t, dir: t.TempDir()}
	var files []string
	for i, title := range []string{"a\x1b[2Jb", "c\u202ed\U000e0041"} {
		subject, err := dn.New(dn.Pair{Type: "CN", Value: title})
		if err != nil {
			t.Fatal(err)
		}
		leaf := specimen.Make(t, root, specimen.Plan{Subject: subject.String()})
		files = append(files, p.file(fmt.Sprint("c", i, ".pem"), bundle.PEM(bundle.Certificate, leaf.Cert.Raw)))
	}
	r := p.run("", "certificate", "compare", files[0], files[1])
	if r.code != 0 || !strings.Contains(r.out, `a\x1b[2Jb`) || !strings.Contains(r.out, `\u{202e}`) ||
		strings.ContainsAny(r.out, "\x1b\u202e\U000e0041") {
		t.Errorf("%d %q %s", r.code, r.out, r.errors)
	}
}

// Help is wrapped, grouped by task and without the noise of a library; what is misspelt
// is answered with what was probably meant.
func TestHelpIsOurOwn(t *testing.T) {
	t.Parallel()
	p := place{t: t, dir: t.TempDir(), env: []string{"COLUMNS=80"}}
	var all []string
	for _, args := range [][]string{{"--help"}, {"help"}, {"sign", "--help"}, {"authority"},
		{"help", "request", "draft"}} {
		out := p.must(args...)
		all = append(all, out)
		if strings.Contains(out, "[=true") || strings.Contains(out, "stringArray") || strings.Contains(out, "[flags]") {
			t.Errorf("%v:\n%s", args, out)
		}
	}
	if all[0] != all[1] {
		t.Error("help and --help differ")
	}
	at := 0
	for _, want := range []string{"\nset up\n  estate", "\nsign\n", "\nrenew\n", "--estate DIR",
		"3  refused by findings",
		"IRONSEAL_PASSPHRASE_FILE"} {
		i := strings.Index(all[0][at:], want)
		if i < 0 {
			t.Fatalf("%q is missing, or stands too early:\n%s", want, all[0])
		}
		at += i
	}
	for args, want := range map[string]string{"authrity": "did you mean ironseal authority?",
		"authority lst": "did you mean ironseal authority list?", "help sgin": "did you mean ironseal sign?",
		"sign --tempalte x": "did you mean --template?", "sign --zzzzzz": "see ironseal sign --help"} {
		t.Run(args, func(t *testing.T) {
			p := p.with(t)
			r := p.run("", strings.Fields(args)...)
			if said := strings.Join(strings.Fields(r.errors), " "); r.code != 2 || !strings.Contains(said, want) {
				t.Errorf("%s: %+v", args, r)
			}
		})
	}
	if p.must("version") != p.must("--version") {
		t.Error("version and --version differ")
	}
}
