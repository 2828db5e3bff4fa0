package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/trust/anchors"
	"ironseal/pki/bundle"
	"ironseal/pki/label"
	"ironseal/pki/specimen"
)

// partner is a root that somebody else offers, and what else lay beside it.
func partner(t *testing.T) (root, mid, leaf *specimen.Entity) {
	now := time.Now()
	life := func(p specimen.Plan) specimen.Plan {
		p.From, p.Until = now.Add(-time.Hour), now.AddDate(5, 0, 0)
		return p
	}
	root = specimen.Make(t, nil, life(specimen.Plan{Subject: "CN=Sandpiper Root $(touch x) \"`id`\"", Authority: true}))
	mid = specimen.Make(t, root, life(specimen.Plan{Subject: "CN=Sandpiper Services", Authority: true}))
	leaf = specimen.Make(t, mid, life(specimen.Plan{Subject: "CN=gw.sandpiper.ternbay.example",
		Names: []string{"gw.sandpiper.ternbay.example"}}))
	return root, mid, leaf
}

func pemOf(list ...*specimen.Entity) []byte {
	var b bytes.Buffer
	for _, e := range list {
		b.Write(bundle.PEM(bundle.Certificate, e.Cert.Raw))
	}
	return b.Bytes()
}

// From the estate's own roots to a set with a partner's root for the partner's names alone.
func TestTrustSets(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	if out := p.must("trust", "show"); !strings.Contains(out, "Trust set own") || strings.Count(out, "SHA-256") != 1 {
		t.Error(out)
	}
	root, mid, leaf := partner(t)
	p.must("trust", "create", "partners", "--title", "What the booking desk trusts")
	p.refused(1, "there already", "trust", "create", "partners")
	p.refused(1, "every estate has", "trust", "create", "own")
	p.file("../root.pem", pemOf(root))
	out := p.must("trust", "add", "partners", "../root.pem", "root", "--trusted-for", "servers,clients",
		"--may-certify",
		"dns:sandpiper.ternbay.example", "--yes")
	sum := root.Cert.SHA256()
	for _, want := range []string{"Only for      dns:sandpiper.ternbay.example", "servers, clients",
		label.Colons(sum[:]),
		"✓ added 2 anchors"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing:\n%s", want, out)
		}
	}
	p.refused(1, "is in the set already", "trust", "add", "partners", "../root.pem", "--yes")
	p.file("../leaf.pem", pemOf(leaf))
	p.refused(1, "a machine's or a person's certificate", "trust", "add", "partners", "../leaf.pem", "--yes")
	p.refused(3, "anchor-is-a-leaf", "trust", "add", "partners", "../leaf.pem", "--fingerprint",
		fmt.Sprintf("%x", leaf.Cert.SHA256()), "--yes")
	p.file("../mid.pem", pemOf(mid))
	if out := p.must("trust", "add", "partners", "../mid.pem", "--fingerprint", fmt.Sprintf("%X", mid.Cert.SHA256()),
		"--yes"); !strings.Contains(out, "anchor-is-intermediate") {
		t.Error(out)
	}
	p.refused(2, "SHA-1", "trust", "add", "partners", "../mid.pem", "--fingerprint", fmt.Sprintf("%x", mid.Cert.SHA1()))
	p.refused(1, "no certificate offered has", "trust", "add", "partners", "../mid.pem", "--fingerprint",
		strings.Repeat("ab", 32))
	p.refused(1, `did you mean "partners"`, "trust", "show", "partnrs")
	p.must("trust", "drop", "partners", label.CheckCode(mid.Cert.Raw), "--yes")
	p.must("trust", "drop", "partners", "root", "--yes")
	p.refused(1, "no anchor in it", "trust", "drop", "partners", "root", "--yes")
	p.refused(1, "cannot be changed by hand", "trust", "add", "own", "../root.pem", "--yes")
	p.must("estate", "check")
	p.must("estate", "backup", "../b.tar")
	p.must("estate", "restore", "../b.tar", "../again")
	again := p
	again.dir = p.dir + "/../again"
	if a, b := p.must("trust", "show", "partners"), again.must("trust", "show", "partners"); a != b {
		t.Errorf("the backup has another set:\n%s\n%s", a, b)
	}
	p.file("sets/partners.toml", []byte("title = \"x\"\nanchr = 1\n"))
	p.refused(4, "sets/partners.toml:2:1", "estate", "check")
}

// zipOf packs names and contents.
func zipOf(t *testing.T, files [][2]string) []byte {
	t.Helper()
	var b bytes.Buffer
	zw := zip.NewWriter(&b)
	for _, f := range files {
		w, err := zw.Create(f[0])
		if err != nil {
			t.Fatal(err)
		}
		w.Write([]byte(f[1]))
	}
	if err := zw.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// An archive that another product offers is examined file by file.
func TestAnArchiveOfRoots(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("trust", "create", "partners")
	root, mid, leaf := partner(t)
	files := [][2]string{{"certs/lin/root.0", string(pemOf(root))}, {"certs/win/root.crt", string(root.Cert.Raw)},
		{"../../../etc/mid.crt", string(pemOf(mid))}, {"leaf.pem", string(pemOf(leaf))}, {"README", "take the first"},
		{"root.r0", "-----BEGIN X509 CRL-----\nAAAA\n-----END X509 CRL-----\n"}}
	var g bytes.Buffer
	gw := gzip.NewWriter(&g)
	tw := tar.NewWriter(gw)
	for _, f := range files {
		if err := tw.WriteHeader(&tar.Header{Name: f[0], Size: int64(len(f[1])), Mode: 0o644}); err != nil {
			t.Fatal(err)
		}
		tw.Write([]byte(f[1]))
	}
	tw.WriteHeader(&tar.Header{Name: "link.crt", Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"})
	for _, err := range []error{tw.Close(), gw.Close()} {
		if err != nil {
			t.Fatal(err)
		}
	}
	zipped := zipOf(t, files)
	for name, data := range map[string][]byte{"zip": zipped, "tgz": g.Bytes()} {
		p.must("trust", "create", "from-"+name)
		out := p.must("trust", "add", "from-"+name, p.file("../roots."+name, data), "--yes")
		for _, want := range []string{"✓ added 1 anchor", "is the same as in",
			"etc/mid.crt: Sandpiper Services is an intermediate",
			"leaf.pem: gw.sandpiper.ternbay.example is a machine's", "README: there is no certificate"} {
			if !strings.Contains(strings.Join(strings.Fields(out), " "), want) {
				t.Errorf("%s: %q is missing:\n%s", name, want, out)
			}
		}
	}
	var bomb bytes.Buffer
	bw := zip.NewWriter(&bomb)
	for i := range 20 {
		w, err := bw.Create(fmt.Sprint(i))
		if err != nil {
			t.Fatal(err)
		}
		w.Write(make([]byte, 8<<20))
	}
	bw.Close()
	p.refused(1, "holds more than", "trust", "add", "partners", p.file("../bomb.zip", bomb.Bytes()), "--yes")
	p.refused(1, "roots.cut", "trust", "add", "partners", p.file("../roots.cut", zipped[:len(zipped)/2]), "--yes")
}

// What a server presents is believed only with a fingerprint that somebody read out.
func TestAnEndpointIsNotBelieved(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("trust", "create", "partners")
	root, mid, leaf := partner(t)
	at := listening(t, &tls.Config{Certificates: []tls.Certificate{{PrivateKey: leaf.Signer,
		Certificate: [][]byte{leaf.Cert.Raw, mid.Cert.Raw, root.Cert.Raw}}}})
	p.refused(2, "believed only with a fingerprint", "trust", "add", "partners", "--endpoint", at, "--yes")
	p.refused(1, "no certificate offered has", "trust", "add", "partners", "--endpoint", at, "--fingerprint",
		strings.Repeat("0", 64), "--yes")
	sum := root.Cert.SHA256()
	p.must("trust", "add", "partners", "--endpoint", at, "--fingerprint", "sha256: "+label.Colons(sum[:]), "--yes")
	if out := p.must("trust", "show", "partners", "--json"); !strings.Contains(out, fmt.Sprintf("%x", sum)) {
		t.Error(out)
	}
}

// Two who change one set at once: the second is told.
func TestTwoAtOneSet(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("trust", "create", "partners")
	done := make(chan result, 2)
	for i := range 2 {
		root, _, _ := partner(t)
		file := p.file(fmt.Sprintf("../root-%d.pem", i), pemOf(root))
		go func() { done <- p.run("", "trust", "add", "partners", file, "--yes") }()
	}
	a, b := <-done, <-done
	held := strings.Count(p.must("trust", "show", "partners", "--json"), `"sha256"`)
	ok := 0
	for _, r := range []result{a, b} {
		if r.code == 0 {
			ok++
		} else if !strings.Contains(r.errors, "changed meanwhile") {
			t.Errorf("%+v", r)
		}
	}
	if held != ok || ok == 0 {
		t.Errorf("%d succeeded, and the set holds %d anchors", ok, held)
	}
	p.must("estate", "check")
}

// A kit is a folder that says what it is for; an earlier one is replaced after asking, what
// is none never, and nothing is packed half.
func TestKits(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	out := p.must("trust", "kit", "--for", "debian,java,chromium", "--out", "../kits")
	if strings.Count(out, "✓ wrote") != 3 {
		t.Error(out)
	}
	sums := string(p.read("../kits/own.debian/SHA256SUMS"))
	p.refused(2, "answer beforehand with --yes", "trust", "kit", "--for", "debian", "--out", "../kits")
	p.must("trust", "kit", "--for", "debian", "--out", "../kits", "--yes")
	if again := string(p.read("../kits/own.debian/SHA256SUMS")); again != sums {
		t.Error("the same set gave another kit")
	}
	p.file("../kits/own.debian/mine", []byte("x"))
	p.refused(1, "would be lost", "trust", "kit", "--for", "debian", "--out", "../kits", "--yes")
	p.refused(1, `did you mean "debian"`, "trust", "kit", "--for", "debain", "--out", "../more")
	p.refused(1, "did you mean", "trust", "kit", "--for", "java,debain", "--out", "../more")
	if p.exists("../more/own.java") {
		t.Error("one platform is not there, and another was packed")
	}
	p.refused(2, "say for what", "trust", "kit", "--out", "../more")
	p.must("trust", "create", "empty")
	p.refused(1, "holds no anchor", "trust", "kit", "empty", "--for", "debian", "--out", "../more")
	old := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Old", Authority: true, From: time.Now().AddDate(-9, 0, 0),
		Until: time.Now().AddDate(-1, 0, 0)})
	p.file("../old.pem", pemOf(old))
	p.refused(3, "anchor-expired", "trust", "add", "empty", "../old.pem", "--yes")
	p.must("trust", "add", "empty", "../old.pem", "--waive", "anchor-expired", "--because", "a museum piece", "--yes")
	p.refused(3, "expired on", "trust", "kit", "empty", "--for", "debian", "--out", "../more")
	p.file("platforms/quay.toml", []byte("title = \"Quay gates\"\n[[file]]\nname = \"gate.pem\"\nform = \"pem\"\n"))
	p.must("trust", "kit", "--for", "quay", "--out", "../kits")
	if page := string(p.read("../kits/own.quay/READ-ME.txt")); !strings.Contains(page, "Quay gates") {
		t.Error(page)
	}
	p.file("platforms/quay.toml", []byte("title = \"Quay gates\"\n[[file]]\nname = \"gate.pem\"\nfrom = \"pem\"\n"))
	p.refused(1, `did you mean "form"`, "trust", "kit", "--for", "quay", "--out", "../kits", "--yes")
	policy := p.file("../policies.json", []byte(`{"policies":{"DisableTelemetry":true}}`))
	p.must("trust", "kit", "--for", "firefox", "--with-policy", policy, "--out", "../kits")
	if text := string(p.read("../kits/own.firefox/policies.json")); !strings.Contains(text,
		`"DisableTelemetry": true`) || !strings.Contains(text, ".der\"") {
		t.Error(text)
	}
	p.refused(1, "firefox or chromium", "trust", "kit", "--for", "debian", "--with-policy", policy, "--out", "../more")
	p.file("../policies.json", []byte(`{"policies":`))
	p.refused(1, "stays as it is", "trust", "kit", "--for", "firefox", "--with-policy", policy, "--out", "../more")
	p.refused(2, "use one of zip, tar.gz", "trust", "kit", "--for", "debian", "--archive", "rar", "--out", "../kits")
	for _, form := range []string{"zip", "tar.gz"} {
		file := "../kits/own.debian." + form
		p.must("trust", "kit", "--for", "debian", "--archive", form, "--out", "../kits")
		first := p.read(file)
		p.refused(2, "answer beforehand with --yes",
			"trust", "kit", "--for", "debian", "--archive", form, "--out", "../kits")
		p.must("trust", "kit", "--for", "debian", "--archive", form, "--out", "../kits", "--yes")
		if !bytes.Equal(first, p.read(file)) {
			t.Errorf("%s: the same set gave another archive", form)
		}
		found, err := anchors.Look("kit."+form, first)
		if err != nil || !slices.ContainsFunc(found, func(f anchors.Found) bool { return len(f.Certificates) == 1 }) {
			t.Errorf("%s: %v %v", form, found, err)
		}
	}
	p.must("journal", "verify")
}

// A signed kit is checked with the root alone: what was changed on the way is reported, and the
// key that signed it is renewed by nobody.
func TestSignedKits(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.refused(2, "answer beforehand with --yes", "trust", "kit", "--for", "debian", "--out", "../kits",
		"--sign-by", "root")
	p.must("trust", "kit", "--for", "debian,java", "--out", "../kits", "--sign-by", "root", "--yes")
	p.must("trust", "kit", "--for", "debian", "--out", "../kits", "--sign-by", "root", "--archive", "zip", "--yes")
	p.must("authority", "export", "root", "--out", "../root.pem")
	for _, kit := range []string{"../kits/own.debian", "../kits/own.java", "../kits/own.debian.zip"} {
		if out := p.must("trust", "check", kit); !strings.Contains(out, "is what was packed") {
			t.Error(out)
		}
		elsewhere := p
		elsewhere.dir = t.TempDir()
		elsewhere.must("trust", "check", at(p, kit), "--anchor", at(p, "../root.pem"))
	}
	if out := p.must("due", "--within", "1y"); strings.Contains(out, "Trust kits") {
		t.Error(out)
	}
	if out := p.must("certificate", "renew", "--due", "--within", "1y", "--yes"); strings.Contains(out, "Trust kits") {
		t.Error(out)
	}
	p.file("../kits/own.debian/more.crt", []byte("x"))
	p.refused(4, "more.crt was added", "trust", "check", "../kits/own.debian")
	other := another(t)
	other.refused(4, "do not install it", "trust", "check", at(p, "../kits/own.java"))
	p.must("trust", "kit", "--for", "bundle", "--out", "../kits")
	p.refused(4, "it is not signed", "trust", "check", "../kits/own.bundle")
	p.refused(1, "it is no kit", "trust", "check", "../kits")
	p.refused(1, "no authority is called", "trust", "kit", "--for", "bundle", "--out", "../more", "--sign-by", "nobody",
		"--yes")
	if out := p.must("request", "list", "--state", "any"); strings.Contains(out, "waiting") {
		t.Errorf("the request of a key that was not certified waits for ever: %s", out)
	}
	p.must("estate", "check")
	p.must("journal", "verify")
}

func at(p place, name string) string { return filepath.Join(p.dir, name) }

// What machines report is on record, and what each lacks is told by its last report.
func TestMachinesReport(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	var set struct{ Anchors []struct{ SHA256 string } }
	if err := json.Unmarshal([]byte(p.must("trust", "show", "--json")), &set); err != nil {
		t.Fatal(err)
	}
	line := func(host, act, missing string, day int) string {
		return fmt.Sprintf(`{"host":"%s","platform":"debian","store":"/usr/local/share/ca-certificates","act":"%s",`+
			`"complete":true,"sha256":["%s"],"missing":[%s],"when":"2026-11-%02dT12:00:00Z"}`+"\n", host, act,
			set.Anchors[0].SHA256, missing, day)
	}
	gone := `"` + set.Anchors[0].SHA256 + `"`
	p.file("../a.json", []byte(line("gate-1", "install", "", 1)+line("gate-2", "install", "", 2)))
	p.file("../b.json", []byte(line("gate-1", "remove", gone, 5)+line("gate-2", "check", gone, 1)))
	p.must("trust", "record", "../a.json", "../b.json")
	out := p.must("trust", "machines")
	if strings.Count(out, "✓ all there") != 1 || strings.Count(out, "✗ lacks") != 1 {
		t.Error(out) // what is older than another report counts for nothing
	}
	p.file("../c.json", []byte(line("gate-1", "install", "", 6)))
	p.must("trust", "record", "../c.json")
	if out := p.must("trust", "machines"); strings.Count(out, "✓ all there") != 2 {
		t.Error(out)
	}
	for _, bad := range []string{"", "x", `{"host":"a b"}`, line("gate-1\u001b[2J", "check", "", 1),
		line("gate-1", "steal", "", 1), strings.Replace(line("gate-1", "check", "", 1), "2026", "2096", 1),
		strings.Replace(line("gate-1", "check", "", 1), "/usr", "\u202e", 1),
		strings.Replace(line("gate-1", "check", "", 1), set.Anchors[0].SHA256, "abcd", 1)} {
		p.file("../bad.json", []byte(line("gate-9", "check", "", 1)+bad+"\n"))
		if bad == "" {
			p.file("../bad.json", []byte("\n"))
		}
		p.refused(1, "report", "trust", "record", "../bad.json")
	}
	if out := p.must("trust", "machines"); strings.Contains(out, "gate-9") {
		t.Error("a file was imported by half")
	}
	p.must("journal", "verify")
	p.must("estate", "check")
}
