package describe

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironseal/pki/bundle"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/pbes"
	"ironseal/pki/pkcs"
	"ironseal/pki/request"
	"ironseal/pki/san"
	"ironseal/pki/specimen"
)

// maker writes files and what they must give.
type maker struct {
	t     *testing.T
	lines []string
}

func (m *maker) add(name string, data []byte, want string) {
	m.t.Helper()
	if err := os.WriteFile(filepath.Join(corpus, name), data, 0o644); err != nil {
		m.t.Fatal(err)
	}
	m.lines = append(m.lines, name+"\t"+want)
}

// TestMakeCorpus makes the corpus again: MAKE_CORPUS=1 go test -run MakeCorpus.
func TestMakeCorpus(t *testing.T) {
	if os.Getenv("MAKE_CORPUS") == "" {
		t.Skip("the corpus is made already")
	}
	if err := os.RemoveAll(corpus); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(corpus, 0o755); err != nil {
		t.Fatal(err)
	}
	m := &maker{t: t}
	m.untidy()
	m.requests()
	m.hostileRequests()
	m.certificates()
	m.containers()
	m.keys()
	if err := os.WriteFile(filepath.Join(corpus, "expected.txt"), []byte(strings.Join(m.lines, "\n")+"\n"),
		0o644); err != nil {
		t.Fatal(err)
	}
	t.Logf("%d files", len(m.lines))
}

func armour(k bundle.Kind, der []byte) string { return string(bundle.PEM(k, der)) }

// untidy are the shapes in which one tidy request arrives.
func (m *maker) untidy() {
	r := specimen.Request(m.t, nil, "CN=pier.ternbay.example,O=Tern Bay Ferries", []string{"pier.ternbay.example"})
	p := armour(bundle.Request, r.Raw)
	lines := strings.Split(strings.TrimSpace(p), "\n")
	body := strings.Join(lines[1:len(lines)-1], "\n")
	indent := func(by string) string { return by + strings.Join(lines, "\n"+by) + "\n" }
	wide := func(s string, bigEndian bool) []byte {
		var out []byte
		for _, c := range s {
			if bigEndian {
				out = append(out, byte(c>>8), byte(c))
			} else {
				out = append(out, byte(c), byte(c>>8))
			}
		}
		return out
	}
	for i, data := range [][]byte{
		[]byte(p), r.Raw, []byte(strings.ReplaceAll(p, "CERTIFICATE REQUEST", "NEW CERTIFICATE REQUEST")),
		[]byte(strings.ReplaceAll(p, "\n", "\r\n")),
		[]byte(strings.ReplaceAll(p, "\n", "\r")), []byte(strings.ReplaceAll(p, "\n", "\n\n")),
		[]byte(strings.ReplaceAll(p, "\n", "")), []byte(strings.ReplaceAll(p, "\n", " ")),
		[]byte(indent("    ")), []byte(indent("\t")), []byte(indent("> ")), []byte(indent(">> ")),
		[]byte(indent("Mate> ")), []byte(indent("| ")),
		[]byte("Dear all,\nhere it is:\n" + p + "Regards\n"), append([]byte("\xef\xbb\xbf"), p...),
		append([]byte{0xff, 0xfe}, wide(p, false)...), append([]byte{0xfe, 0xff}, wide(p, true)...),
		wide(p, false), wide(p, true), []byte(strings.ReplaceAll(p, "\n", "\u00a0\n")),
		[]byte(strings.ReplaceAll(p, "\n", "\u200b\n")), []byte(strings.ReplaceAll(p, "-----", "–––––")),
		[]byte(strings.Join(lines[:len(lines)-1], "\n")), []byte(body), []byte(strings.ReplaceAll(body, "\n", "")),
		[]byte("request = \"" + strings.ReplaceAll(body, "\n", "") + "\""),
		[]byte(strings.ReplaceAll(p, "\n", `\n`)),
		[]byte(lines[0] + "\nComment: x\n\n" + strings.Join(lines[1:], "\n")), append(bytes.Clone(r.Raw), '\r', '\n'),
		[]byte(strings.ReplaceAll(p, "\n", " \t\n")), []byte("\n\n\n" + p),
		[]byte(lines[0] + "\n" + base64.RawURLEncoding.EncodeToString(r.Raw) + "\n" + lines[len(lines)-1]),
	} {
		m.add(fmt.Sprintf("untidy-%02d", i+1), data, "request")
	}
	m.add("two-in-one.pem", []byte(p+p), "request; request")
	m.add("two-in-one.der", append(bytes.Clone(r.Raw), r.Raw...), "request; request")
	m.add("good-then-cut.pem", []byte(p+p[:200]), "request; error: cut short")
}

func (m *maker) draft(subject dn.Name, set ext.Set, signer crypto.Signer) []byte {
	m.t.Helper()
	der, err := request.Draft(subject, set, signer, rand.Reader)
	if err != nil {
		m.t.Fatal(err)
	}
	return der
}

// rawNames makes an extension from names that are not checked.
func (m *maker) rawNames(names ...san.Name) ext.Set {
	e, err := ext.NamesExtension(names, false)
	if err != nil {
		m.t.Fatal(err)
	}
	return ext.Set{e}
}

// requests are readable requests, each with what an expert would notice.
func (m *maker) requests() {
	signer := specimen.Key(m.t, key.P256)
	rsa2048 := specimen.Key(m.t, key.RSA2048)
	dns := func(v string) san.Name { return san.Found(san.DNS, v) }
	full := "a.ternbay.example"
	for _, c := range []struct {
		name, subject string
		names         []san.Name
		want          string
	}{
		{"no-names", "CN=" + full, nil, "no-alternative-names"},
		{"no-names-person", "CN=Harbour Master", nil, "common-name-not-a-host no-alternative-names"},
		{"cn-not-listed", "CN=" + full, []san.Name{dns("b.ternbay.example")}, "common-name-not-listed"},
		{"short", "CN=pier", []san.Name{dns("pier")}, "short-name"},
		{"short-and-full", "CN=" + full, []san.Name{dns("a"), dns(full)}, ""},
		{"address-as-dns", "CN=" + full, []san.Name{dns(full), dns("192.0.2.7")}, "address-as-dns-name"},
		{"address", "CN=" + full, []san.Name{dns(full), san.Found(san.IP, "192.0.2.7")}, ""},
		{"address-6", "CN=" + full, []san.Name{dns(full), san.Found(san.IP, "2001:db8::7")}, ""},
		{"wildcard", "CN=*.ternbay.example", []san.Name{dns("*.ternbay.example")}, "wildcard-name"},
		{"wildcard-middle", "CN=" + full, []san.Name{dns(full), dns("a.*.example")}, "name-not-valid"},
		{"wildcard-part", "CN=" + full, []san.Name{dns(full), dns("w*.ternbay.example")}, "name-not-valid"},
		{"wildcard-top", "CN=" + full, []san.Name{dns(full), dns("*.example")}, "bare-domain"},
		{"idn", "CN=" + full, []san.Name{dns(full), dns("xn--fjre-woa.ternbay.example")}, "internationalised-name"},
		{"idn-mixed", "CN=" + full, []san.Name{dns(full), specimen.Names(m.t, "t\u0435rn.ternbay.example")[0]},
			"look-alike-letters"},
		{"underscore", "CN=" + full, []san.Name{dns(full), dns("gate_3.ternbay.example")}, "underscore-in-name"},
		{"twice", "CN=" + full, []san.Name{dns(full), dns(full)}, "name-twice"},
		{"twice-case", "CN=" + full, []san.Name{dns(full), dns("A.TernBay.example")}, "name-twice"},
		{"twice-dot", "CN=" + full, []san.Name{dns(full), dns(full + ".")}, "name-twice"},
		{"blank", "CN=" + full, []san.Name{dns(full), dns("a b.example")}, "name-not-valid"},
		{"empty-name", "CN=" + full, []san.Name{dns(full), dns("")}, "name-not-valid"},
		{"long-label", "CN=" + full, []san.Name{dns(full), dns(strings.Repeat("a", 64) + ".example")},
			"name-not-valid"},
		{"long-name", "CN=" + full, []san.Name{dns(full), dns(strings.Repeat("abcdefgh.", 32) + "example")},
			"name-not-valid"},
		{"dots", "CN=" + full, []san.Name{dns(full), dns("a..example")}, "name-not-valid"},
		{"escape", "CN=" + full, []san.Name{dns(full), dns("a\x1b[31m.example")}, "look-alike"},
		{"bidi", "CN=" + full, []san.Name{dns(full), dns("a\u202eb.example")}, "hostile-text"},
		{"nul", "CN=" + full, []san.Name{dns(full), dns("a.example\x00.evil.example")}, "hostile-text"},
		{"newline", "CN=" + full, []san.Name{dns(full), dns("a\nb")}, "hostile-text"},
		{"mail", "CN=" + full, []san.Name{dns(full), san.Found(san.Email, "crew@ternbay.example")}, ""},
		{"mail-bad", "CN=" + full, []san.Name{dns(full), san.Found(san.Email, "crew")}, "name-not-valid"},
		{"uri", "CN=" + full, []san.Name{dns(full), san.Found(san.URI, "https://ternbay.example/")}, ""},
		{"uri-bad", "CN=" + full, []san.Name{dns(full), san.Found(san.URI, "no scheme")}, "name-not-valid"},
		{"upn", "CN=" + full, []san.Name{dns(full), san.Found(san.UPN, "mate@ternbay.example")}, ""},
		{"path-cn", "CN=../../etc/x", []san.Name{dns(full)}, "common-name-not-a-host"},
		{"escape-cn", `CN=a\1b[31m`, []san.Name{dns(full)}, "hostile-text"},
		{"bidi-cn", `CN=gate\E2\80\AEx`, []san.Name{dns(full)}, "hostile-text"},
		{"newline-o", `CN=a.ternbay.example,O=two\0alines`, []san.Name{dns(full)}, "hostile-text"},
		{"country", "CN=" + full + ",C=#0c026e6f", []san.Name{dns(full)}, "country-code"},
		{"country-long", "CN=" + full + ",C=#0c064e6f72776179", []san.Name{dns(full)}, "country-code"},
		{"empty-subject", "", []san.Name{dns(full)}, "empty-subject"},
		{"many-parts", "CN=" + full + ",OU=a,OU=b,OU=c,O=Tern Bay Ferries,L=Quay,ST=Bay,C=NO", []san.Name{dns(full)},
			""},
		{"multi-valued", "CN=" + full + "+OU=x,O=Tern Bay", []san.Name{dns(full)}, ""},
	} {
		subject, err := dn.Parse(c.subject)
		if err != nil {
			m.t.Fatal(c.name, err)
		}
		var set ext.Set
		if c.names != nil {
			set = m.rawNames(c.names...)
		}
		want := strings.TrimSpace("request " + c.want)
		if c.name == "escape" {
			want = "request hostile-text"
		}
		m.add("request-"+c.name+".pem", []byte(armour(bundle.Request, m.draft(subject, set, signer))), want)
	}
	subject, _ := dn.Parse("CN=" + full)
	names := m.rawNames(dns(full))
	for _, c := range []struct {
		name string
		set  ext.Set
	}{
		{"asks-authority", ext.Set{ext.Basic{Authority: true, PathLength: -1}.Extension()}},
		{"asks-signing", ext.Set{ext.KeyCertSign.Extension()}},
		{"asks-usage", ext.Set{ext.DigitalSignature.Extension()}},
		{"asks-unknown", ext.Set{{ID: asn1.ObjectIdentifier{1, 2, 3, 4}, Value: []byte{5, 0}}}},
		{"asks-not-authority", ext.Set{ext.Basic{PathLength: -1}.Extension()}},
	} {
		m.add("request-"+c.name+".pem", []byte(armour(bundle.Request,
			m.draft(subject, append(bytesSet(names), c.set...), signer))), "request")
	}
	m.add("request-rsa.pem", []byte(armour(bundle.Request, m.draft(subject, names, rsa2048))), "request")
	for _, k := range []key.Kind{key.P384, key.P521, key.Ed25519} {
		m.add("request-"+string(k)+".pem", []byte(armour(bundle.Request,
			m.draft(subject, names, specimen.Key(m.t, k)))), "request")
	}
	for bits, want := range map[int]string{1024: "request weak-key", 2056: "request odd-key"} {
		k, err := rsa.GenerateKey(rand.Reader, bits)
		if err != nil {
			m.t.Fatal(err)
		}
		der, err := x509.CreateCertificateRequest(rand.Reader,
			&x509.CertificateRequest{RawSubject: subject.DER(), DNSNames: []string{full}}, k)
		if err != nil {
			m.t.Fatal(err)
		}
		m.add(fmt.Sprintf("request-rsa-%d.pem", bits), []byte(armour(bundle.Request, der)), want)
	}
}

func bytesSet(s ext.Set) ext.Set { return append(ext.Set(nil), s...) }

// hostileRequests are damaged at every kind of place.
func (m *maker) hostileRequests() {
	r := specimen.Request(m.t, nil, "CN=a.ternbay.example", []string{"a.ternbay.example"}).Raw
	for _, n := range []int{2, 4, 40, 100, len(r) / 2, len(r) - 1} {
		m.add(fmt.Sprintf("cut-%03d.der", n), r[:n], "error: ")
		m.add(fmt.Sprintf("cut-%03d.pem", n), []byte(armour(bundle.Request, r[:n])), "error: ")
	}
	forged := bytes.Clone(r)
	forged[len(forged)-4] ^= 1
	m.add("forged.der", forged, "request no-proof-of-possession")
	changed := bytes.Replace(bytes.Clone(r), []byte("a.ternbay"), []byte("b.ternbay"), 1)
	m.add("changed-subject.der", changed, "request common-name-not-listed no-proof-of-possession")
	long := bytes.Clone(r)
	long[2] = 0xff
	m.add("length-too-long.der", long, "error: cut short")
	m.add("length-huge.der", []byte{0x30, 0x84, 0x7f, 0xff, 0xff, 0xff, 1, 2, 3}, "error: cut short")
	m.add("length-open.der", []byte{0x30, 0x80, 0x02, 0x01}, "error: ")
	m.add("empty", nil, "error: empty")
	m.add("blank", []byte(" \r\n\t"), "error: empty")
	m.add("prose", []byte("Dear all, where is it?"), "error: no certificate, request or key")
	m.add("begin-only", []byte("-----BEGIN CERTIFICATE REQUEST-----\n"), "error: empty")
	m.add("begin-end", []byte("-----BEGIN CERTIFICATE REQUEST-----\n-----END CERTIFICATE REQUEST-----\n"),
		"error: empty")
	m.add("not-base64", []byte("-----BEGIN CERTIFICATE REQUEST-----\nMII%%%\n-----END CERTIFICATE REQUEST-----\n"),
		"error: not base 64")
	m.add("nested", bytes.Repeat([]byte{0x30, 0x80}, 500), "error: ")
	m.add("zeros", make([]byte, 5000), "error: ")
	m.add("html", []byte("<html><body>404 not found</body></html>"), "error: no certificate, request or key")
	m.add("json", []byte(`{"error":"not found"}`), "error: no certificate, request or key")
	// A sequence that is none of the known structures.
	m.add("other-structure.der", []byte{0x30, 0x06, 0x02, 0x01, 0x05, 0x0c, 0x01, 'x'}, "unknown object")
}

func (m *maker) certificates() {
	root := specimen.Make(m.t, nil, specimen.Plan{Subject: "CN=Root,O=Tern Bay", Authority: true})
	leaf := specimen.Make(m.t, root, specimen.Plan{Subject: "CN=a.ternbay.example",
		Names: []string{"a.ternbay.example"}, Extended: []string{"serverAuth"}})
	m.add("leaf.pem", []byte(armour(bundle.Certificate, leaf.Cert.Raw)), "certificate")
	m.add("leaf.der", leaf.Cert.Raw, "certificate")
	m.add("chain.pem", []byte(armour(bundle.Certificate, leaf.Cert.Raw)+armour(bundle.Certificate, root.Cert.Raw)),
		"certificate; certificate")
	m.add("trusted-label.pem", []byte(strings.ReplaceAll(armour(bundle.Certificate, leaf.Cert.Raw), "BEGIN CERTIFICATE",
		"BEGIN X509 CERTIFICATE")), "certificate")
	swap := func(name string, old, new []byte) {
		if !bytes.Contains(leaf.Cert.Raw, old) {
			m.t.Fatal(name)
		}
		m.add("broken-"+name+".der", bytes.Replace(leaf.Cert.Raw, old, new, 1), "certificate certificate-malformed")
	}
	swap("version", []byte{0xa0, 3, 2, 1, 2}, []byte{0xa0, 3, 2, 1, 0})
	swap("version-9", []byte{0xa0, 3, 2, 1, 2}, []byte{0xa0, 3, 2, 1, 9})
	swap("time", []byte("261023120000Z"), []byte("269923120000Z"))
	swap("algorithm", []byte{0x30, 0x0a, 0x06, 0x08, 0x2a, 0x86, 0x48, 0xce, 0x3d, 0x04, 0x03, 0x02},
		[]byte{0x30, 0x0a, 0x06, 0x08, 0x2a, 0x86, 0x48, 0xce, 0x3d, 0x04, 0x03, 0x03})
	swap("usage", []byte{0x03, 0x02, 0x07, 0x80}, []byte{0x04, 0x02, 0x07, 0x80})
	m.add("broken-trailing.der", append(bytes.Clone(leaf.Cert.Raw), 0x05, 0x00), "certificate; error: not ASN.1")
	m.add("authority.pem", []byte(armour(bundle.Certificate, root.Cert.Raw)), "certificate")
}

func (m *maker) containers() {
	signer := specimen.Key(m.t, key.P256)
	root := specimen.Make(m.t, nil, specimen.Plan{Subject: "CN=Root,O=Tern Bay", Authority: true})
	leaf := specimen.Make(m.t, root, specimen.Plan{Subject: "CN=a.ternbay.example",
		Names: []string{"a.ternbay.example"}, Signer: signer})
	p7, err := pkcs.WriteSignedData([][]byte{leaf.Cert.Raw, root.Cert.Raw})
	if err != nil {
		m.t.Fatal(err)
	}
	m.add("chain.p7b", p7, "certificate; certificate")
	m.add("chain.p7b.pem", []byte(armour(bundle.SignedData, p7)), "certificate; certificate")
	open := append([]byte{0x30, 0x80}, p7[4:]...)
	m.add("chain-open-length.p7b", append(open, 0, 0), "certificate; certificate")
	for _, n := range []int{20, 60, len(p7) / 2, len(p7) - 2} {
		m.add(fmt.Sprintf("cut-%04d.p7b", n), p7[:n], "error: ")
	}
	none := []byte{0x30, 0x23, 0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x02, 0xa0, 0x16, 0x30, 0x14,
		0x02, 0x01, 0x01, 0x31, 0x00, 0x30, 0x0b, 0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x01,
		0x31, 0x00}
	m.add("no-certificates.p7b", none, "error: there are no certificates in it")
	m.add("enveloped.p7b", []byte{0x30, 0x0f, 0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x03, 0xa0,
		0x02, 0x30, 0x00}, "error: it wraps data that is encrypted")
	for _, profile := range []pkcs.Profile{pkcs.Modern, pkcs.PBMAC1, pkcs.Older} {
		der, err := pkcs.WriteStore([]pkcs.StoreEntry{{Signer: signer, Name: "quay"}, {Certificate: leaf.Cert.Raw}},
			[]byte("puffin"), profile, rand.Reader)
		if err != nil {
			m.t.Fatal(err)
		}
		m.add("store-"+string(profile)+".p12", der, "PKCS#12 container")
		m.add("store-"+string(profile)+"-cut.p12", der[:len(der)-10], "error: cut short")
	}
	mixed := armour(bundle.Certificate, leaf.Cert.Raw) + armour(bundle.Request,
		specimen.Request(m.t, signer, "CN=a.ternbay.example", []string{"a.ternbay.example"}).Raw)
	m.add("mixed.pem", []byte(mixed), "certificate; request")
}

func (m *maker) keys() {
	for _, kind := range []key.Kind{key.P256, key.RSA2048, key.Ed25519} {
		signer := specimen.Key(m.t, kind)
		plain, err := key.Plain(signer)
		if err != nil {
			m.t.Fatal(err)
		}
		encrypted, err := pbes.Encrypt(signer, []byte("puffin"), pbes.Work{Iterations: 1000}, rand.Reader)
		if err != nil {
			m.t.Fatal(err)
		}
		pub, _ := key.Of(signer)
		m.add("key-"+string(kind)+".pem", []byte(armour(bundle.PrivateKey, plain)), "private key")
		m.add("key-"+string(kind)+".der", plain, "private key")
		m.add("key-"+string(kind)+"-sealed.pem", []byte(armour(bundle.EncryptedKey, encrypted)),
			"encrypted private key")
		m.add("key-"+string(kind)+"-public.pem", []byte(armour(bundle.PublicKey, pub.SPKI)), "public key")
		m.add("key-"+string(kind)+"-cut.pem", []byte(armour(bundle.PrivateKey, plain[:len(plain)-3])),
			"error: cut short")
		switch k := signer.(type) {
		case *rsa.PrivateKey:
			m.add("key-pkcs1.pem", pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY",
				Bytes: x509.MarshalPKCS1PrivateKey(k)}), "private key")
		case *ecdsa.PrivateKey:
			der, err := x509.MarshalECPrivateKey(k)
			if err != nil {
				m.t.Fatal(err)
			}
			m.add("key-sec1.pem", pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: der}), "private key")
		}
	}
	signer := specimen.Key(m.t, key.P256)
	encrypted, err := pbes.Encrypt(signer, []byte("puffin"), pbes.Work{Memory: 1 << 14}, rand.Reader)
	if err != nil {
		m.t.Fatal(err)
	}
	m.add("key-scrypt.pem", []byte(armour(bundle.EncryptedKey, encrypted)), "encrypted private key")
}
