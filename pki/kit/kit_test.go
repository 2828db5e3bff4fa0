package kit

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ironseal/pki/label"
	"ironseal/pki/pkcs"
	"ironseal/pki/specimen"
	"ironseal/pki/trust"
)

// hostile is a set whose certificates say what no script, policy or page may repeat.
func hostile(t testing.TB) Job {
	t.Helper()
	s := trust.Set{Name: "partners", Title: "what \u202e$(touch x)"}
	for i, subject := range []string{"CN=Root $(touch x) `id` \"'|&,O=Tern Bay",
		"CN=Second\u202eRoot \u0007bell"} {
		a := trust.Anchor{Certificate: specimen.Make(t, nil, specimen.Plan{Subject: subject, Authority: true}).Cert,
			From: "root.g1", Purposes: []trust.Purpose{trust.Servers}}
		if i == 1 {
			var err error
			if a.Permitted, err = trust.ParsePermitted([]string{"dns:sandpiper.example",
				"ip:192.0.2.0/24"}); err != nil {
				t.Fatal(err)
			}
		}
		if err := s.Add(a); err != nil {
			t.Fatal(err)
		}
	}
	return Job{Set: s, Mark: MarkOf("Tern Bay $(x) Ferries"), Owner: "Tern Bay \u0007Ferries"}
}

// Every platform that the program knows packs a hostile set: the same bytes each time, every
// file in the list of hashes, every name safe, nothing of a certificate's text in a script or
// policy, and nothing raw on the page.
func TestEveryPlatformPacksAHostileSet(t *testing.T) {
	j := hostile(t)
	if len(StarterNames()) < 18 {
		t.Errorf("%d platforms", len(StarterNames()))
	}
	for _, name := range StarterNames() {
		p, err := Parse(name, []byte(Starter(name)))
		if err != nil {
			t.Fatal(err)
		}
		files, notes, err := p.Pack(j)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		again, _, _ := p.Pack(Job{Set: trust.Set{Name: j.Set.Name, Title: j.Set.Title,
			Anchors: []trust.Anchor{j.Set.Anchors[1], j.Set.Anchors[0]}}, Mark: j.Mark, Owner: j.Owner})
		sums := map[string]string{}
		for i, f := range files {
			if !bytes.Equal(f.Data, again[i].Data) || f.Name != again[i].Name {
				t.Errorf("%s: %s differs from run to run", name, f.Name)
			}
			if !label.IsFileName(f.Name) || strings.ContainsAny(f.Name, "$`\"' ") || sums[f.Name] != "" {
				t.Errorf("%s: the file name %q", name, f.Name)
			}
			sums[f.Name] = fmt.Sprintf("%x", sha256.Sum256(f.Data))
			text := string(f.Data)
			if binary(f.Name) && !strings.Contains(text, "-----BEGIN") {
				continue // it is the certificate itself
			}
			if words := f.Name == PageFile || f.Name == "fingerprints.txt"; strings.ContainsAny(text, "\u202e\u0007") ||
				!words && (strings.Contains(text, "$(touch") || strings.Contains(text, "`id`")) {
				t.Errorf("%s: %s repeats a certificate's text", name, f.Name)
			}
		}
		if !p.Limits && !strings.Contains(strings.Join(notes, " "), "no limits on names") {
			t.Errorf("%s: nobody is told that limits do not hold: %v", name, notes)
		}
		list := string(files[len(files)-1].Data)
		for f, sum := range sums {
			if f != SumsFile && !strings.Contains(list, sum+"  "+f+"\n") {
				t.Errorf("%s: %s is not in %s", name, f, SumsFile)
			}
		}
		if strings.Count(list, "\n") != len(files)-1 {
			t.Errorf("%s: %s", name, list)
		}
	}
}

func binary(name string) bool {
	return slices.Contains([]string{".der", ".cer", ".p12", ".p7b", ".crt"}, filepath.Ext(name))
}

// Whatever the form, the certificates in it are the set's, byte for byte.
func TestFormsHoldTheCertificates(t *testing.T) {
	j := hostile(t)
	want := map[string]bool{}
	for _, a := range j.Set.Anchors {
		want[string(a.Certificate.Raw)] = true
	}
	same := func(what string, got [][]byte) {
		t.Helper()
		seen := map[string]bool{}
		for _, g := range got {
			if !want[string(g)] {
				t.Errorf("%s holds a certificate that is not of the set", what)
			}
			seen[string(g)] = true
		}
		if len(seen) != len(want) {
			t.Errorf("%s holds %d of %d certificates", what, len(seen), len(want))
		}
	}
	decode := func(text string) []byte {
		der, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
		if err != nil {
			t.Error(err)
		}
		return der
	}
	file := func(platform, name string) []byte {
		t.Helper()
		p, err := Parse(platform, []byte(Starter(platform)))
		if err != nil {
			t.Fatal(err)
		}
		files, _, err := p.Pack(j)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			if f.Name == name {
				return f.Data
			}
		}
		t.Fatalf("%s has no %s", platform, name)
		return nil
	}
	pems := func(text []byte, by string) (out [][]byte) {
		text = []byte(strings.ReplaceAll(string(text), "\n"+by, "\n"))
		for b, rest := pem.Decode(text); b != nil; b, rest = pem.Decode(rest) {
			out = append(out, b.Bytes)
		}
		return out
	}
	same("bundle", pems(file("bundle", "roots.pem"), ""))
	list, err := pkcs.ReadSignedData(file("bundle", "roots.p7b"))
	if err != nil {
		t.Error(err)
	}
	same("PKCS#7", list)
	store, err := pkcs.ReadStore(file("java", "roots.p12"), nil)
	if err != nil {
		t.Error(err)
	}
	list = nil
	for _, e := range store {
		list = append(list, e.Certificate)
	}
	same("PKCS#12", list)
	same("ConfigMap", pems(file("kubernetes", "roots.yaml"), "    "))
	same("Ansible", pems(file("ansible", "roots.yml"), "      "))
	same("cloud-init", pems(file("cloud-init", "user-data.yaml"), "      "))
	var policy struct {
		CACertificates                []string
		CACertificatesWithConstraints []struct {
			Certificate string
			Constraints struct {
				Names    []string `json:"permitted_dns_names"`
				Networks []string `json:"permitted_cidrs"`
			}
		}
	}
	if err := json.Unmarshal(file("chromium", "private-roots.json"), &policy); err != nil {
		t.Fatal(err)
	}
	c := policy.CACertificatesWithConstraints
	if len(c) != 1 || c[0].Constraints.Names[0] != "sandpiper.example" ||
		c[0].Constraints.Networks[0] != "192.0.2.0/24" {
		t.Errorf("%+v", c)
	}
	same("Chromium", [][]byte{decode(policy.CACertificates[0]), decode(c[0].Certificate)})
	list = nil
	d, in := xml.NewDecoder(bytes.NewReader(file("macos", "roots.mobileconfig"))), false
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		switch x := token.(type) {
		case xml.StartElement:
			in = x.Name.Local == "data"
		case xml.CharData:
			if in {
				list = append(list, decode(string(x)))
				in = false
			}
		}
	}
	same("profile", list)
}

// Anchors for another purpose are left out, and said; a set that leaves none is refused.
func TestPurposesAreKept(t *testing.T) {
	j := hostile(t)
	j.Set.Anchors[0].Purposes = []trust.Purpose{trust.Code}
	p, err := Parse("debian", []byte(Starter("debian")))
	if err != nil {
		t.Fatal(err)
	}
	files, notes, err := p.Pack(j)
	if err != nil || len(files) != 4 || !strings.Contains(strings.Join(notes, " "), "is left out") {
		t.Errorf("%d files, %v, %v", len(files), notes, err)
	}
	j.Set.Anchors = j.Set.Anchors[:1]
	if _, _, err := p.Pack(j); err == nil || !strings.Contains(err.Error(), "no anchor for debian") {
		t.Error(err)
	}
}

func TestPlatformMistakesAreTold(t *testing.T) {
	good := "title = \"t\"\n[[file]]\nname = \"roots.pem\"\nform = \"pem\"\n"
	if _, err := Parse("t", []byte(good)); err != nil {
		t.Fatal(err)
	}
	for old, bad := range map[string]string{`form = "pem"`: `form = "jks"`, `"roots.pem"`: `"../roots.pem"`,
		`name = "roots.pem"`: `name = "{file}.pem"`, `title = "t"`: `titel = "t"`,
		"roots.pem\"\nform": "SHA256SUMS\"\nform"} {
		if _, err := Parse("t", []byte(strings.Replace(good, old, bad, 1))); err == nil {
			t.Errorf("%s was taken", bad)
		}
	}
}

// The script passes shellcheck, and does its work in the shells of small systems: it
// installs, is harmless twice, tells what is stale, and takes out nothing but its own.
func TestTheStoreScript(t *testing.T) {
	j := hostile(t)
	dir := t.TempDir()
	store, bundle := filepath.Join(dir, "store"), filepath.Join(dir, "bundle.pem")
	p, err := Parse("debian", []byte(Starter("debian")))
	if err != nil {
		t.Fatal(err)
	}
	p.Values["store"], p.Values["bundle"] = store, bundle
	p.Values["update"] = "cat " + store + "/*.crt >" + bundle + "; echo ran >>" + dir + "/ran"
	p.Values["update-after-removal"] = p.Values["update"]
	files, _, err := p.Pack(j)
	if err != nil {
		t.Fatal(err)
	}
	kit := filepath.Join(dir, "kit")
	for _, d := range []string{kit, store} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	write := func(path string, data []byte) {
		t.Helper()
		if err := os.WriteFile(path, data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	var ours []string
	for _, f := range files {
		write(filepath.Join(kit, f.Name), f.Data)
		if strings.HasSuffix(f.Name, ".crt") {
			ours = append(ours, f.Name)
		}
	}
	write(filepath.Join(store, "theirs.crt"), []byte("not ours\n"))
	write(filepath.Join(store, j.Mark+"-older-0000.crt"), []byte("an earlier root\n"))
	if _, err := exec.LookPath("shellcheck"); err == nil {
		if out, err := exec.Command("shellcheck", "-s", "sh", filepath.Join(kit,
			"trust.sh")).CombinedOutput(); err != nil {
			t.Errorf("%s", out)
		}
	} else if os.Getenv("CI") == "true" {
		t.Error("shellcheck is missing")
	}
	for _, shell := range [][]string{{"dash"}, {"busybox", "sh"}, {"sh"}} {
		if _, err := exec.LookPath(shell[0]); err != nil {
			if os.Getenv("CI") == "true" {
				t.Errorf("%s is missing", shell[0])
			}
			continue
		}
		run := func(want int, args ...string) string {
			t.Helper()
			cmd := exec.Command(shell[0], slices.Concat(shell[1:], []string{filepath.Join(kit, "trust.sh")}, args)...)
			out, _ := cmd.CombinedOutput()
			if got := cmd.ProcessState.ExitCode(); got != want {
				t.Errorf("%s %v: exit status %d, want %d\n%s", shell, args, got, want, out)
			}
			return string(out)
		}
		run(2)
		run(2, "instal")
		if out := run(4, "check"); strings.Count(out, "missing") != 2 || !strings.Contains(out,
			"stale    "+j.Mark+"-older") {
			t.Error(out)
		}
		run(0, "install", "--dry-run")
		if _, err := os.Stat(filepath.Join(store, ours[0])); err == nil {
			t.Error("a dry run installed")
		}
		run(0, "install", "--report", filepath.Join(dir, "report"))
		if out := run(0, "check"); strings.Count(out, "there    ") != 2 {
			t.Error(out)
		}
		if out := run(0, "install"); !strings.Contains(out, "nothing to do") {
			t.Error(out)
		}
		var report struct {
			Platform string
			Complete bool
			SHA256   []string
		}
		data, err := os.ReadFile(filepath.Join(dir, "report"))
		if err != nil || json.Unmarshal(data, &report) != nil || report.Platform != "debian" ||
			len(report.SHA256) != 2 {
			t.Errorf("%v %s", err, data)
		}
		write(filepath.Join(store, ours[1]), []byte("changed by hand\n"))
		if out := run(4, "check"); !strings.Contains(out, "differs  "+ours[1]) {
			t.Error(out)
		}
		if out := run(0, "remove"); !strings.Contains(out, "leave "+store+"/"+ours[1]) {
			t.Error(out)
		}
		if err := os.Remove(filepath.Join(store, ours[1])); err != nil {
			t.Error(err)
		}
		left, err := os.ReadDir(store)
		if err != nil || len(left) != 2 {
			t.Errorf("%v %v", left, err)
		}
	}
}
