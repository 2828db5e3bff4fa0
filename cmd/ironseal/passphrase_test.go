package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A colleague leaves: one command gives all keys another passphrase. The earlier one opens nothing any
// more, what there was goes on, and it is on record.
func TestAPassphraseIsChanged(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("authority", "renew", "root", "--yes")
	p.must("authority", "apply", "gates", "--out", "../gates.pem")
	later := p.file("../later", []byte("skua and auk, on the pier\n"))
	before := p.keyFiles()
	out := p.must("authority", "passphrase", "--all", "--new-passphrase-file", later)
	for _, want := range []string{"root.g2 has the new", "root.g1 has the new", "services.g1 has the new",
		"gates has the",
		"Backups that were made before"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing in\n%s", want, out)
		}
	}
	for name, data := range p.keyFiles() {
		if before[name] == data || !strings.Contains(data, "ENCRYPTED PRIVATE KEY") {
			t.Errorf("%s was not encrypted again", name)
		}
	}
	p.refused(1, "passphrase", "authority", "passphrase", "services", "--check")
	r := p.send("pier.ternbay.example", []string{"pier.ternbay.example"})
	p.refused(1, "passphrase", "sign", r, "--template", "web-server", "--by", "services", "--yes")
	p.env = []string{"IRONSEAL_PASSPHRASE_FILE=" + later}
	if out := p.must("authority", "passphrase", "--all", "--check"); !strings.Contains(out, "opens 4 keys") {
		t.Error(out)
	}
	p.must("sign", r, "--template", "web-server", "--by", "services", "--yes")
	p.must("estate", "check")
	if out := p.must("journal", "list"); strings.Contains(out, "skua and auk") ||
		!strings.Contains(out, "change passphrase") {
		t.Error(out)
	}
}

// keyFiles are the files of keys by name.
func (p place) keyFiles() map[string]string {
	p.t.Helper()
	out := map[string]string{}
	files, err := filepath.Glob(filepath.Join(p.dir, "keys", "*"))
	if err != nil {
		p.t.Fatal(err)
	}
	for _, f := range files {
		data, err := os.ReadFile(f)
		if err != nil {
			p.t.Fatal(err)
		}
		out[filepath.Base(f)] = string(data)
	}
	return out
}

func TestAPassphraseIsNotChangedByMistake(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	later, empty := p.file("../later", []byte("skua and auk, on the pier\n")), p.file("../none", []byte("\n"))
	before := p.keyFiles()
	p.refused(2, "name the authorities, or give --all", "authority", "passphrase")
	p.refused(2, "--new-passphrase-file", "authority", "passphrase", "services")
	p.refused(1, "empty", "authority", "passphrase", "services", "--new-passphrase-file", empty)
	p.refused(1, "pier", "authority", "passphrase", "pier", "--new-passphrase-file", later)
	p.refused(1, "nothing was changed", "authority", "passphrase", "--all", "--passphrase-file", "services="+later,
		"--new-passphrase-file", later)
	for name, data := range p.keyFiles() {
		if before[name] != data {
			t.Errorf("%s was changed", name)
		}
	}
	p.must("estate", "check")
}

// A run that was cut off between two files is told by the check and finished by the same command; a key
// file that somebody brought back is told too.
func TestAPassphraseChangeThatWasCutOffIsFinished(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	later := p.file("../later", []byte("skua and auk, on the pier\n"))
	before := p.keyFiles()
	p.must("authority", "passphrase", "--all", "--new-passphrase-file", later)
	for name, data := range before { // one file as it was: the journal's last word is that it has another
		p.file(filepath.Join("keys", name), []byte(data))
		break
	}
	p.refused(4, "is not the one that the last change of its passphrase wrote", "estate", "check")
	out := p.must("authority", "passphrase", "--all", "--new-passphrase-file", later)
	if strings.Count(out, "had the new passphrase already") != 1 || strings.Count(out, "has the new passphrase") != 1 {
		t.Error(out)
	}
	p.must("estate", "check")
	p.env = []string{"IRONSEAL_PASSPHRASE_FILE=" + later}
	p.must("authority", "passphrase", "--all", "--check")
}

// The key of a draft gets its first passphrase, and another one.
func TestTheKeyOfADraftGetsAPassphrase(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("request", "draft", "pier.ternbay.example", "--out", "../drafts")
	p.must("request", "receive", "../drafts/pier.ternbay.example.request.pem")
	file := "../drafts/pier.ternbay.example.key.pem"
	first, second := p.file("../first", []byte("gannets in the gale\n")), p.file("../second",
		[]byte("puffins ashore\n"))
	p.must("request", "passphrase", "R1", "--new-passphrase-file", first)
	if text := string(p.read(file)); !strings.Contains(text, "ENCRYPTED PRIVATE KEY") {
		t.Fatal(text)
	}
	p.refused(1, "passphrase", "request", "passphrase", "R1", "--new-passphrase-file", second)
	p.must("request", "passphrase", "R1", "--passphrase-file", first, "--new-passphrase-file", second)
	p.must("estate", "check")
	p.must("sign", "R1", "--template", "web-server", "--by", "services", "--yes")
	p.must("certificate", "handover", "R1", "--for", "nginx", "--out", "../out", "--passphrase-file", second, "--yes")
	foreign := p.send("mole.ternbay.example", []string{"mole.ternbay.example"})
	p.refused(1, "was not drafted here", "request", "passphrase", foreign, "--new-passphrase-file", first)
}

// Who cannot open a key learns it before a long sheet is shown, and not after having read it.
func TestThePassphraseComesBeforeTheSheet(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	r := p.send("pier.ternbay.example", []string{"pier.ternbay.example"})
	p.env = []string{"IRONSEAL_PASSPHRASE_FILE=" + p.file("../wrong", []byte("another\n"))}
	for name, args := range map[string][]string{
		"sign":       {"sign", r, "--template", "web-server", "--by", "services"},
		"sign all":   {"sign", "--all", "--template", "web-server"},
		"create":     {"authority", "create", "gates", "--under", "root"},
		"renew":      {"authority", "renew", "services"},
		"renew root": {"authority", "renew", "root"},
	} {
		t.Run(name, func(t *testing.T) {
			r, err := p.try(args...)
			if err != nil || r.code == 0 || strings.TrimSpace(r.out) != "" {
				t.Errorf("%v: shown before the key was open:\n%s", err, r.out)
			}
		})
	}
}
