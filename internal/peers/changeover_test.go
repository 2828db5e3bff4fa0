//go:build linux

package peers

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// harbourLife is an estate with twelve live parties: four servers, each with a certificate of
// the estate's, and eight clients that connect to them with what their kits gave them.
type harbourLife struct {
	t     *testing.T
	dir   string // of the estate
	env   []string
	at    string // where everything else lies
	port  map[string]int
	serve map[string]func() // starts, or starts again, a server with what was handed to it
}

var (
	webServers  = []string{"gate-1", "gate-2", "booking"}
	liveServers = append(slices.Clone(webServers), "records")
	liveClients = []string{"curl", "wget", "python", "node", "java", "go", "desk", "psql"}
)

func (l harbourLife) do(args ...string) string {
	l.t.Helper()
	out, err := l.try(args...)
	if err != nil {
		l.t.Fatalf("ironseal %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return out
}

func (l harbourLife) try(args ...string) (string, error) {
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = l.dir, append(os.Environ(), l.env...)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// refused runs a command that must be refused with a status, and say a word.
func (l harbourLife) refused(status int, word string, args ...string) {
	l.t.Helper()
	out, err := l.try(args...)
	var exit *exec.ExitError
	if !errors.As(err, &exit) || exit.ExitCode() != status || !strings.Contains(out, word) {
		l.t.Errorf("ironseal %s: %v\n%s", strings.Join(args, " "), err, out)
	}
}

// settle makes the authorities, the parties, their certificates and their kits.
func (l harbourLife) settle() {
	l.do("authority", "create", "root", "--key", "ecdsa-p256", "--yes")
	l.do("authority", "create", "services", "--under", "root", "--key", "ecdsa-p256", "--yes")
	for _, s := range liveServers {
		host := s + ".ternbay.example"
		l.do("party", "add", s, "--endpoint", fmt.Sprintf("localhost:%d", l.port[s]), "--receiver", "any-web-server")
		l.do("request", "draft", "localhost", host, "--subject", "CN="+s, "--out", filepath.Join(l.at, s))
		l.do("request", "receive", filepath.Join(l.at, s, "localhost.request.pem"))
	}
	for i, s := range liveServers {
		l.do("sign", fmt.Sprintf("R%d", i+1), "--template", "web-server", "--yes")
		l.handOver(i, s)
	}
	for _, c := range liveClients {
		platform := "bundle"
		if c == "java" {
			platform = "java"
		}
		l.do("party", "add", c, "--platform", platform, "--set", "own")
		l.do("trust", "kit", "--party", c, "--out", filepath.Join(l.at, "trust", c))
	}
}

// handOver gives a server its newest certificate, and starts it again.
func (l harbourLife) handOver(i int, server string) {
	l.t.Helper()
	request := fmt.Sprintf("R%d", i+1)
	l.do("certificate", "handover", request, "--party", server, "--out", filepath.Join(l.at, "handed"), "--yes")
	l.do("certificate", "export", request, "--with", "issuers", "--out", filepath.Join(l.at, server, "chain.pem"),
		"--yes")
	if restart := l.serve[server]; restart != nil {
		restart()
	}
}

// start starts a server, and again when it is called again.
func (l harbourLife) start(server, binary string, as *syscall.SysProcAttr, stop syscall.Signal, args ...string) {
	var running *exec.Cmd
	l.serve[server] = func() {
		if running != nil {
			_ = running.Process.Signal(stop)
			_ = running.Wait()
		}
		running = exec.Command(binary, args...)
		running.SysProcAttr = as
		if err := running.Start(); err != nil {
			l.t.Fatal(err)
		}
		for range 200 {
			c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", l.port[server]))
			if err == nil {
				c.Close()
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
		l.t.Fatalf("%s does not listen", server)
	}
	l.serve[server]()
	l.t.Cleanup(func() { _ = running.Process.Signal(stop); _ = running.Wait() })
}

// open starts the servers: two by nginx, one by HAProxy, and PostgreSQL.
func (l harbourLife) open() {
	t := l.t
	for _, s := range []string{"gate-1", "gate-2"} {
		dir := filepath.Join(l.at, s)
		conf := write(t, dir+"/nginx.conf", fmt.Sprintf("daemon off; master_process off; pid %[1]s/pid; error_log "+
			"%[1]s/error.log;\nevents {}\nhttp { access_log off; client_body_temp_path %[1]s/b; proxy_temp_path "+
			"%[1]s/p; "+
			"fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;\nserver { listen "+
			"127.0.0.1:%[2]d "+
			"ssl; ssl_certificate %[1]s/chain.pem; ssl_certificate_key %[1]s/localhost.key.pem;\nlocation / { "+
			"return 200 "+
			"\"all aboard\\n\"; } } }\n", dir, l.port[s]))
		l.start(s, peer(t, "nginx", "/usr/sbin/nginx"), nil, syscall.SIGTERM, "-c", conf, "-p", dir)
	}
	dir := filepath.Join(l.at, "booking")
	conf := write(t, dir+"/haproxy.cfg", fmt.Sprintf("defaults\n mode http\n timeout client 5s\n timeout connect "+
		"5s\n timeout "+
		"server 5s\nfrontend f\n bind 127.0.0.1:%d ssl crt %s\n http-request return status 200 content-type "+
		"text/plain string "+
		"\"all aboard\\n\"\n", l.port["booking"], dir+"/both.pem"))
	join := func() {
		write(t, dir+"/both.pem", string(readFile(t, dir+"/chain.pem"))+string(readFile(t, dir+"/localhost.key.pem")))
	}
	join()
	l.start("booking", peer(t, "haproxy", "/usr/sbin/haproxy"), nil, syscall.SIGTERM, "-f", conf, "-db")
	again := l.serve["booking"]
	l.serve["booking"] = func() { join(); again() }
	l.database()
}

func (l harbourLife) database() {
	t, dir := l.t, filepath.Join(l.at, "records")
	initdb := peer(t, "initdb", "/usr/lib/postgresql/15/bin/initdb", "/usr/lib/postgresql/17/bin/initdb")
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	own := func() *syscall.SysProcAttr {
		for _, f := range []string{"chain.pem", "localhost.key.pem"} {
			if err := os.Chmod(filepath.Join(dir, f), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		return nobody(t, dir)
	}
	as := own()
	cmd := exec.Command(initdb, "-D", dir+"/data", "-U", "mate", "-A", "trust", "--no-sync")
	cmd.SysProcAttr, cmd.Dir = as, dir
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("initdb: %v\n%s", err, out)
	}
	appendTo(t, dir+"/data/postgresql.conf", fmt.Sprintf("\nlisten_addresses = '127.0.0.1'\nport = %d\n"+
		"unix_socket_directories = ''\nssl = on\nssl_cert_file = '%[2]s/chain.pem'\nssl_key_file = "+
		"'%[2]s/localhost.key.pem'\n",
		l.port["records"], dir))
	l.start("records", filepath.Join(filepath.Dir(initdb), "postgres"), as, syscall.SIGINT, "-D", dir+"/data")
	again := l.serve["records"]
	l.serve["records"] = func() { own(); again() }
}

// connect connects every client to every server that it speaks to, and tells who refuses whom.
func (l harbourLife) connect() (refusals []string) {
	l.t.Helper()
	var wg sync.WaitGroup
	var mu sync.Mutex
	for _, c := range liveClients {
		wg.Go(func() {
			for _, s := range liveServers {
				if (c == "psql") != (s == "records") {
					continue // each speaks its own protocol
				}
				if err := l.one(c, s); err != nil {
					mu.Lock()
					refusals = append(refusals, c+" "+s)
					mu.Unlock()
				}
			}
		})
	}
	wg.Wait()
	return refusals
}

func (l harbourLife) one(c, s string) error {
	roots := filepath.Join(l.at, "trust", c, "own.bundle", "roots.pem")
	port := l.port[s]
	url := fmt.Sprintf("https://localhost:%d/", port)
	by := map[string]int{"curl": 0, "desk": 0, "wget": 1, "python": 2, "node": 3}
	switch c {
	case "go":
		pool := x509.NewCertPool()
		pool.AppendCertsFromPEM(readFile(l.t, roots))
		conn, err := tls.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port), &tls.Config{RootCAs: pool,
			ServerName: "localhost"})
		if err == nil {
			conn.Close()
		}
		return err
	case "java":
		out, err := exec.Command("java", "-cp", l.at, "-Djavax.net.ssl.trustStoreType=PKCS12",
			"-Djavax.net.ssl.trustStore="+
				filepath.Join(l.at, "trust/java/own.java/roots.p12"), "TrustStores", "get", url).CombinedOutput()
		if !strings.HasPrefix(string(out), "trusted 200") {
			return fmt.Errorf("%s (%v)", out, err)
		}
		return nil
	case "psql":
		out, err := exec.Command(peer(l.t, "psql"), fmt.Sprintf("host=localhost hostaddr=127.0.0.1 port=%d user=mate "+
			"dbname=postgres sslmode=verify-full sslrootcert=%s", port, roots), "-Atc", "select 1").CombinedOutput()
		if err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		return nil
	}
	args := clients[by[c]].command(roots, url, "localhost", port)
	if out, err := exec.Command(peer(l.t, clients[by[c]].program...), args...).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// all says that no connection fails at a stage.
func (l harbourLife) all(stage string) {
	l.t.Helper()
	if r := l.connect(); len(r) > 0 {
		l.t.Errorf("%s: refused: %s", stage, strings.Join(r, ", "))
	}
}

// learn gives a client the kit that a plan packed for it.
func (l harbourLife) learn(kits, client string) {
	l.t.Helper()
	to := filepath.Join(l.at, "trust", client)
	if err := os.RemoveAll(to); err != nil {
		l.t.Fatal(err)
	}
	if err := os.Rename(filepath.Join(kits, client), to); err != nil {
		l.t.Fatal(err)
	}
}

func newLife(t *testing.T, dir string, env ...string) harbourLife {
	l := harbourLife{t: t, dir: dir, at: openDir(t), port: map[string]int{}, serve: map[string]func(){}}
	l.env = append(env, "IRONSEAL_ESTATE=")
	for _, s := range liveServers {
		l.port[s] = freePort(t)
		if err := os.Mkdir(filepath.Join(l.at, s), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	peer(t, "java")
	if out, err := exec.Command(peer(t, "javac"), "-d", l.at,
		"testdata/TrustStores.java").CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
	l.settle()
	l.open()
	return l
}

// prepare moves services below another root, for a day to come.
func (l harbourLife) prepare() {
	l.do("authority", "create", "newroot", "--subject", "CN=Another Root,O=Tern Bay Ferries", "--key", "ecdsa-p256",
		"--yes")
	l.do("authority", "renew", "services", "--under", "newroot", "--switch-day", time.Now().AddDate(0, 2,
		0).Format("2006-01-02"),
		"--yes")
	l.do("changeover", "prepare", "services", "--yes")
}

// A change of roots over twelve live parties: no connection fails at any stage. Switching too
// early is refused.
func TestAChangeOfRootsOverLiveParties(t *testing.T) {
	long(t)
	e := newLifeEstate(t)
	l := newLife(t, e, "IRONSEAL_PASSPHRASE_FILE="+filepath.Join(filepath.Dir(e), "pass"))
	l.all("before")
	l.prepare()
	l.all("prepared")
	kits := filepath.Join(l.at, "kits")
	l.do("changeover", "plan", "services", "--out", kits)
	for i, c := range liveClients {
		l.refused(3, "party-not-ready", "changeover", "switch", "services", "--early", "--yes")
		l.learn(kits, c)
		if i%3 == 0 {
			l.all("while " + c + " learns")
		}
		l.do("changeover", "record", "services", c, "--because", "it connects, with both roots")
	}
	l.all("when all have learnt")
	l.refused(1, "wait for it", "changeover", "switch", "services", "--yes")
	l.do("changeover", "switch", "services", "--early", "--yes")
	for i, s := range liveServers {
		l.all("switched, before " + s + " has its new certificate")
		l.handOver(i, s)
	}
	l.all("when all serve the new")
	for _, c := range liveClients { // and the old root goes: what the servers serve depends on it no more
		l.do("trust", "create", "new-"+c)
		l.do("trust", "add", "new-"+c, "newroot", "--yes")
		platform := map[bool]string{true: "java", false: "bundle"}[c == "java"]
		l.do("trust", "kit", "new-"+c, "--for", platform, "--out", filepath.Join(l.at, "last"))
		to := filepath.Join(l.at, "trust", c, "own."+platform)
		if err := errors.Join(os.RemoveAll(to), os.Rename(filepath.Join(l.at, "last", "new-"+c+"."+platform),
			to)); err != nil {
			t.Fatal(err)
		}
	}
	l.all("without the old root")
}

func newLifeEstate(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	write(t, dir+"/pass", "tern and gull\n")
	cmd := exec.Command(program, "estate", "create", "harbour", "--organisation", "Tern Bay Ferries", "--country", "NO")
	cmd.Dir = dir
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
	return filepath.Join(dir, "harbour")
}

// In a rehearsal the switch is forced while some have not learnt: what fails then is what was
// foretold, and nothing else.
func TestAForcedSwitchFailsAsForetold(t *testing.T) {
	long(t)
	dir := filepath.Join(t.TempDir(), "play")
	cmd := exec.Command(program, "estate", "rehearse", dir, "--blank", "--organisation", "Tern Bay Ferries",
		"--country", "NO")
	cmd.Dir = filepath.Dir(dir)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
	l := newLife(t, dir)
	l.prepare()
	kits := filepath.Join(l.at, "kits")
	l.do("changeover", "plan", "services", "--out", kits)
	for _, c := range []string{"curl", "node", "java"} {
		l.learn(kits, c)
		l.do("changeover", "record", "services", c, "--because", "seen")
	}
	var foretold struct {
		Breaks []struct{ Clients, Servers []string }
	}
	progress := exec.Command(program, "changeover", "progress", "services", "--json")
	progress.Dir, progress.Env = l.dir, append(os.Environ(), l.env...)
	out, err := progress.Output() // that it is a rehearsal is said beside it
	if err == nil {
		err = json.Unmarshal(out, &foretold)
	}
	if err != nil {
		t.Fatal(err)
	}
	var want []string
	for _, b := range foretold.Breaks {
		for _, client := range b.Clients {
			for _, server := range b.Servers {
				if slices.Contains(liveClients, client) && (client == "psql") == (server == "records") {
					want = append(want, client+" "+server)
				}
			}
		}
	}
	l.do("changeover", "switch", "services", "--early", "--yes", "--waive", "party-not-ready", "--because",
		"to see what breaks")
	for i, s := range liveServers {
		l.handOver(i, s)
	}
	got := l.connect()
	sort.Strings(got)
	sort.Strings(want)
	if len(want) != 13 || !slices.Equal(got, want) {
		t.Errorf("foretold %d: %s\nand %d fail: %s", len(want), strings.Join(want, ", "), len(got), strings.Join(got,
			", "))
	}
}
