//go:build linux

package peers

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"encoding/pem"
	"os/exec"
	"strings"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/key"
	"ironseal/pki/pkcs"
)

// mail is a mail program's library, and a certificate for the mail of somebody.
type mail struct {
	estate
	perl string
	read *cert.Certificate
	key  *rsa.PrivateKey
}

func newMail(t *testing.T) mail {
	t.Helper()
	m := mail{estate: newEstate(t, "ecdsa-p256"), perl: peer(t, "perl")}
	if err := exec.Command(m.perl, "-MCrypt::SMIME", "-e", "1").Run(); err != nil {
		unavailable(t, "Perl's Crypt::SMIME is not installed here")
	}
	m.run(m.dir, "request", "draft", "ana@ternbay.example", "--key", "rsa-2048", "--out", m.dir)
	m.do("request", "receive", m.path("ana-ternbay.example.request.pem"))
	m.do("sign", "R1", "--template", "mail-protection", "--yes")
	m.do("certificate", "export", "R1", "--out", "../ana.pem")
	m.do("authority", "export", "root", "--out", "../root.pem")
	block, _ := pem.Decode(readFile(t, m.path("ana.pem")))
	var err error
	if m.read, err = cert.Read(block.Bytes); err != nil {
		t.Fatal(err)
	}
	block, _ = pem.Decode(readFile(t, m.path("ana-ternbay.example.key.pem")))
	signer, err := key.ReadPrivate(block.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	m.key = signer.(*rsa.PrivateKey)
	return m
}

// does runs the library on a message.
func (m mail) does(what string, message []byte) []byte {
	m.t.Helper()
	write(m.t, m.path("message"), string(message))
	cmd := exec.Command(m.perl, "testdata/mail.pl", what, m.path("ana-ternbay.example.key.pem"), m.path("ana.pem"),
		m.path("root.pem"), m.path("message"))
	var out, bad bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &bad
	if err := cmd.Run(); err != nil {
		m.t.Errorf("%s: %v %s", what, err, &bad)
	}
	return out.Bytes()
}

// inMail is a container as the only part of a mail.
func inMail(kind string, der []byte) []byte {
	text := base64.StdEncoding.EncodeToString(der)
	var b strings.Builder
	b.WriteString("From: ana@ternbay.example\nMIME-Version: 1.0\nContent-Type: application/pkcs7-mime; smime-type=" +
		kind + "; name=smime.p7m\nContent-Transfer-Encoding: base64\n\n")
	for len(text) > 0 {
		n := min(64, len(text))
		b.WriteString(text[:n] + "\n")
		text = text[n:]
	}
	return []byte(b.String())
}

// containerIn is the container in a mail.
func containerIn(t *testing.T, message []byte) []byte {
	t.Helper()
	text := strings.ReplaceAll(string(message), "\r\n", "\n")
	_, body, _ := strings.Cut(text, "\n\n")
	der, err := base64.StdEncoding.DecodeString(strings.ReplaceAll(strings.TrimSpace(body), "\n", ""))
	if err != nil {
		t.Fatalf("%v\n%s", err, message)
	}
	return der
}

const letter = "Content-Type: text/plain\r\n\r\nThe gate opens at six.\r\n"

// What is sealed and signed here is decrypted and verified by a library of mail, and the other way round.
func TestMailReadsOurContainers(t *testing.T) {
	t.Parallel()
	m := newMail(t)
	for _, c := range []pkcs.Cipher{pkcs.AES128, pkcs.AES256, pkcs.TripleDES} {
		der, err := pkcs.Seal(nil, []byte(letter), m.read, c, rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		if got := m.does("decrypt", inMail("enveloped-data", der)); !bytes.Contains(got, []byte("opens at six")) {
			t.Errorf("%s: %q", c.Name, got)
		}
	}
	for _, d := range []pkcs.Draft{{RSA: true}, {RSA: true, SHA1: true}, {}} {
		d.Content, d.Certificates, d.When = []byte(letter), [][]byte{m.read.Raw}, time.Now()
		der, err := d.Sign(m.key, rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		if got := m.does("check", inMail("signed-data", der)); !bytes.Contains(got, []byte("opens at six")) {
			t.Errorf("signed, RSA %t, SHA-1 %t: %q", d.RSA, d.SHA1, got)
		}
	}
	e, err := pkcs.ReadEnvelope(containerIn(t, m.does("encrypt", []byte(letter))))
	if err != nil {
		t.Fatal(err)
	}
	got, err := e.Open(m.read, m.key, rand.Reader)
	if err != nil || !bytes.Contains(got, []byte("opens at six")) {
		t.Errorf("what it sealed with %s: %q, %v", e.Cipher.Name, got, err)
	}
	signature := containerIn(t, append([]byte("\n\n"), m.does("sign", []byte(letter))...))
	d, err := pkcs.ReadDetached(signature)
	if err != nil {
		t.Fatal(err)
	}
	if err := d.Verify([]byte(letter), m.read.Key); err != nil || d.Signer() < 0 {
		t.Errorf("what it signed: %v", err)
	}
	if d.Verify([]byte("The gate opens at seven."), m.read.Key) == nil {
		t.Error("another content verifies")
	}
}
