package peers

import (
	"crypto/tls"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"ironseal/internal/view"
	"ironseal/pki/bundle"
	"ironseal/pki/specimen"
)

// TestSystemClient is a Go client that trusts what the system's store holds; it is run by
// another test in the place where that store is.
func TestSystemClient(t *testing.T) {
	addr := os.Getenv("SYSTEM_CLIENT_ADDR")
	if addr == "" {
		t.Skip("run by another test")
	}
	c, err := tls.Dial("tcp", addr, &tls.Config{ServerName: "localhost"})
	if err != nil {
		t.Fatal(err)
	}
	c.Close()
}

// The kit for Debian is installed for real, in a private copy of the system's store: curl,
// wget, Python and Go trust a server of ours with no option given; not before, and not after
// it is taken out; twice is harmless, and the other roots stay byte for byte.
func TestTheDebianKitIsInstalledForReal(t *testing.T) {
	node, git := peer(t, "node"), peer(t, "git")
	peer(t, "update-ca-certificates", "/usr/sbin/update-ca-certificates")
	curl, wget, python, unshare := peer(t, "curl"), peer(t, "wget"), peer(t, "python3"), peer(t, "unshare")
	if err := exec.Command(unshare, "-m", "true").Run(); err != nil {
		if os.Getenv("CI") == "true" && os.Getuid() == 0 {
			t.Fatal("there are no mount namespaces here: ", err)
		}
		t.Skip("there are no mount namespaces here")
	}
	e := newEstate(t, "ecdsa-p256")
	e.site("ecdsa-p256")
	port := nginx(t, e)
	e.do("trust", "kit", "--for", "debian,node,python,curl,git,go", "--out", "../kits")
	url := fmt.Sprintf("https://localhost:%d/", port)
	write(t, e.path("client.py"), fmt.Sprintf("import urllib.request\nurllib.request.urlopen(%q).read()\n", url))
	write(t, e.path("client.js"), fmt.Sprintf("require('https').get(%q, r => process.exit(r.statusCode == 200 ? 0 : "+
		"1)).on('error', () => process.exit(3))", url))
	script := write(t, e.path("try.sh"), fmt.Sprintf(`set -eu
cp -a /etc/ssl %[1]s/ssl && mount --bind %[1]s/ssl /etc/ssl
mkdir -p /usr/local/share/ca-certificates /etc/profile.d
cp -a /etc/profile.d %[1]s/profile.d && mount --bind %[1]s/profile.d /etc/profile.d
unset SSL_CERT_FILE SSL_CERT_DIR NODE_EXTRA_CA_CERTS REQUESTS_CA_BUNDLE CURL_CA_BUNDLE GIT_SSL_CAINFO
cp -a /usr/local/share/ca-certificates %[1]s/local && mount --bind %[1]s/local /usr/local/share/ca-certificates
/usr/sbin/update-ca-certificates >/dev/null 2>&1
cp /etc/ssl/certs/ca-certificates.crt %[1]s/before
kit=%[1]s/kits/own.debian
trusted() {
  %[2]s -fsS --noproxy '*' %[6]s >/dev/null 2>&1 || echo "curl no"
  %[3]s -q -O /dev/null --no-proxy %[6]s 2>/dev/null || echo "wget no"
  %[4]s %[1]s/client.py 2>/dev/null || echo "python no"
  SYSTEM_CLIENT_ADDR=localhost:%[7]d %[5]s -test.run '^TestSystemClient$' >/dev/null 2>&1 || echo "go no"
}
store() { (cd %[1]s/harbour && SSL_CERT_FILE='' %[8]s trust check --color never | grep ' system' | cut -c 1-50); }
echo "before: $(trusted | tr '\n' ' ')"
echo "store before: $(store)"
(cd "$kit" && sha256sum --quiet -c SHA256SUMS)
sh "$kit/trust.sh" check >/dev/null && echo "check says yes too early"
sh "$kit/trust.sh" install
echo "installed: $(trusted | tr '\n' ' ')"
sh "$kit/trust.sh" check
echo "store then: $(store)"
sh "$kit/trust.sh" install
echo "roots more: $(($(grep -c BEGIN /etc/ssl/certs/ca-certificates.crt) - $(grep -c BEGIN %[1]s/before)))"
sh "$kit/trust.sh" remove
echo "removed: $(trusted | tr '\n' ' ')"
echo "store after: $(store)"
cmp %[1]s/before /etc/ssl/certs/ca-certificates.crt && echo "the others are as they were"
one() {
  case $1 in
  node) %[9]s %[1]s/client.js 2>/dev/null ;;
  python) %[4]s %[1]s/client.py 2>/dev/null ;;
  curl) %[2]s -fsS --noproxy '*' %[6]s >/dev/null 2>&1 ;;
  git) ! no_proxy='*' %[10]s ls-remote %[6]s 2>&1 | grep -q -i certificate ;;
  go) SYSTEM_CLIENT_ADDR=localhost:%[7]d %[5]s -test.run '^TestSystemClient$' >/dev/null 2>&1 ;;
  esac
}
for p in node python curl git go; do
  kit=%[1]s/kits/own.$p
  one $p && echo "$p trusts too early"
  sh $kit/trust.sh install >/dev/null
  (. /etc/profile.d/*-$p.sh && one $p && echo "$p trusts")
  sh $kit/trust.sh check >/dev/null || echo "$p: check says no"
  (cd %[1]s/harbour && %[8]s trust check --color never) | grep "bundle for $p "
  sh $kit/trust.sh remove >/dev/null
done
ls /etc/ssl/private-roots 2>/dev/null && echo "something lead nowhere"
find /etc/ssl/certs -xtype l | grep -q . && echo "links lead nowhere"
true
`, e.dir, curl, wget, python, os.Args[0], url, port, program, node, git))
	out, err := exec.Command(unshare, "-m", "sh", script).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for _, want := range []string{"before: curl no wget no python no go no", "installed: \n", "there    ",
		"nothing to do", "store before: ✗ system", "store then: ✓ system", "store after: ✗ system",
		"node trusts\n", "python trusts\n", "curl trusts\n", "git trusts\n", "go trusts\n", "✓ bundle for curl",
		"roots more: 1\n", "removed: curl no wget no python no go no", "the others are as they were"} {
		if !strings.Contains(string(out), want) {
			t.Errorf("%q is missing", want)
		}
	}
	for _, bad := range []string{"too early", "lead nowhere", "check says no"} {
		if strings.Contains(string(out), bad) {
			t.Errorf("%q", bad)
		}
	}
	if t.Failed() {
		t.Logf("%s", out)
	}
}

// Java trusts by the options of its kit, and stores that Java wrote are read: what stands in
// a key's chain is no anchor.
func TestJavaStores(t *testing.T) {
	e := newEstate(t, "ecdsa-p256")
	e.site("ecdsa-p256")
	url := fmt.Sprintf("https://localhost:%d/", nginx(t, e))
	e.do("trust", "kit", "--for", "java", "--out", "../kits")
	options := []string{"-Djavax.net.ssl.trustStore=" + e.path("kits/own.java/roots.p12"),
		"-Djavax.net.ssl.trustStoreType=PKCS12"}
	if out := java(t, "TrustStores.java", nil, "get", url); !strings.HasPrefix(out, "refused") {
		t.Error(out)
	}
	if out := java(t, "TrustStores.java", options, "get", url); !strings.HasPrefix(out, "trusted 200") {
		t.Error(out)
	}
	root, other := e.path("kits/own.java/roots.pem"), write(t, e.path("other.pem"), string(specimenRoot(t)))
	for _, form := range []string{"JKS", "PKCS12"} {
		held, chain := e.path("held."+form), e.path("chain."+form)
		java(t, "TrustStores.java", nil, "write", form, held, root, other)
		java(t, "TrustStores.java", nil, "write", form, chain, other, root)
		out := e.checked("--store", held, "--store", chain)
		if h := out[held]; h.Missing == nil || len(h.There) != 1 || len(h.Missing) != 0 || h.Note != "" {
			t.Errorf("%s: %+v", form, out[held])
		}
		if len(out[chain].There) != 0 || len(out[chain].Missing) != 1 {
			t.Errorf("%s: what stands in a key's chain counts: %+v", form, out[chain])
		}
		for path, c := range out {
			if c.Store == "Java" && c.Note != "" {
				t.Errorf("the runtime's own store %s: %+v", path, c)
			}
		}
	}
}

func specimenRoot(t *testing.T) []byte {
	return bundle.PEM(bundle.Certificate, specimen.Make(t, nil, specimen.Plan{Subject: "CN=Other",
		Authority: true}).Cert.Raw)
}

// checked runs trust check, which says no by its status.
func (e estate) checked(args ...string) map[string]view.StoreCheck {
	e.t.Helper()
	cmd := exec.Command(program, append([]string{"trust", "check", "--json"}, args...)...)
	cmd.Dir = e.path("harbour")
	out, err := cmd.Output()
	var list []view.StoreCheck
	if json.Unmarshal(out, &list) != nil {
		e.t.Fatalf("trust check: %v\n%s", err, out)
	}
	byPath := map[string]view.StoreCheck{}
	for _, c := range list {
		byPath[c.Path] = c
	}
	return byPath
}

func readFile(t *testing.T, path string) []byte {
	t.Helper()
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return data
}
