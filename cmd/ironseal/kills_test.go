package main

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"testing"

	"ironseal/internal/disk"
)

// killed is one act that is ended in the middle.
type killed struct {
	name, args string
	again      []string // what a repetition may say where the act was done before it was ended
}

var kills = []killed{
	{"create", "estate create ../new --organisation Gulls", []string{"there is an estate already"}},
	{"authority", "authority create stores --under root --key ecdsa-p256 --yes",
		[]string{"one of this handle already"}},
	{"renew root", "authority renew root --yes", nil},
	{"renew, prepared", "authority renew services --switch-day 2031-01-01 --yes", []string{"waits for its switch day"}},
	{"retire", "authority retire spare --because trying --yes", []string{"was retired already"}},
	{"apply", "authority apply gates --out ../gates.pem", []string{"is sent already", "is there already"}},
	{"receive", "request receive ../inbox.pem", nil},
	{"sign", "sign R2 --template web-server --by services --yes", []string{"is signed since"}},
	{"renew", "certificate renew first.ternbay.example --yes", nil},
	{"draft", "request draft pier.ternbay.example --out ../drafts", []string{"is there already"}},
	{"withdraw", "request withdraw R3 --because trying", []string{"no longer waiting"}},
	{"decline", "request decline R2 --because trying", []string{"no longer waiting"}},
	{"backup", "estate backup ../harbour.backup", []string{"is there already"}},
	{"restore", "estate restore ../old.backup ../again",
		[]string{"there is an estate already", "the estate is there already", "is older than"}},
	{"rehearse", "estate rehearse ../play", []string{"there is an estate already"}},
	{"pack", "transfer pack ../stick R2", []string{"is there already"}},
	{"open", "transfer open ../brought --yes", []string{"imported already"}},
	{"handover", "certificate handover first.ternbay.example --for nginx --out ../out --yes",
		[]string{"is there already"}},
	{"export", "certificate export first.ternbay.example --with issuers --out ../first.pem", nil},
	{"copy", "template copy web-server quay", []string{"is there already"}},
	{"revoke", "revoke first.ternbay.example --reason superseded --yes", []string{"was revoked already"}},
	{"revoke services", "revoke services --reason ca-compromise --yes", []string{"was revoked already"}},
	{"hold", "revoke first.ternbay.example --reason hold --yes", []string{"is on hold already"}},
	{"publish", "revocations publish --to ../public --ocsp ../answers", nil},
	{"publish ahead", "revocations publish root --ahead 3 --to ../public", nil},
	{"incident", "incident open services --because trying", []string{"is open since"}},
	{"false alarm", "incident close I1 --false-alarm --because trying", []string{"was closed"}},
	{"suspect", "authority renew services --suspect stolen --yes", nil},
	{"import lists", "revocations import ../theirs", nil},
	{"kit", "trust kit own --for debian --out ../kits --yes", nil},
	{"switch", "changeover switch piers --early --yes", []string{"nothing is prepared"}},
	{"switch back", "changeover back moles --switch-day 2031-01-01 --yes", []string{"has not switched yet"}},
	{"passphrase", "authority passphrase root --new-passphrase-file ../pass", nil},
	{"plot", "forecast --plot ../lives.svg", nil},
}

// killStage makes the place in which every act begins.
func killStage(t *testing.T) place {
	p := harbour(t)
	p.must("authority", "create", "spare", "--under", "root", "--key", "ecdsa-p256", "--yes")
	p.send("first.ternbay.example", []string{"first.ternbay.example"})
	p.send("second.ternbay.example", []string{"second.ternbay.example"})
	p.must("sign", "R1", "--template", "web-server", "--by", "services", "--yes")
	p.must("request", "draft", "third.ternbay.example", "--out", "../drafts")
	p.must("request", "receive", "../drafts/third.ternbay.example.request.pem")
	p.must("estate", "backup", "../old.backup")
	for _, handle := range []string{"piers", "quays", "moles"} {
		p.must("authority", "create", handle, "--under", "root", "--key", "ecdsa-p256", "--yes")
	}
	p.must("authority", "renew", "piers", "--switch-day", "2031-01-01", "--yes")
	p.must("authority", "renew", "moles", "--yes")
	p.must("incident", "open", "quays", "--because", "trying")
	twin := copyPlace(t, p) // another copy of the estate signs lists that this one does not know
	twin.must("revoke", "first.ternbay.example", "--reason", "superseded", "--yes")
	twin.must("revocations", "publish", "--to", filepath.Join(filepath.Dir(p.dir), "theirs"))
	other := another(t)
	other.must("request", "draft", "inbox.ternbay.example", "--out", "..")
	other.must("request", "receive", "../inbox.ternbay.example.request.pem")
	other.must("transfer", "pack", filepath.Join(p.dir, "../brought"), "R1")
	data, err := os.ReadFile(filepath.Join(other.dir, "../inbox.ternbay.example.request.pem"))
	if err != nil {
		t.Fatal(err)
	}
	p.file("../inbox.pem", data)
	return p
}

// copyPlace copies a place with who may read what, as one directory beside the other.
func copyPlace(t *testing.T, p place) place {
	t.Helper()
	from, to := filepath.Dir(p.dir), t.TempDir()
	if runtime.GOOS != "windows" {
		if out, err := exec.Command("cp", "-a", from+"/.", to).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	} else if err := filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil || path == from {
			return err
		}
		return copyClosed(path, to+strings.TrimPrefix(path, from), d.IsDir())
	}); err != nil {
		t.Fatal(err)
	}
	ownRecords(t, p.dir, filepath.Join(to, filepath.Base(p.dir)))
	return place{t: t, dir: filepath.Join(to, filepath.Base(p.dir)),
		env: []string{"IRONSEAL_PASSPHRASE_FILE=" + filepath.Join(to, "pass")}}
}

// copyClosed copies a file, or makes a folder, which others may read only where they may read the other.
func copyClosed(from, to string, folder bool) error {
	closed := disk.Exposed(from) == ""
	switch {
	case folder && closed:
		return disk.OwnDir(to)
	case folder:
		return os.Mkdir(to, 0o755)
	}
	data, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	mode := fs.FileMode(0o644)
	if closed {
		mode = 0o600
	}
	return disk.Disk{}.New(to, data, mode)
}

var finish = regexp.MustCompile(`ironseal request withdraw (R\d+)`)

var finishChange = regexp.MustCompile(`ironseal authority passphrase (\S+)`)

// ended lets an act be ended in a copy of the place, and looks at what is left: at says where that was.
func ended(t *testing.T, stage place, k killed, at string, kill func(p place)) {
	t.Helper()
	p := copyPlace(t, stage)
	defer os.RemoveAll(filepath.Dir(p.dir))
	kill(p)
	sound := func(when string) {
		r := p.run("", "estate", "check")
		if m := finish.FindStringSubmatch(r.out); r.code == 4 && m != nil {
			p.must("request", "withdraw", m[1], "--because", "finishing")
			r = p.run("", "estate", "check")
		}
		if m := finishChange.FindStringSubmatch(r.out); r.code == 4 && m != nil {
			p.must("authority", "passphrase", m[1], "--new-passphrase-file", "../pass")
			r = p.run("", "estate", "check")
		}
		if r.code != 0 {
			t.Errorf("%s, ended at %s, %s: %s%s", k.args, at, when, r.out, r.errors)
		}
	}
	sound("afterwards")
	if slices.Contains([]string{"draft", "handover", "publish", "publish ahead", "backup", "pack"}, k.name) {
		for _, left := range p.leftovers() { // the check has found them by the notes in the estate
			t.Errorf("%s, ended at %s: %s is left", k.args, at, left)
		}
	}
	r := p.run("", strings.Fields(k.args)...)
	said := slices.ContainsFunc(k.again, func(w string) bool { return strings.Contains(r.errors, w) })
	if r.code != 0 && !said {
		t.Errorf("%s, ended at %s, once more: exit status %d\n%s", k.args, at, r.code, r.errors)
	}
	sound("once more")
	for _, name := range []string{"../new", "../again", "../play"} {
		if p.exists(name) && !p.exists(name+"/ironseal.toml") {
			t.Errorf("%s, ended at %s: half of an estate stands in %s", k.args, at, name)
		} else if p.exists(name) {
			if r := p.run("", "estate", "check", "--estate", name); r.code != 0 {
				t.Errorf("%s, ended at %s: %s is not sound: %s", k.args, at, name, r.out)
			}
		}
	}
	if p.exists("../harbour.backup") {
		p.must("estate", "restore", "../harbour.backup", "../proof")
	}
}

// leftovers are the hidden files and folders that nobody finished, anywhere around the estate.
func (p place) leftovers() (out []string) {
	top := filepath.Dir(p.dir)
	err := filepath.WalkDir(top, func(path string, _ os.DirEntry, err error) error {
		if err == nil && strings.HasPrefix(filepath.Base(path), ".ironseal-") {
			out = append(out, path)
		}
		return err
	})
	if err != nil {
		p.t.Error(err)
	}
	return out
}
