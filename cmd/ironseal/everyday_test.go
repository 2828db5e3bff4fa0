package main

import (
	"archive/tar"
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// People get certificates too: a request without names, a receiver for whoever signs
// programs, and files that only they can open.
func TestCodeSigningFromDraftToHandover(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	out := p.must("request", "draft", "--subject", "CN=Ferry Timetable,O=Tern Bay Ferries", "--template",
		"code-signing",
		"--out", "../drafts")
	if !strings.Contains(out, "Ferry-Timetable") && !strings.Contains(out, "Ferry_Timetable") {
		t.Error(out)
	}
	list, err := filepath.Glob(filepath.Join(p.dir, "../drafts/*.request.pem"))
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	p.must("request", "receive", list[0])
	p.must("sign", "R1", "--template", "code-signing", "--for", "code-signer", "--yes")
	p.must("certificate", "handover", "R1", "--for", "code-signer", "--encrypt-with", "../pass", "--out", "../out")
	found, err := filepath.Glob(filepath.Join(p.dir, "../out/*/*.p12"))
	if err != nil || len(found) != 1 {
		t.Fatal(found, err)
	}
	if out := p.must("read", found[0]); !strings.Contains(out, "PKCS#12") {
		t.Error(out)
	}
	p.refused(1, "at least one name", "request", "draft", "--subject", "O=Tern Bay Ferries", "--out", "../drafts")
}

// What a certificate is renewed to takes the place of what was handed over before, after
// it was asked; what is no handover is never replaced.
func TestASecondHandoverReplacesTheFirst(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("request", "draft", "a.ternbay.example", "--out", "..")
	p.must("request", "receive", "../a.ternbay.example.request.pem")
	p.must("sign", "R1", "--template", "web-server", "--yes")
	p.must("certificate", "handover", "R1", "--for", "nginx", "--out", "../out")
	folder := "../out/a.ternbay.example.nginx/"
	first := string(p.read(folder + "a.ternbay.example.with-issuers.pem"))
	p.must("certificate", "renew", "a.ternbay.example", "--yes")
	p.refused(2, "answer beforehand with --yes", "certificate", "handover", "a.ternbay.example", "--for", "nginx",
		"--out", "../out")
	if string(p.read(folder+"a.ternbay.example.with-issuers.pem")) != first {
		t.Error("nobody agreed, and it was replaced")
	}
	p.must("certificate", "handover", "a.ternbay.example", "--for", "nginx", "--out", "../out", "--yes")
	if second := string(p.read(folder + "a.ternbay.example.with-issuers.pem")); second == first {
		t.Error("the folder still has the earlier certificate")
	}
	list, err := os.ReadDir(filepath.Join(p.dir, "../out"))
	if err != nil || len(list) != 1 {
		t.Errorf("something was left behind: %v %v", list, err)
	}
	p.must("certificate", "handover", "a.ternbay.example", "--for", "nginx", "--out", "../other")
	if err := os.Remove(filepath.Join(p.dir, "../other/a.ternbay.example.nginx/READ-ME.txt")); err != nil {
		t.Fatal(err)
	}
	p.refused(1, "there already", "certificate", "handover", "a.ternbay.example", "--for", "nginx", "--out", "../other",
		"--yes")
	p.file(folder+"notes.txt", []byte("do not lose"))
	p.refused(1, "would be lost", "certificate", "handover", "a.ternbay.example", "--for", "nginx", "--out", "../out",
		"--yes")
	if err := os.Remove(filepath.Join(p.dir, folder+"notes.txt")); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(p.dir, folder+"sub"), 0o700); err != nil {
		t.Fatal(err)
	}
	p.refused(1, "no plain file", "certificate", "handover", "a.ternbay.example", "--for", "nginx", "--out", "../out",
		"--yes")
}

// A weak passphrase is reported, and refuses nothing.
func TestWeakPassphrasesAreTold(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	for text, word := range map[string]string{"tern": "it has 4 characters", "aaaaaaaaaaaaaaaa": "different characters",
		"my Password of 2026": "tried first", "skua, tern and gull": ""} {
		t.Run(text, func(t *testing.T) {
			p := p.with(t)
			p.file("../weak", []byte(text+"\n"))
			name := "x" + strings.ToLower(strings.ReplaceAll(text[:3], " ", "-"))
			r := p.run("", "authority", "create", name, "--under", "root", "--key", "ecdsa-p256", "--yes",
				"--passphrase-file", name+"=../weak", "--passphrase-file", "../pass")
			if r.code != 0 || word != "" && !strings.Contains(r.errors, word) || word == "" && r.errors != "" {
				t.Errorf("%q: %+v", text, r)
			}
			if strings.Contains(r.errors, text) {
				t.Errorf("the passphrase itself is told: %s", r.errors)
			}
		})
	}
}

// Templates are shown by what they give; where that differs none is put first, and an
// answered request is reported once.
func TestChoosingATemplate(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	n := p.send("a.ternbay.example", []string{"a.ternbay.example"})
	r := p.run("", "sign", n)
	for _, want := range []string{"serverAuth, clientAuth", "397 days", "not code-signing",
		"choose by what it is for"} {
		if !strings.Contains(r.out, want) {
			t.Errorf("%q is missing:\n%s", want, r.out)
		}
	}
	if strings.Contains(r.out, "--template web-server") || strings.Count(r.out, "takes only names of kind ip") != 1 {
		t.Errorf("one is put first, or a reason is told many times:\n%s", r.out)
	}
	p.must("sign", n, "--template", "web-server", "--yes")
	if r := p.run("", "sign", n); r.code != 1 || r.out != "" || strings.Count(r.errors, "is signed") != 1 {
		t.Errorf("%+v", r)
	}
}

// What comes next is what is true: a handover for the receiver that was named, and
// certificates that depend on a generation which was renewed.
func TestTheNextStepIsTheTrueOne(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	n := p.send("a.ternbay.example", []string{"a.ternbay.example"})
	out := p.must("sign", n, "--template", "web-server", "--for", "any-web-server", "--yes")
	if !strings.Contains(out, "ironseal certificate handover "+n+" --for any-web-server") {
		t.Error(out)
	}
	out = p.must("authority", "renew", "services", "--yes")
	for _, text := range []string{out, p.must("estate", "status")} {
		if !strings.Contains(text, "1 certificate still depends on services.g1") ||
			!strings.Contains(text, "ironseal certificate list --by services.g1") {
			t.Error(text)
		}
	}
	p.must("certificate", "renew", "a.ternbay.example", "--yes")
	if out := p.must("estate", "status"); strings.Contains(out, "depends on") {
		t.Error(out)
	}
}

// A bulk sheet has a row for every request, with what differs in its margin.
func TestABulkSheetHasARowARequest(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.send("a.ternbay.example", []string{"a.ternbay.example"})
	p.send("pier", []string{"pier"})
	out := p.must("sign", "--all", "--template", "web-server", "--yes")
	sheet, _, _ := strings.Cut(out, "serial")
	for _, want := range []string{"   R1", "!  R2"} {
		if !strings.Contains(sheet, want) {
			t.Errorf("%q is missing:\n%s", want, sheet)
		}
	}
}

// Keys of files that were called otherwise once still count, and an unknown key comes
// with those that exist.
func TestEarlierNamesOfKeysCount(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.file("ironseal.toml", madeBefore(t, "ironseal.toml"))
	p.file("templates/older.toml", []byte("based-on = \"web-server\"\ntitle = \"Older\"\n[findings]\nstop = "+
		"[\"short-name\"]\n"))
	n := p.send("pier", []string{"pier"})
	p.refused(3, "short-name", "sign", n, "--template", "older", "--yes")
	p.file("templates/odd.toml", []byte("based-on = \"web-server\"\ntitle = \"Odd\"\n[names]\nmots = 3\n"))
	r := p.run("", "template", "check", "odd")
	for _, want := range []string{"templates/odd.toml:4:1", `did you mean "most"`, "common-name-too"} {
		if !strings.Contains(r.errors, want) {
			t.Errorf("%q is missing: %s", want, r.errors)
		}
	}
	p.file("receivers/older.toml", madeBefore(t, "receivers/java.toml"))
	p.must("receiver", "check", "older")
	p.must("receiver", "copy", "nginx", "quay-gate")
	if out := p.must("receiver", "show", "quay-gate"); !strings.Contains(out, "downtime") {
		t.Error(out)
	}
	p.refused(1, "there already", "receiver", "copy", "nginx", "quay-gate")
	p.refused(1, "no receiver is called", "receiver", "check", "nothere")
}

// madeBefore is a file of an estate that an earlier program made.
func madeBefore(t *testing.T, name string) []byte {
	t.Helper()
	f, err := os.Open("../../internal/app/testdata/form-2.tar.gz")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	packed, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	for files := tar.NewReader(packed); ; {
		h, err := files.Next()
		if err != nil {
			t.Fatal(name, ": ", err)
		}
		if h.Name == "estate/"+name {
			data, err := io.ReadAll(files)
			if err != nil {
				t.Fatal(err)
			}
			return data
		}
	}
}
