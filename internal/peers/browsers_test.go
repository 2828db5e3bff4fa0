//go:build linux

package peers

import (
	"crypto/tls"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
)

// Chromium trusts by its managed policy, with no option given: not before, not after, and not
// for names that an anchor is not permitted for. What the policy held already stays.
func TestChromiumTrustsByPolicy(t *testing.T) {
	long(t)
	chromium, unshare := peer(t, "chromium"), namespaces(t)
	e := newEstate(t, "ecdsa-p256")
	e.site("ecdsa-p256")
	port := nginx(t, e)
	there := write(t, e.path("there.json"), `{"HomepageLocation":"https://pier.ternbay.example/"}`)
	e.do("trust", "kit", "--for", "chromium", "--with-policy", there, "--out", "../kits")
	for set, name := range map[string]string{"near": "dns:localhost,dns:booking.ternbay.example",
		"far": "dns:sandpiper.ternbay.example"} {
		e.do("trust", "create", set)
		e.do("trust", "add", set, "root", "--may-certify", name, "--yes")
		e.do("trust", "kit", set, "--for", "chromium", "--out", "../kits")
	}
	partner := newEstate(t, "ecdsa-p256")
	partner.do("authority", "export", "root", "--out", partner.path("root.pem"))
	e.do("trust", "create", "other")
	e.do("trust", "add", "other", partner.path("root.pem"), "--yes")
	e.do("trust", "kit", "other", "--for", "chromium", "--out", "../kits")
	script := write(t, e.path("try.sh"), fmt.Sprintf(`set -u
mkdir -p /etc/chromium/policies/managed
mount -t tmpfs none /etc/chromium/policies/managed
managed=/etc/chromium/policies/managed
look() {
  rm -rf %[1]s/home; mkdir %[1]s/home
  HOME=%[1]s/home timeout 60 %[2]s --headless --no-sandbox --disable-gpu --no-proxy-server \
    --user-data-dir=%[1]s/home/p \
    --virtual-time-budget=5000 --dump-dom https://localhost:%[3]d/ >%[1]s/said 2>&1
  grep -o 'all aboard\|ERR_CERT_[A-Z_]*' %[1]s/said | sort -u | tr '\n' ' '
}
echo "before: $(look)"
for set in own near far; do
  cp %[1]s/kits/$set.chromium/*-roots.json $managed
  echo "$set: $(look)"
  rm $managed/*
done
for set in own other; do cp %[1]s/kits/$set.chromium/*-roots.json $managed; done
echo "beside others: $(look)"
rm $managed/*-other-roots.json
echo "one taken out: $(look)"
rm $managed/*-own-roots.json
echo "ours taken out: $(look)"
rm -f $managed/*
echo "after: $(look)"
`, e.dir, chromium, port))
	out, err := exec.Command(unshare, "-m", "sh", script).CombinedOutput()
	if want := "before: ERR_CERT_AUTHORITY_INVALID \nown: all aboard \nnear: all aboard \n" +
		"far: ERR_CERT_INVALID \nbeside others: all aboard \none taken out: all aboard \n" +
		"ours taken out: ERR_CERT_AUTHORITY_INVALID \nafter: ERR_CERT_AUTHORITY_INVALID \n"; err != nil ||
		string(out) != want {
		t.Errorf("%v\n%s", err, out)
	}
	if text := string(readFile(t, e.path("kits/own.chromium/tern-bay-ferries-own-roots.json"))); !strings.Contains(text,
		"pier.") {
		t.Error(text)
	}
}

// Firefox trusts by its enterprise policy: the page is asked for only when it is in force.
func TestFirefoxTrustsByPolicy(t *testing.T) {
	long(t)
	firefox, unshare := peer(t, "firefox-esr"), namespaces(t)
	e := newEstate(t, "ecdsa-p256")
	e.site("ecdsa-p256")
	pair, err := tls.LoadX509KeyPair(e.path("chain.pem"), e.path("localhost.key.pem"))
	if err != nil {
		t.Fatal(err)
	}
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{pair}})
	if err != nil {
		t.Fatal(err)
	}
	var asked atomic.Int32
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		w.Write([]byte("all aboard"))
	}), ErrorLog: log.New(io.Discard, "", 0)}
	go server.Serve(l)
	t.Cleanup(func() { server.Close() })
	e.do("trust", "kit", "--for", "firefox", "--out", "../kits")
	for _, step := range []string{"before", "installed", "taken out"} {
		with := step == "installed"
		asked.Store(0)
		policy := ""
		if with {
			policy = "cp " + e.path("kits/own.firefox") + "/* /etc/firefox/policies/"
		}
		keep := "rm -rf " + e.path("home")
		if step == "taken out" { // the profile that has learnt the root
			keep, policy = ":", outOfProfiles(t, e, firefox)
		}
		script := write(t, e.path("try.sh"), fmt.Sprintf(`set -u
mkdir -p /etc/firefox/policies
mount -t tmpfs none /etc/firefox/policies
%s
%[5]s; mkdir -p %[2]s/home/p
HOME=%[2]s/home timeout 20 %[3]s --headless --no-remote --profile %[2]s/home/p --screenshot %[2]s/home/shot.png \
  https://localhost:%[4]d/
`, policy, e.dir, firefox, l.Addr().(*net.TCPAddr).Port, keep))
		out, err := exec.Command(unshare, "-m", "sh", script).CombinedOutput()
		profile := e.path("home/p/cert9.db")
		if c := e.checked("--store", profile)[profile]; (len(c.There) == 1) != with || c.Note != "" {
			t.Errorf("%s: of the profile we say %+v", step, c)
		}
		if got := asked.Load() > 0; got != with {
			t.Errorf("%s: the page was asked for: %v (%v)\n%s", step, got, err, out)
		}
	}
}

// outOfProfiles puts the take-out files of the kit where Firefox reads them, in this namespace alone.
func outOfProfiles(t *testing.T, e estate, firefox string) string {
	t.Helper()
	real, err := filepath.EvalSymlinks(firefox)
	if err != nil {
		t.Fatal(err)
	}
	from, own := e.path("kits/own.firefox"), e.path("own-folder")
	return fmt.Sprintf("rm -rf %[3]s; cp -r %[1]s %[3]s; cp %[2]s/take-out.cfg %[3]s/; "+
		"cp %[2]s/take-out.js %[3]s/defaults/pref/; mount --bind %[3]s %[1]s", filepath.Dir(real), from, own)
}

// Databases of browsers as they were before the standard had trust, and what is none.
func TestDatabasesOfOlderBrowsers(t *testing.T) {
	python := peer(t, "python3")
	e := newEstate(t, "ecdsa-p256")
	e.do("authority", "export", "root", "--out", "../root.pem")
	script := write(t, e.path("make.py"), `import base64, hashlib, re, sqlite3, sys
text = open(sys.argv[1]).read()
der = base64.b64decode("".join(re.findall("^[A-Za-z0-9+/=]+$", text, re.M)))
def made(name, trust, n=1):
    c = sqlite3.connect(name)
    c.execute("CREATE TABLE nssPublic (id PRIMARY KEY, a0, a11, ace536358, ace5363b4)")
    for i in range(n):
        c.execute("INSERT INTO nssPublic VALUES (?,?,?,NULL,NULL)", (2 * i, b"\0\0\0\1", der))
        c.execute("INSERT INTO nssPublic VALUES (?,?,NULL,?,?)",
            (2 * i + 1, b"\xce\x53\x43\x53", trust, hashlib.sha1(der).digest()))
    c.commit()
made("trusted.db", b"\xce\x53\x43\x52")
made("known.db", b"\xce\x53\x43\x55")
made("odd.db", "no number")
made("large.db", b"\xce\x53\x43\x52", 6000)
c = sqlite3.connect("other.db")
c.execute("CREATE TABLE t (x)")
c.commit()
open("cut.db", "wb").write(open("trusted.db", "rb").read()[:5000])
`)
	cmd := exec.Command(python, script, e.path("root.pem"))
	cmd.Dir = e.dir
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	for name, want := range map[string]struct {
		there int
		note  string
	}{"trusted": {1, ""}, "known": {0, ""}, "odd": {0, ""}, "large": {0, "more than 10000"},
		"other": {0, "not a browser's"}, "cut": {0, "malformed"}} {
		t.Run(name, func(t *testing.T) {
			file := e.path(name + ".db")
			if c := e.checked("--store", file)[file]; len(c.There) != want.there || !strings.Contains(c.Note,
				want.note) ||
				(c.Note == "") != (want.note == "") {
				t.Errorf("%s: %+v", name, c)
			}
		})
	}
}
