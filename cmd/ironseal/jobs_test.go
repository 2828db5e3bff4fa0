package main

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"strings"
	"testing"
	"unicode/utf16"

	"ironseal/pki/bundle"
	"ironseal/pki/request"
	"ironseal/pki/specimen"
)

// Requests come as they come. Each is understood, or refused with what to do.
func TestWhatPeopleSend(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	der := func(host string) []byte { return specimen.Request(t, nil, "CN="+host, []string{host}).Raw }
	quoted := "> Dear all,\n> here is our request:\n> " +
		strings.ReplaceAll(string(bundle.PEM(bundle.Request, der("paste.ternbay.example"))), "\n", "\n> ") +
		"\n> Regards\n"
	if r := p.run(quoted, "request", "receive", "-", "--from", "pier team"); r.code != 0 || !strings.Contains(r.out,
		"quot") {
		t.Errorf("a quoted paste: %+v", r)
	}
	p.must("request", "receive", p.file("../binary.csr", der("binary.ternbay.example")))
	bare := specimen.Request(t, nil, "CN=no-names.ternbay.example", nil).Raw
	out := p.must("request", "receive", p.file("../bare.pem", bundle.PEM(bundle.Request, bare)))
	if !strings.Contains(out, "lists no alternative names") && !strings.Contains(out, "common name") {
		t.Errorf("without names: %s", out)
	}
	small, err := rsa.GenerateKey(rand.Reader, 1024)
	if err != nil {
		t.Fatal(err)
	}
	weak, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{
		Subject: pkix.Name{CommonName: "old.ternbay.example"}, DNSNames: []string{"old.ternbay.example"}}, small)
	if err != nil {
		t.Fatal(err)
	}
	out = p.must("request", "receive", p.file("../weak.pem", bundle.PEM(bundle.Request, weak)))
	if !strings.Contains(out, "weak-key") || strings.Contains(out, "then sign") || !strings.Contains(out,
		"ironseal request decline R4 --because TEXT") {
		t.Errorf("RSA 1024: %s", out)
	}
}

// A device made its key itself. The answer goes to it without the key, and nothing asks for one.
func TestTheAnswerForAKeyThatStaysOnTheDevice(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	for i, c := range []struct{ ask, own string }{{"java", "java-own-key"}, {"windows", "windows-own-key"}} {
		host := c.ask + ".ternbay.example"
		number := p.send(host, []string{host})
		p.refused(3, "--for "+c.own, "sign", number, "--template", "web-server", "--by", "services", "--for", c.ask,
			"--yes")
		p.must("sign", number, "--template", "web-server", "--by", "services", "--for", c.own, "--yes")
		out := p.must("certificate", "handover", number, "--for", c.own, "--out", "../out")
		if strings.Contains(out, "--make-password") || strings.Contains(out, "export") {
			t.Errorf("%d: %s", i, out)
		}
		answer := p.read("../out/" + host + "." + c.own + "/" + host + ".answer.p7b")
		block, rest := pem.Decode(answer)
		contents, err := bundle.Read(answer)
		if block == nil || block.Type != "PKCS7" || len(strings.TrimSpace(string(rest))) != 0 || err != nil ||
			len(contents.Of(bundle.Certificate)) != 3 || strings.Contains(string(answer), "PRIVATE KEY") {
			t.Errorf("the answer: %v %v", block, err)
		}
	}
}

// An own template, from what the messages say alone.
func TestAnOwnTemplateFromTheMessages(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("template", "copy", "web-server", "quay-device", "--title", "Quay device")
	file := "templates/quay-device.toml"
	text := string(p.read(file))
	p.file(file, []byte(text+"lifetme = \"90d\"\n"))
	number := p.send("gate.ternbay.example", []string{"gate.ternbay.example"})
	if r := p.run("", "sign", number, "--template", "quay-device", "--yes"); r.code == 0 || !strings.Contains(r.errors,
		`did you mean "lifetime"`) {
		t.Errorf("a mistyped key: %+v", r)
	}
	p.file(file, []byte(text+"lifetime = \"90d\"\n"))
	if out := p.must("template", "check", "quay-device"); !strings.Contains(out, "✓ quay-device") {
		t.Error(out)
	}
	p.must("sign", number, "--template", "quay-device", "--by", "services", "--yes")
	if out := p.must("certificate", "show", number); !strings.Contains(out, "89 days") {
		t.Errorf("its life: %s", out)
	}
}

// A root that signs servers on its own, from the first command on, or allowed later.
func TestASingleRootSignsServers(t *testing.T) {
	t.Parallel()
	p := place{t: t, dir: t.TempDir()}
	p.must("estate", "create", "quay", "--organisation", "Tern Bay Ferries", "--single-root", "--publish-at",
		"http://pki.ternbay.example")
	p.dir += "/quay"
	p.env = []string{"IRONSEAL_PASSPHRASE_FILE=" + p.file("../pass", []byte("tern and gull\n"))}
	if out := p.must("authority", "create", "root", "--key", "ecdsa-p256", "--yes"); strings.Contains(out,
		"create services") {
		t.Errorf("it advises an intermediate: %s", out)
	}
	p.must("sign", p.send("pier.ternbay.example", []string{"pier.ternbay.example"}), "--template", "web-server",
		"--yes")
	if out := p.must("certificate", "show", "R1", "--all"); !strings.Contains(out,
		"http://pki.ternbay.example/root.g1") {
		t.Errorf("it names no list: %s", out)
	}
	h := empty(t)
	h.must("authority", "create", "root", "--key", "ecdsa-p256", "--yes")
	number := h.send("mole.ternbay.example", []string{"mole.ternbay.example"})
	r := h.run("", "sign", number, "--template", "web-server", "--yes")
	if r.code == 0 || !strings.Contains(r.errors, "ironseal template allow web-server root") {
		t.Fatalf("%+v", r)
	}
	h.must("template", "allow", "web-server", "root")
	h.must("sign", number, "--template", "web-server", "--yes")
	h.must("estate", "check")
	h.refused(1, "signs by it already", "template", "allow", "web-server", "root")
}

// Another sender gets no certificate for a name that serves under another key, unless somebody waives it.
func TestANameThatServesIsToldOnTheSheet(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	first := specimen.Request(t, nil, "CN=pier.ternbay.example", []string{"pier.ternbay.example"})
	second := specimen.Request(t, nil, "CN=pier.ternbay.example", []string{"pier.ternbay.example"})
	receive := func(r *request.Request, file, from string) {
		p.must("request", "receive", p.file(file, bundle.PEM(bundle.Request, r.Raw)), "--from", from)
	}
	receive(first, "../a.pem", "pier team")
	p.must("sign", "R1", "--template", "web-server", "--by", "services", "--yes")
	receive(second, "../b.pem", "somebody else")
	p.refused(3, "name-of-another-sender", "sign", "R2", "--template", "web-server", "--by", "services", "--yes")
	p.must("sign", "R2", "--template", "web-server", "--by", "services", "--yes", "--waive", "name-of-another-sender",
		"--because", "the team was renamed")
	p.must("estate", "check")
}

// Editors, file managers and spreadsheets of Windows write and copy in ways of their own.
func TestInputAsWindowsMakesIt(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	wide := func(text string) []byte { // UTF-16 with its mark, as Notepad saves it
		out := []byte{0xff, 0xfe}
		for _, u := range utf16.Encode([]rune(strings.ReplaceAll(text, "\n", "\r\n"))) {
			out = append(out, byte(u), byte(u>>8))
		}
		return out
	}
	request := func(host string) string {
		return string(bundle.PEM(bundle.Request, specimen.Request(t, nil, "CN="+host, []string{host}).Raw))
	}
	file := p.file("../from notepad.txt", wide(request("notepad.ternbay.example")))
	if out := p.must("request", "receive", `"`+file+`"`); !strings.Contains(out, "received as R1") {
		t.Errorf("a file of Notepad, with the path in quotes: %s", out)
	}
	r := p.run(string(wide("Hello,\n"+request("paste.ternbay.example")+"\n")), "request", "receive", "-")
	if r.code != 0 || !strings.Contains(r.out, "received as R2") {
		t.Errorf("a paste in UTF-16: %+v", r)
	}
	table := "\ufeffparty;endpoint;owner\r\nquay-gate;gate.ternbay.example:443;\"Pier; team\"\r\n"
	p.must("party", "import", p.file("../parties.csv", []byte(table)))
	if out := p.must("party", "show", "quay-gate"); !strings.Contains(out, "Pier; team") {
		t.Error(out)
	}
}
