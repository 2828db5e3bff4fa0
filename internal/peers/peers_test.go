//go:build linux

// Package peers holds no code. Its tests run the built program against real
// software that only consumes certificates, on loopback. A peer that is not
// installed is skipped with a reason; under CI=true it is a failure.
package peers

import (
	"fmt"
	"ironseal/internal/disk/inmemory"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

var program string

func TestMain(m *testing.M) {
	inmemory.Prefer()
	dir, err := os.MkdirTemp("", "ironseal-peers-*")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	program = filepath.Join(dir, "ironseal")
	if out, err := exec.Command("go", "build", "-o", program, "ironseal/cmd/ironseal").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%v\n%s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// long marks a test that keeps a processor for more than ten seconds. A shorter test uses the same peers.
func long(t testing.TB) {
	t.Helper()
	if os.Getenv("CI") != "true" && os.Getenv("IRONSEAL_LONG") == "" {
		t.Skip("it takes long: it runs under CI=true, or with IRONSEAL_LONG=yes")
	}
}

// peer finds a program of the system.
func peer(t *testing.T, names ...string) string {
	t.Helper()
	for _, n := range names {
		if path, err := exec.LookPath(n); err == nil {
			return path
		}
	}
	unavailable(t, names[0]+" is not installed here")
	return ""
}

// unavailable skips a test with a reason; in CI it fails.
func unavailable(t *testing.T, reason string) {
	t.Helper()
	if os.Getenv("CI") == "true" {
		t.Fatal(reason)
	}
	t.Skip(reason)
}

// estate is an estate with an authority of each kind of key.
type estate struct {
	t   *testing.T
	dir string
}

func newEstate(t *testing.T, kind string) estate {
	e := estate{t, t.TempDir()}
	if err := os.WriteFile(filepath.Join(e.dir, "pass"), []byte("tern and gull\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	e.run(e.dir, "estate", "create", "harbour", "--organisation", "Tern Bay Ferries", "--country", "NO")
	e.cheap()
	e.do("authority", "create", "root", "--key", kind, "--yes")
	e.do("authority", "create", "services", "--under", "root", "--key", kind, "--yes")
	return e
}

// cheap lets the passphrases cost little: what they cost is not what these tests are about.
func (e estate) cheap() {
	e.t.Helper()
	file := e.path("harbour/ironseal.toml")
	settings, err := os.ReadFile(file)
	if err != nil {
		e.t.Fatal(err)
	}
	text := strings.Replace(string(settings), "encryption-memory = 64", "encryption-memory = 8", 1)
	if text == string(settings) {
		e.t.Fatal("the settings do not say what a passphrase costs")
	}
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		e.t.Fatal(err)
	}
}

func (e estate) run(dir string, args ...string) string {
	e.t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "IRONSEAL_PASSPHRASE_FILE="+filepath.Join(e.dir, "pass"), "IRONSEAL_ESTATE=")
	out, err := cmd.CombinedOutput()
	if err != nil {
		e.t.Fatalf("ironseal %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return string(out)
}

func (e estate) do(args ...string) string {
	e.t.Helper()
	return e.run(filepath.Join(e.dir, "harbour"), args...)
}

func (e estate) path(name string) string { return filepath.Join(e.dir, name) }

// site drafts, signs and hands out a server certificate for localhost.
func (e estate) site(hostKey string) {
	e.t.Helper()
	e.do("request", "draft", "localhost", "booking.ternbay.example", "--key", hostKey, "--out", "..")
	e.do("request", "receive", "../localhost.request.pem")
	e.do("sign", "R1", "--template", "web-server", "--yes")
	e.do("certificate", "export", "R1", "--with", "issuers", "--out", "../chain.pem")
	e.do("authority", "export", "root", "--out", "../root.pem")
}

// nextPort is the last port that a test was given. Where it begins depends on the process, for two runs beside each
// other.
var nextPort atomic.Int32

// freePort is a port of this machine, for one server. No other test of this process gets it, and the system gives none
// of these to a client: a server that binds one of its two addresses only would otherwise go on beside a stranger.
func freePort(t *testing.T) int {
	t.Helper()
	const first, count = 12000, 20000
	nextPort.CompareAndSwap(0, int32(os.Getpid()*37%count))
	for range count {
		port := first + int(nextPort.Add(1))%count
		if bindable("127.0.0.1", port) && (bindable("::1", port) || !bindable("::1", 0)) {
			return port
		}
	}
	t.Fatal("no port is free")
	return 0
}

func bindable(host string, port int) bool {
	l, err := net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(port)))
	if err != nil {
		return false
	}
	l.Close()
	return true
}

// nginx serves the chain on loopback until the test ends.
func nginx(t *testing.T, e estate) int {
	t.Helper()
	binary := peer(t, "nginx", "/usr/sbin/nginx")
	port := freePort(t)
	conf := fmt.Sprintf(`daemon off; master_process off; pid %[1]s/nginx.pid; error_log %[1]s/error.log;
events {}
http { access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p;
  fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;
  server { listen 127.0.0.1:%[2]d ssl; ssl_certificate %[1]s/chain.pem; ssl_certificate_key %[1]s/localhost.key.pem;
    location / { return 200 "all aboard\n"; } } }
`, e.dir, port)
	file := e.path("nginx.conf")
	if err := os.WriteFile(file, []byte(conf), 0o644); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(binary, "-c", file, "-p", e.dir)
	var out strings.Builder
	cmd.Stderr = &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	for range 100 {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			c.Close()
			return port
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatalf("nginx does not serve the chain: %s", out.String())
	return 0
}

// client is a TLS client that is not ours: how it is run, and what it says when
// it refuses a name.
type client struct {
	name    string
	program []string // one of these must be installed
	command func(root, url, host string, port int) []string
	refusal string
}

var clients = []client{
	{"curl", []string{"curl"}, func(root, url, _ string,
		_ int) []string {
		return []string{"-sS", "--cacert", root, url}
	}, "subject name"},
	{"wget", []string{"wget"}, func(root, url, _ string, _ int) []string {
		return []string{"-q", "-O", "-", "-t", "1", "--ca-certificate=" + root, url}
	}, ""},
	{"Python ssl", []string{"python3"}, func(root, _, host string, port int) []string {
		return []string{"-c", `import socket, ssl, sys
root, host, port = sys.argv[1], sys.argv[2], int(sys.argv[3])
context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
context.load_verify_locations(root)
with context.wrap_socket(socket.create_connection(("127.0.0.1", port), 10), server_hostname=host) as s:
    s.sendall(b"GET / HTTP/1.0\r\n\r\n")
    print(s.recv(4096).decode())
    print(s.recv(4096).decode())`, root, host, fmt.Sprint(port)}
	}, "mismatch"},
	{"Node.js", []string{"node"}, func(root, _, host string, port int) []string {
		return []string{"-e", `const [root, host, port] = process.argv.slice(1);
require("https").get({ca: require("fs").readFileSync(root), host: "127.0.0.1", port, servername: host,
  checkServerIdentity: (_, c) => require("tls").checkServerIdentity(host, c)},
  r => r.pipe(process.stdout)).on("error", e => { console.error(e.message); process.exit(1); });`, root, host,
			fmt.Sprint(port)}
	}, "altnames"},
}

// A chain that was issued is accepted by each client that trusts the exported
// root alone; each refuses a wrong name.
func TestClientsTrustTheChainServedByNginx(t *testing.T) {
	t.Parallel()
	for _, kinds := range [][2]string{{"ecdsa-p256", "ecdsa-p256"}, {"rsa-4096", "rsa-2048"}} {
		t.Run(kinds[0], func(t *testing.T) {
			e := newEstate(t, kinds[0])
			e.site(kinds[1])
			port := nginx(t, e)
			right, wrong := fmt.Sprintf("https://localhost:%d/", port), fmt.Sprintf("https://127.0.0.1:%d/", port)
			for _, c := range clients {
				t.Run(c.name, func(t *testing.T) {
					binary := peer(t, c.program...)
					out, err := exec.Command(binary,
						c.command(e.path("root.pem"), right, "localhost", port)...).CombinedOutput()
					if err != nil || !strings.Contains(string(out), "all aboard") {
						t.Errorf("by the right name: %v\n%s", err, out)
					}
					out, err = exec.Command(binary,
						c.command(e.path("root.pem"), wrong, "127.0.0.1", port)...).CombinedOutput()
					if err == nil || strings.Contains(string(out), "all aboard") ||
						!strings.Contains(string(out), c.refusal) {
						t.Errorf("by a wrong name: %v\n%s", err, out)
					}
				})
			}
			t.Run("Java", func(t *testing.T) {
				out := java(t, "TrustClient.java", nil, e.path("root.pem"), right, wrong)
				lines := strings.Split(strings.TrimSpace(out), "\n")
				if len(lines) != 2 || lines[0] != "trusted 200" || !strings.HasPrefix(lines[1], "refused") {
					t.Errorf("%q", lines)
				}
			})
		})
	}
}

// java runs one source file of testdata.
func java(t *testing.T, source string, options []string, args ...string) string {
	t.Helper()
	binary := peer(t, "java")
	peer(t, "javac")
	all := append(append(options, filepath.Join("testdata", source)), args...)
	cmd := exec.Command(binary, all...)
	var stderr strings.Builder
	cmd.Stderr = &stderr
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("%s: %v\n%s", source, err, stderr.String())
	}
	return string(out)
}

var internals = []string{"--add-exports", "java.base/sun.security.pkcs10=ALL-UNNAMED", "--add-exports",
	"java.base/sun.security.pkcs=ALL-UNNAMED", "--add-exports", "java.base/sun.security.x509=ALL-UNNAMED"}

// Requests that a Java program made are received, read and signed.
func TestRequestsMadeByJava(t *testing.T) {
	long(t)
	t.Parallel()
	e := newEstate(t, "ecdsa-p256")
	for i, c := range [][]string{
		{"RSA", "2048", "SHA256withRSA", "CN=quay-gate-3.ternbay.example, O=Tern Bay Ferries, C=NO",
			"quay-gate-3.ternbay.example", "gate-3"},
		{"EC", "256", "SHA256withECDSA", "CN=gw.sandpiper.ternbay.example, OU=Ships", "gw.sandpiper.ternbay.example"},
		{"EC", "384", "SHA384withECDSA", "CN=pier.ternbay.example", "pier.ternbay.example"},
	} {
		text := java(t, "MakeRequest.java", internals, c...)
		file := e.path(fmt.Sprintf("java-%d.pem", i))
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		out := e.do("request", "receive", file)
		for _, name := range c[4:] {
			if !strings.Contains(out, "dns:"+name) {
				t.Errorf("%v: %s", c, out)
			}
		}
		if !strings.Contains(out, "possession proven") {
			t.Errorf("%v: %s", c, out)
		}
		if out := e.do("sign", fmt.Sprintf("R%d", i+1), "--template", "web-server", "--yes"); !strings.Contains(out,
			"✓ signed") {
			t.Errorf("%v: %s", c, out)
		}
	}
}

// Keys that we encrypted are opened by Java; what Java encrypted is read by us.
func TestEncryptedKeysGoBothWays(t *testing.T) {
	long(t)
	e := newEstate(t, "ecdsa-p256")
	for _, c := range []struct{ kind, algorithm string }{{"ecdsa-p256", "EC"}, {"rsa-2048", "RSA"}} {
		host := c.kind + ".ternbay.example"
		e.do("request", "draft", host, "--key", c.kind, "--out", "..", "--encrypt-with", "../pass")
		der := e.path(host + ".der")
		pemToDER(t, e.path(host+".key.pem"), der)
		if out := java(t, "EncryptedKey.java", nil, "open", der, c.algorithm, "tern and gull"); !strings.HasPrefix(out,
			"opened "+c.algorithm) {
			t.Errorf("%s: %q", c.kind, out)
		}
		for _, scheme := range []string{"PBEWithHmacSHA256AndAES_256", "PBEWithHmacSHA1AndAES_128",
			"PBEWithHmacSHA512AndAES_256"} {
			theirs := e.path(c.algorithm + scheme)
			java(t, "EncryptedKey.java", nil, "write", theirs, c.algorithm, "tern and gull", scheme)
			openEncrypted(t, theirs, "tern and gull")
			if out := e.do("read", theirs); !strings.Contains(out, "Encrypted private key") ||
				!strings.Contains(out, "PBKDF2") {
				t.Errorf("%s: %s", scheme, out)
			}
		}
	}
}

// thorough reports whether tests take the time that CI has.
func thorough() bool { return os.Getenv("CI") == "true" || os.Getenv("IRONSEAL_LONG") != "" }
