//go:build linux

package peers

import (
	"crypto/tls"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"ironseal/internal/api"
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
	long(t)
	node, git := peer(t, "node"), peer(t, "git")
	peer(t, "update-ca-certificates", "/usr/sbin/update-ca-certificates")
	curl, wget, python, unshare := peer(t, "curl"), peer(t, "wget"), peer(t, "python3"), namespaces(t)
	e := newEstate(t, "ecdsa-p256")
	e.site("ecdsa-p256")
	port := nginx(t, e)
	e.do("trust", "kit", "--for", "debian,node,python,curl,git,go", "--out", "../kits")
	url := fmt.Sprintf("https://localhost:%d/", port)
	write(t, e.path("client.py"), fmt.Sprintf("import urllib.request\nurllib.request.urlopen(%q).read()\n", url))
	write(t, e.path("client.js"), fmt.Sprintf("require('https').get(%q, r => process.exit(r.statusCode == 200 ? 0 : "+
		"1)).on('error', () => process.exit(3))", url))
	write(t, e.path("other.pem"), string(specimenRoot(t)))
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
cp %[1]s/other.pem /usr/local/share/ca-certificates/tern-bay-ferries_own_older-00000000.crt
(cd %[1]s/harbour && %[8]s trust check --color never) | grep 'stale: tern-bay-ferries_own_older'
rm /usr/local/share/ca-certificates/tern-bay-ferries_own_older-00000000.crt
sh "$kit/trust.sh" install
echo "roots more: $(($(grep -c BEGIN /etc/ssl/certs/ca-certificates.crt) - $(grep -c BEGIN %[1]s/before)))"
sh "$kit/trust.sh" remove
echo "removed: $(trusted | tr '\n' ' ')"
echo "store after: $(store)"
(cd %[1]s/harbour && %[8]s trust check --color never) | grep -q '^✓ Java' && echo "Java keeps it"
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
		"nothing to do", "store before: ✗ not there    system",
		"store then: ✓ all there    system",
		"stale: tern-bay-ferries_own_older", "store after: ✗ not there    system",
		"node trusts\n", "python trusts\n", "curl trusts\n", "git trusts\n", "go trusts\n",
		"✓ all there    bundle for curl",
		"roots more: 1\n", "removed: curl no wget no python no go no", "the others are as they were"} {
		if !strings.Contains(string(out), want) {
			t.Errorf("%q is missing", want)
		}
	}
	for _, bad := range []string{"too early", "lead nowhere", "check says no", "Java keeps it"} {
		if strings.Contains(string(out), bad) {
			t.Errorf("%q", bad)
		}
	}
	if t.Failed() {
		t.Logf("%s", out)
	}
}

// This very machine, in a private copy of its stores: what is shown is done, twice is nothing
// to do, what fails is undone with what was done before it, and nothing is left lying about.
func TestRootsAreInstalledHere(t *testing.T) {
	long(t)
	peer(t, "update-ca-certificates", "/usr/sbin/update-ca-certificates")
	unshare := namespaces(t)
	e := newEstate(t, "ecdsa-p256")
	script := write(t, e.path("try.sh"), fmt.Sprintf(`set -u
cp -a /etc/ssl %[1]s/ssl && mount --bind %[1]s/ssl /etc/ssl
mkdir -p /usr/local/share/ca-certificates /etc/profile.d %[1]s/tmp
mount -t tmpfs none /usr/local/share/ca-certificates && mount -t tmpfs none /etc/profile.d
unset SSL_CERT_FILE SSL_CERT_DIR NODE_EXTRA_CA_CERTS REQUESTS_CA_BUNDLE
export TMPDIR=%[1]s/tmp
cd %[1]s/harbour
is() { %[2]s trust "$@" --color never 2>&1; }
echo "declined: $(is install </dev/null | grep -c 'answer beforehand') $(ls /usr/local/share/ca-certificates)"
echo "installed: $(is install --yes --for debian,node | grep -c -e '✓ done' -e 'SHA-256')"
echo "again: $(is install --yes --for debian,node)"
is check | grep -e system -e node | sed 's/^/then: /'
is remove --yes --for debian,node >/dev/null
mount -o remount,ro /etc/profile.d
is install --yes --for debian,node | sed 's/^/failed: /'
echo "left: $(ls /usr/local/share/ca-certificates /etc/ssl/private-roots 2>/dev/null | grep crt) $(ls %[1]s/tmp)"
is install --yes --for java | sed 's/^/java: /'
`, e.dir, program))
	cmd := exec.Command(unshare, "-m", "sh", script)
	cmd.Env = append(os.Environ(), "IRONSEAL_ESTATE=")
	out, err := cmd.CombinedOutput()
	text := string(out)
	for _, want := range []string{"declined: 1 \n", "installed: 2\n", "again: ✓ nothing to do",
		"then: ✓ all there    system",
		"then: ✓ all there    bundle for node", "failed: ironseal: install for node: /etc/profile.d cannot be written",
		"left:  \n",
		"java: ironseal: platform java has no script that runs here"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is missing", want)
		}
	}
	if err != nil || t.Failed() {
		t.Errorf("%v\n%s", err, text)
	}
	e.do("journal", "verify")
}

// Java trusts by the options of its kit; and of stores that Java wrote it is said what Java
// trusts by them: a root that stands for itself or belongs to a key, not one further up.
func TestJavaStores(t *testing.T) {
	long(t)
	e := newEstate(t, "ecdsa-p256")
	e.site("ecdsa-p256")
	url := fmt.Sprintf("https://localhost:%d/", nginx(t, e))
	e.do("trust", "kit", "--for", "java", "--out", "../kits")
	trusts := func(options ...string) bool {
		t.Helper()
		return strings.HasPrefix(java(t, "TrustStores.java", options, "get", url), "trusted 200")
	}
	if trusts() {
		t.Error("it is trusted without the kit")
	}
	if !trusts("-Djavax.net.ssl.trustStore="+e.path("kits/own.java/roots.p12"),
		"-Djavax.net.ssl.trustStoreType=PKCS12") {
		t.Error("it is not trusted with the kit")
	}
	root, other := e.path("root.pem"), write(t, e.path("other.pem"), string(specimenRoot(t)))
	for _, form := range []string{"JKS", "PKCS12"} {
		for name, order := range map[string][]string{"itself": {root, other}, "key": {other, root},
			"above": {other, other, root}} {
			t.Run(name, func(t *testing.T) {
				if form == "PKCS12" && name == "above" {
					return // Java writes no chain there that does not hold
				}
				file := e.path(name + "." + form)
				java(t, "TrustStores.java", nil, append([]string{"write", form, file}, order...)...)
				c := e.checked("--store", file)[file]
				said := len(c.There) == 1 && len(c.Missing) == 0 && c.Note == ""
				if real := trusts("-Djavax.net.ssl.trustStore="+file,
					"-Djavax.net.ssl.trustStorePassword=changeit"); said != real || real == (name == "above") {
					t.Errorf("%s %s: Java trusts it: %v; we say %+v", form, name, real, c)
				}
			})
		}
	}
	for path, c := range e.checked() {
		if c.Store == "Java" && c.Note != "" {
			t.Errorf("the runtime's own store %s: %+v", path, c)
		}
	}
}

// A Java runtime's own store takes the roots and gives them back, by the runtime's classes
// alone; its other entries stay, and a kit that was changed is refused.
func TestAJavaRuntimesOwnStore(t *testing.T) {
	long(t)
	e := newEstate(t, "ecdsa-p256")
	e.site("ecdsa-p256")
	url := fmt.Sprintf("https://localhost:%d/", nginx(t, e))
	e.do("trust", "kit", "--for", "java", "--out", "../kits")
	kit, own := e.path("kits/own.java"), e.path("cacerts")
	java(t, "TrustStores.java", nil, "write", "JKS", own, write(t, e.path("other.pem"), string(specimenRoot(t))),
		e.path("other.pem"))
	options := []string{"-Djavax.net.ssl.trustStore=" + own}
	run := func(want int, args ...string) string {
		t.Helper()
		cmd := exec.Command(peer(t, "java"), append([]string{"TrustStore.java"}, args...)...)
		cmd.Dir = kit
		out, _ := cmd.CombinedOutput()
		if got := cmd.ProcessState.ExitCode(); got != want {
			t.Errorf("%v: exit status %d, want %d\n%s", args, got, want, out)
		}
		return string(out)
	}
	trusts := func() bool {
		t.Helper()
		return strings.HasPrefix(java(t, "TrustStores.java", options, "get", url), "trusted 200")
	}
	run(2, "instal")
	before := readFile(t, own)
	if run(4, "check", "--store", own); trusts() {
		t.Error("it trusts too early")
	}
	if run(0, "install", "--dry-run", "--store", own); string(readFile(t, own)) != string(before) {
		t.Error("a dry run wrote")
	}
	run(0, "install", "--store", own)
	if out := run(0, "install", "--store", own); !strings.Contains(out, "nothing to do") || !trusts() {
		t.Error(out)
	}
	run(0, "check", "--store", own)
	if c := e.checked("--store", own)[own]; len(c.There) != 1 || len(c.Missing) != 0 {
		t.Errorf("%+v", c)
	}
	if run(0, "remove", "--store", own); trusts() {
		t.Error("it trusts still")
	}
	if len(readFile(t, own)) != len(before) {
		t.Error("the other entries are not what they were")
	}
	write(t, e.path("cut"), string(before[:len(before)/2]))
	run(1, "install", "--store", e.path("cut"))
	for _, f := range glob(t, kit+"/*.der") {
		write(t, f, "changed")
	}
	if out := run(1, "install", "--store", own); !strings.Contains(out, "nothing was changed") {
		t.Error(out)
	}
}

func glob(t *testing.T, pattern string) []string {
	t.Helper()
	list, err := filepath.Glob(pattern)
	if err != nil || len(list) == 0 {
		t.Fatal(pattern, err)
	}
	return list
}

func specimenRoot(t *testing.T) []byte {
	return bundle.PEM(bundle.Certificate, specimen.Make(t, nil, specimen.Plan{Subject: "CN=Other",
		Authority: true}).Cert.Raw)
}

// checked runs trust check, which says no by its status.
func (e estate) checked(args ...string) map[string]api.StoreCheck {
	e.t.Helper()
	cmd := exec.Command(program, append([]string{"trust", "check", "--json"}, args...)...)
	cmd.Dir = e.path("harbour")
	out, err := cmd.Output()
	var list []api.StoreCheck
	if json.Unmarshal(out, &list) != nil {
		e.t.Fatalf("trust check: %v\n%s", err, out)
	}
	byPath := map[string]api.StoreCheck{}
	for _, c := range list {
		byPath[c.Path] = c
	}
	return byPath
}

// namespaces finds the program that runs another in a private copy of the file system, where
// the kernel allows that.
func namespaces(t *testing.T) string {
	t.Helper()
	unshare := peer(t, "unshare")
	if err := exec.Command(unshare, "-m", "true").Run(); err != nil {
		t.Skip("the kernel allows no mount namespaces here: ", err)
	}
	return unshare
}

func readFile(t *testing.T, path string) []byte {
	t.Helper()
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// The signature of a kit is one that Java's own reader verifies.
func TestJavaVerifiesTheKitsSignature(t *testing.T) {
	t.Parallel()
	e := newEstate(t, "ecdsa-p256")
	e.do("trust", "kit", "--for", "bundle", "--out", "../kits", "--sign-by", "services", "--yes")
	sums := e.path("kits/own.bundle/SHA256SUMS")
	changed := write(t, e.path("changed"), string(readFile(t, sums))+"\n")
	out := java(t, "DetachedSignature.java", internals, sums+".p7s", sums, changed)
	if lines := strings.Split(strings.TrimSpace(out), "\n"); len(lines) != 2 ||
		!strings.HasPrefix(lines[0], "CN=Trust kits,") || strings.HasPrefix(lines[1], "CN=") {
		t.Errorf("%q", lines)
	}
}
