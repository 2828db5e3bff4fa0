package main

import (
	"bytes"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// The pages in docs that are generated must be what the program writes today.
func TestReferencePagesAreCurrent(t *testing.T) {
	t.Parallel()
	p := place{t: t, dir: t.TempDir()}
	p.must("reference", ".")
	for _, page := range []string{"commands.md", "findings.md", "templates.md", "receivers.md",
		"platforms.md", "json.md", "serving.md", "states.md"} {
		want, err := os.ReadFile(filepath.Join(p.dir, page))
		if err != nil {
			t.Fatal(err)
		}
		have, err := os.ReadFile(filepath.Join("..", "..", "docs", page))
		if err != nil || !bytes.Equal(have, want) {
			t.Errorf("docs/%s is not what the program writes: go run ./cmd/ironseal reference docs (%v)", page, err)
		}
	}
}

// Examples that are meant to answer otherwise than with 0.
var otherwise = map[string]int{
	// the demo is one person's: it has no operators, no proposals, no agent, and no file on record
	"ironseal approve P1": 1, "ironseal proposal show P1": 1, "ironseal proposal complete P1": 1,
	`ironseal object P1 --because "the name is misspelt"`:                                                 1,
	"ironseal operator add ana --key ../ana.pub --role administrator":                                     1,
	"ironseal operator recover ana --key ../ana-new.pub":                                                  1,
	"ironseal operator show ana":                                                                          1,
	`ironseal operator end ben --because "left the harbour office"`:                                       1,
	"ironseal operator grants --prefix harbour":                                                           1,
	"ironseal authority custody services --to agent":                                                      1,
	"ironseal trust kit --party all --out ../kits":                                                        2,
	"ironseal transfer approve ../to-the-safe":                                                            1,
	"ironseal authority share root --need 2 --among ana,ben,cleo --out ../shares --to-key ana=../ana.pub": 1,
	"ironseal estate files update":                                                                        1,
	// no such server is there
	"ironseal estate move --to postgresql://db.ternbay.example/harbour":              1,
	"ironseal estate join harbour --records postgresql://db.ternbay.example/harbour": 1,
	"ironseal sign R5":                          2, // lists the templates that fit
	"ironseal authority apply gates --withdraw": 1, // nothing is sent
	// nothing was published, and no name is looked up
	"ironseal revocations list --alarm":                                     5,
	"ironseal revocations check http://pki.ternbay.example/services.g1.crl": 4,
	"ironseal revocations import ../from-the-safe/root.g1.crl":              1, // the demo has none
	// the incident has only begun
	`ironseal incident close I1 --because "all replaced, seen on the quay"`: 3,
	// this machine does not trust the demo's root
	"ironseal trust record ../reports.json":    1, // the demo has none
	"ironseal trust install --for node,python": 2, // nobody to ask
	"ironseal authority passphrase services":   2,
	"ironseal request passphrase R1":           2,
	"ironseal party import ../parties.csv":     1, // the demo has none
	// the demo has none of these
	"ironseal authority adopt skua ../partner/skua-root.pem":                                1,
	"ironseal authority adopt gates ../gates.pem --key ../gates.key.pem --issued ../issued": 1,
	"ironseal authority import gates ../gates.answer.pem":                                   1,
	"ironseal certificate import ../answer.p7b --request R5":                                1,
	"ironseal transfer open ../stick":                                                       1,
	"ironseal transfer answer ../stick --out ../back":                                       1,
	"ironseal changeover finish services --out ../gone":                                     1,
	// the root stays in the demo
	`ironseal changeover record services quay-gate-3 --because "seen on its screen"`: 1,
	// nobody answers at these
	"ironseal probe booking.ternbay.example:443 mail.ternbay.example:25":                     4,
	"ironseal probe booking.ternbay.example@192.0.2.17:8443 --anchor ../handed-out/root.pem": 4,
	"ironseal probe --list ../endpoints.txt --before ../before.json":                         1, // the demo has none
	"ironseal trust check":                                4,
	"ironseal trust check --store ../handed-out/root.pem": 4,
	// it never did
	`ironseal journal clock --because "the clock said 2036 after the battery was changed"`: 1,
	"ironseal verify ../handed-out/booking.ternbay.example.with-issuers.pem --name booking --anchor " +
		"../handed-out/root.pem": 4,
}

// Every example of every command runs as printed on the demo estate.
func TestExamplesRunAsPrinted(t *testing.T) {
	if _, err := exec.LookPath("sh"); err != nil {
		t.Skip("there is no shell")
	}
	stage := place{t: t, dir: t.TempDir()}
	stage.must("demo", "play")
	settings := filepath.Join(stage.dir, "play", "harbour", "ironseal.toml")
	if text, err := os.ReadFile(settings); err != nil || os.WriteFile(settings, bytes.Replace(text,
		[]byte("encryption-memory = 64"), []byte("encryption-memory = 8"), 1), 0o644) != nil {
		t.Fatal(err)
	}
	pass := filepath.Join(stage.dir, "play", "passphrase.txt") // the keys take the little work too
	stage.must("--estate", filepath.Join("play", "harbour"), "authority", "passphrase", "--all",
		"--passphrase-file", pass, "--new-passphrase-file", pass)
	page, err := os.ReadFile(filepath.Join("..", "..", "docs", "commands.md"))
	if err != nil {
		t.Fatal(err)
	}
	count := 0
	var last [][2]string // the estate knows where a request's key is: these change the one key of all copies
	t.Run("side by side", func(t *testing.T) {
		for i, part := range strings.Split(string(page), "```") {
			if i%2 == 0 {
				continue
			}
			before := ""
			for _, line := range strings.Split(strings.TrimSpace(part), "\n") {
				line = strings.TrimSpace(line)
				first := before
				before = line
				if strings.HasPrefix(line, "ironseal demo") { // run by a test of its own
					continue
				}
				count++
				if !thorough() && count%4 != 0 && !strings.HasPrefix(line, "cd ") { // all of them in CI
					continue
				}
				if strings.HasPrefix(line, "ironseal request passphrase") {
					last = append(last, [2]string{first, line})
					continue
				}
				t.Run(line, func(t *testing.T) {
					t.Parallel()
					tryExample(t, stage, first, line)
				})
			}
		}
	})
	for _, l := range last {
		t.Run(l[1], func(t *testing.T) { tryExample(t, stage, l[0], l[1]) })
	}
	if count < 40 {
		t.Errorf("only %d examples were found", count)
	}
}

func tryExample(t *testing.T, stage place, before, line string) {
	t.Helper()
	dir := t.TempDir()
	if err := os.CopyFS(dir, os.DirFS(filepath.Join(stage.dir, "play"))); err != nil {
		t.Fatal(err)
	}
	keys, err := filepath.Glob(filepath.Join(dir, "harbour", "keys", "*"))
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range append(keys, filepath.Join(dir, "harbour", "records.db")) { // the copy does not keep modes
		if err := os.Chmod(k, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	typed := line
	if strings.Contains(line, " sign ") || strings.Contains(line, " renew ") || strings.Contains(line, " retire ") ||
		strings.HasPrefix(line, "ironseal authority create") {
		typed += " --yes" // a person answers the question
	}
	if strings.HasPrefix(line, "ironseal revoke ") {
		typed += " --yes"
	}
	if strings.HasPrefix(line, "ironseal serve") { // it would go on
		typed += " --check"
	}
	if strings.HasPrefix(line, "cd ") {
		typed = before + " && " + typed
	}
	for begins, first := range map[string]string{"ironseal trust add ": "ironseal trust create partners",
		"ironseal authority passphrase --all": "cp ../passphrase.txt old.txt && echo gannets in the gale > " +
			"new.txt",
		"ironseal enrol end ":                       "ironseal enrol code gates --template client --names a.example",
		"ironseal enrol show ":                      "ironseal enrol code gates --template client --names a.example",
		"ironseal desk end ":                        "ironseal desk invite 'Ana Tide'",
		"ironseal request passphrase ":              "echo gannets in the gale > new.txt",
		"ironseal authority retire services --undo": "ironseal authority retire services --because late --yes",
		"ironseal authority cross ": "ironseal authority create skua --subject 'CN=Skua Root' --key ecdsa-p256 --yes " +
			"&& " +
			"ironseal authority create newroot --subject 'CN=New Root' --key ecdsa-p256 --yes",
		"ironseal estate restore ":      "ironseal estate backup ../harbour.backup",
		"ironseal changeover plan ":     "ironseal authority renew services --switch-day 2031-01-01 --yes",
		"ironseal changeover prepare ":  "ironseal authority renew services --switch-day 2031-01-01 --yes",
		"ironseal changeover progress ": "ironseal authority renew services --switch-day 2031-01-01 --yes",
		"ironseal changeover switch ":   "ironseal authority renew services --switch-day 2031-01-01 --yes",
		"ironseal changeover back ":     "ironseal authority renew services --yes",
		"ironseal party show ":          "ironseal party add quay-gate-3",
		"ironseal party change ":        "ironseal party add quay-gate-3",
		"ironseal party remove ":        "ironseal party add quay-gate-3",
		"ironseal trust pair R5 ": "ironseal trust create partners && ironseal trust add partners " +
			"../partner/skua-roots.zip --yes",
		"ironseal revocations show ":            "ironseal revocations publish --to ../public",
		"ironseal revocations check ../":        "ironseal revocations publish --to ../public",
		"ironseal revocations import ../public": "ironseal revocations publish --to ../public",
		"ironseal unhold ":                      "ironseal revoke mail.ternbay.example --reason hold --yes",
		"ironseal incident show ":               "ironseal incident open services --because lost",
		"ironseal incident close ":              "ironseal incident open services --because lost",
		"ironseal incident replace ": "ironseal incident open services --because lost && ironseal authority " +
			"renew services " +
			"--suspect lost --yes",
		"ironseal trust drop ": "ironseal trust create partners && ironseal trust add partners root --yes"} {
		if strings.HasPrefix(line, begins) || strings.Contains(line, "--revocations") &&
			begins == "ironseal revocations show " {
			typed = first + " && " + typed + " --yes"
		}
	}
	cmd := exec.Command("sh", "-c", typed)
	cmd.Dir = filepath.Join(dir, "harbour")
	cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"),
		"IRONSEAL_PASSPHRASE_FILE="+filepath.Join(dir, "passphrase.txt"))
	if strings.Contains(line, "rsa-") || strings.Contains(line, "authority create") {
		settings := filepath.Join(cmd.Dir, "ironseal.toml")
		text, err := os.ReadFile(settings)
		if err == nil {
			err = os.WriteFile(settings, bytes.Replace(text, []byte(`"rsa-4096"`), []byte(`"ecdsa-p256"`), 1), 0o644)
		}
		if err != nil {
			t.Fatal(err)
		}
		typed = strings.ReplaceAll(typed, "create root", "create second")
		cmd.Args[2] = typed // the demo has a root already
	}
	out, err := cmd.CombinedOutput()
	code := 0
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		code = exit.ExitCode()
	}
	if code != otherwise[line] {
		t.Errorf("%s\nexit status %d\n%s", line, code, out)
	}
}
