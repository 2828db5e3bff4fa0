//go:build linux

package peers

import (
	"encoding/pem"
	"os"
	"os/exec"
	"strings"
	"testing"
)

// signedForLocalhost makes a signed certificate for localhost with its chain, root and key.
func signedForLocalhost(t *testing.T, kind string) estate {
	e := newEstate(t, "ecdsa-p256")
	e.site(kind)
	return e
}

// Each container is opened by software that is not ours.
func TestContainersAreOpenedByOthers(t *testing.T) {
	long(t)
	for _, kind := range []struct{ ours, java string }{{"ecdsa-p256", "EC"}, {"rsa-2048", "RSA"}} {
		t.Run(kind.ours, func(t *testing.T) {
			e := signedForLocalhost(t, kind.ours)
			convert := func(to, out string, more ...string) {
				e.do(append([]string{"convert", "../chain.pem", "../localhost.key.pem", "../root.pem", "--to", to,
					"--out", "../" + out}, more...)...)
			}
			for _, to := range []string{"p12", "p12-older"} {
				convert(to, to, "--encrypt-with", "../pass", "--name", "Quay Gate")
				got := strings.TrimSpace(java(t, "Containers.java", nil, "store", e.path(to), "tern and gull"))
				if want := "key quay gate " + kind.java + " 3"; got != want { // Java lower-cases names
					t.Errorf("%s: Java sees %q, want %q", to, got, want)
				}
			}
			for _, to := range []string{"p7b", "p7b-pem"} {
				convert(to, to)
				got := java(t, "Containers.java", nil, "p7", e.path(to))
				if strings.Count(got, "\n") != 3 || !strings.Contains(got, "CN=localhost") {
					t.Errorf("%s: Java sees %q", to, got)
				}
			}
			e.do("convert", "../root.pem", "--to", "p12", "--encrypt-with", "../pass", "--name", "Tern Bay", "--out",
				"../trust.p12")
			if got := strings.TrimSpace(java(t, "Containers.java", nil, "store", e.path("trust.p12"),
				"tern and gull")); got != "trusted tern bay" {
				t.Errorf("trust store: %q", got)
			}
			node := peer(t, "node")
			out, err := exec.Command(node, "-e", `const fs = require("fs");
const c = require("tls").createSecureContext({pfx: fs.readFileSync(process.argv[1]), passphrase: "tern and gull"});
try { require("tls").createSecureContext({pfx: fs.readFileSync(process.argv[1]), passphrase: "wrong"});
  process.exit(2); }
catch (e) { console.log("opened"); }`, e.path("p12")).CombinedOutput()
			if err != nil || strings.TrimSpace(string(out)) != "opened" {
				t.Errorf("Node.js: %v %s", err, out)
			}
			forms := []string{"key", "key-encrypted", "key-pkcs1"}
			if kind.java == "EC" {
				forms[2] = "key-sec1"
			}
			for _, form := range forms {
				if form == "key-encrypted" {
					convert(form, form, "--encrypt-with", "../pass")
				} else {
					convert(form, form)
				}
				out, err := exec.Command(peer(t, "python3"), "-c", `import ssl, sys
ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER).load_cert_chain(sys.argv[1], sys.argv[2], "tern and gull")
print("opened")`, e.path("chain.pem"), e.path(form)).CombinedOutput()
				if err != nil || strings.TrimSpace(string(out)) != "opened" {
					t.Errorf("%s: Python: %v %s", form, err, out)
				}
				if info, err := os.Stat(e.path(form)); err != nil || info.Mode().Perm() != 0o600 {
					t.Errorf("%s: a private key must be readable by its owner only: %v", form, info.Mode())
				}
			}
		})
	}
}

// A PKCS#12 file with the MAC of RFC 9579 is opened by a Node.js that knows it,
// version 24 or later, which stands on the PATH as node-newer.
func TestPBMAC1IsOpenedByNode(t *testing.T) {
	t.Parallel()
	e := signedForLocalhost(t, "ecdsa-p256")
	e.do("convert", "../chain.pem", "../localhost.key.pem", "--to", "p12-pbmac1", "--encrypt-with", "../pass", "--out",
		"../mac1.p12")
	out, err := exec.Command(peer(t, "node-newer"),
		"-e", `const fs = require("fs"), tls = require("tls"), pfx = fs.readFileSync(process.argv[1]);
tls.createSecureContext({pfx, passphrase: "tern and gull"});
try { tls.createSecureContext({pfx, passphrase: "wrong"}); process.exit(2); } catch (e) { console.log(e.message); }`,
		e.path("mac1.p12")).CombinedOutput()
	if err != nil || strings.TrimSpace(string(out)) != "mac verify failure" {
		t.Errorf("Node.js: %v %s", err, out)
	}
}

// Containers that Java wrote are read by us, back to the same bytes.
func TestContainersThatJavaWroteAreRead(t *testing.T) {
	long(t)
	for _, kind := range []struct{ ours, java string }{{"ecdsa-p256", "EC"}, {"rsa-2048", "RSA"}} {
		e := signedForLocalhost(t, kind.ours)
		plain, err := os.ReadFile(e.path("localhost.key.pem"))
		if err != nil {
			t.Fatal(err)
		}
		block, _ := pem.Decode(plain)
		if err := os.WriteFile(e.path("key.der"), block.Bytes, 0o600); err != nil {
			t.Fatal(err)
		}
		for _, profile := range [][]string{nil, {"-Dkeystore.pkcs12.legacy=true"}} {
			java(t, "Containers.java", profile, "write-store", e.path("java.p12"), "tern and gull", e.path("chain.pem"),
				e.path("key.der"), kind.java)
			out := e.do("convert", "../java.p12", "--open-with", "../pass", "--to", "key", "--out", "-")
			if out != string(plain) {
				t.Errorf("%v: another key came out:\n%s", profile, out)
			}
			chain := e.do("convert", "../java.p12", "--open-with", "../pass", "--to", "pem", "--out", "-")
			if want, _ := os.ReadFile(e.path("chain.pem")); chain != string(want) {
				t.Errorf("%v: another chain came out:\n%s", profile, chain)
			}
			os.Remove(e.path("java.p12"))
		}
		java(t, "Containers.java", nil, "write-p7", e.path("java.p7b"), e.path("chain.pem"))
		chain := e.do("convert", "../java.p7b", "--to", "pem", "--out", "-")
		if want, _ := os.ReadFile(e.path("chain.pem")); chain != string(want) {
			t.Errorf("PKCS#7: another chain came out:\n%s", chain)
		}
	}
}
