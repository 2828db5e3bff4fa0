package main

import (
	"crypto/sha256"
	"encoding/pem"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"unsafe"

	"golang.org/x/sys/windows"
)

// windowsTrusts asks Windows whether it trusts a chain, the leaf first: not our code, and not the standard
// library's. Each question is a program of its own, since Windows keeps for a while what it found.
func windowsTrusts(t *testing.T, file string) bool {
	t.Helper()
	cmd := exec.Command(os.Args[0], "-test.run=^TestAskWindows$", "-test.v")
	cmd.Env = append(os.Environ(), "ASK_WINDOWS="+file)
	out, err := cmd.CombinedOutput()
	if err != nil || !strings.Contains(string(out), "status ") {
		t.Fatalf("%v: %s", err, out)
	}
	return strings.Contains(string(out), "status 0\n")
}

// TestAskWindows is the program that asks.
func TestAskWindows(t *testing.T) {
	file := os.Getenv("ASK_WINDOWS")
	if file == "" {
		t.Skip("another test runs it")
	}
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	store, err := windows.CertOpenStore(windows.CERT_STORE_PROV_MEMORY, 0, 0,
		windows.CERT_STORE_DEFER_CLOSE_UNTIL_LAST_FREE_FLAG,
		0)
	if err != nil {
		t.Fatal(err)
	}
	defer windows.CertCloseStore(store, 0)
	var leaf *windows.CertContext
	for block, rest := pem.Decode(data); block != nil; block, rest = pem.Decode(rest) {
		c, err := windows.CertCreateCertificateContext(windows.X509_ASN_ENCODING, &block.Bytes[0],
			uint32(len(block.Bytes)))
		if err != nil {
			t.Fatal(err)
		}
		var kept *windows.CertContext
		if err := windows.CertAddCertificateContextToStore(store, c, windows.CERT_STORE_ADD_ALWAYS, &kept); err != nil {
			t.Fatal(err)
		}
		if leaf == nil {
			leaf = kept
		}
	}
	usage := [...]*byte{&[]byte("1.3.6.1.5.5.7.3.1\x00")[0]}
	para := &windows.CertChainPara{RequestedUsage: windows.CertUsageMatch{Usage: windows.CertEnhKeyUsage{Length: 1,
		UsageIdentifiers: &usage[0]}}}
	para.Size = uint32(unsafe.Sizeof(*para))
	var chain *windows.CertChainContext
	if err := windows.CertGetCertificateChain(0, leaf, nil, store, para, 0, 0, &chain); err != nil {
		t.Fatal(err)
	}
	defer windows.CertFreeCertificateChain(chain)
	runtime.KeepAlive(usage)
	fmt.Printf("status %d\n", chain.TrustStatus.ErrorStatus)
}

// rootsHere are the certificates in the machine's store of roots, by hash.
func rootsHere(t *testing.T) []string {
	t.Helper()
	name, err := windows.UTF16PtrFromString("Root")
	if err != nil {
		t.Fatal(err)
	}
	store, err := windows.CertOpenStore(windows.CERT_STORE_PROV_SYSTEM, 0, 0,
		windows.CERT_SYSTEM_STORE_LOCAL_MACHINE|windows.CERT_STORE_READONLY_FLAG, uintptr(unsafe.Pointer(name)))
	if err != nil {
		t.Fatal(err)
	}
	defer windows.CertCloseStore(store, 0)
	out := map[string]bool{}
	for c, _ := windows.CertEnumCertificatesInStore(store, nil); c != nil; c,
		_ = windows.CertEnumCertificatesInStore(store, c) {
		out[fmt.Sprintf("%x", sha256.Sum256(unsafe.Slice(c.EncodedCert, c.Length)))] = true
	}
	return slices.Sorted(maps.Keys(out))
}

// A root is installed in the system's own store: Windows trusts what hangs below it after, and not before, and
// not after it was removed. Every other root stays.
func TestARootInTheSystemsStore(t *testing.T) {
	p := harbour(t)
	p.env = append(p.env, "SSL_CERT_FILE=", "NODE_EXTRA_CA_CERTS=", "REQUESTS_CA_BUNDLE=", "JAVA_HOME=")
	p.must("sign", p.send("www.ternbay.example", []string{"www.ternbay.example"}), "--template", "web-server", "--yes")
	p.must("certificate", "export", "www.ternbay.example", "--with", "issuers", "--out", "../chain.pem")
	chain := filepath.Join(p.dir, "../chain.pem")
	before := rootsHere(t)
	t.Cleanup(func() { p.run("", "trust", "remove", "--yes") })
	if windowsTrusts(t, chain) {
		t.Fatal("Windows trusts it before anything was installed")
	}
	if r := p.run("", "trust", "check"); r.code != 4 || !strings.Contains(r.out, "ironseal trust install") {
		t.Errorf("%+v", r)
	}
	if out := p.must("trust", "install", "--yes"); !strings.Contains(out, "install ") {
		t.Error(out)
	}
	if !windowsTrusts(t, chain) {
		t.Error("Windows does not trust it after its root was installed")
	}
	p.must("trust", "check")
	if out := p.must("trust", "install", "--yes"); !strings.Contains(out, "nothing to do") {
		t.Error(out)
	}
	if now := rootsHere(t); len(now) != len(before)+1 {
		t.Errorf("%d roots, and %d before", len(now), len(before))
	}
	p.must("trust", "remove", "--yes")
	if windowsTrusts(t, chain) {
		t.Error("Windows trusts it after its root was removed")
	}
	if now := rootsHere(t); !slices.Equal(now, before) {
		t.Errorf("other roots were changed: %d, and %d before", len(now), len(before))
	}
	p.must("trust", "install", "--mine", "--yes")
	if !windowsTrusts(t, chain) {
		t.Error("Windows does not trust it by the user's own store")
	}
	p.must("trust", "remove", "--mine", "--yes")
	if windowsTrusts(t, chain) {
		t.Error("Windows trusts it after it was removed from the user's own store")
	}
}

// opened reads a PKCS#12 file by Windows: how many certificates it has, and how many of them have a key.
func opened(t *testing.T, file, password string) (list, keys int, err error) {
	t.Helper()
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	text, err := windows.UTF16PtrFromString(password)
	if err != nil {
		t.Fatal(err)
	}
	store, err := windows.PFXImportCertStore(&windows.CryptDataBlob{Size: uint32(len(data)), Data: &data[0]}, text,
		windows.CRYPT_EXPORTABLE)
	if err != nil {
		return 0, 0, err
	}
	defer windows.CertCloseStore(store, 0)
	for c, _ := windows.CertEnumCertificatesInStore(store, nil); c != nil; c,
		_ = windows.CertEnumCertificatesInStore(store, c) {
		list++
		var key windows.Handle
		var kind uint32
		var free bool
		if windows.CryptAcquireCertificatePrivateKey(c,
			windows.CRYPT_ACQUIRE_SILENT_FLAG|windows.CRYPT_ACQUIRE_ALLOW_NCRYPT_KEY_FLAG,
			nil, &key, &kind, &free) == nil {
			keys++
		}
	}
	return list, keys, nil
}

// Windows opens the PKCS#12 file of a handover.
func TestWindowsOpensAHandover(t *testing.T) {
	p := harbour(t)
	p.must("request", "draft", "www.ternbay.example", "--key", "rsa-2048", "--out", "../drafts")
	p.must("request", "receive", "../drafts/www.ternbay.example.request.pem")
	p.must("sign", "R1", "--template", "web-server", "--yes")
	p.must("certificate", "handover", "R1", "--for", "windows", "--encrypt-with", "../pass", "--out", "../out")
	found, err := filepath.Glob(filepath.Join(p.dir, "../out/*/*.p12"))
	if err != nil || len(found) != 1 {
		t.Fatal(found, err)
	}
	for _, form := range []string{"", "p12", "p12-older", "p12-pbmac1"} {
		file := found[0]
		if form != "" {
			file = filepath.Join(p.dir, "../"+form)
			p.must("convert", found[0], "--open-with", "../pass", "--to", form, "--encrypt-with", "../pass",
				"--out", file)
		}
		if list, keys, err := opened(t, file, "tern and gull"); err != nil || list != 2 || keys == 0 {
			t.Errorf("%q: %d certificates, %d with a key, %v", form, list, keys, err)
		}
		if _, _, err := opened(t, file, "another"); err == nil {
			t.Errorf("%q: it opens under another password", form)
		}
	}
}
