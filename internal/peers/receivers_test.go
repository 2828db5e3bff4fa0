//go:build linux

package peers

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"
)

// handover hands localhost's certificate over and returns the folder and the
// settings that its page gives.
func (e estate) handover(receiver string) (dir, settings string) {
	e.t.Helper()
	e.do("certificate", "handover", "R1", "--for", receiver, "--out", "../handed-out")
	dir = e.path("handed-out/localhost." + receiver)
	page, err := os.ReadFile(filepath.Join(dir, "READ-ME.txt"))
	if err != nil {
		e.t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(page), "\nSettings (")
	for _, l := range strings.Split(rest, "\n") {
		if s, ok := strings.CutPrefix(l, "    "); ok {
			settings += strings.ReplaceAll(s, "{dir}", dir) + "\n"
		}
	}
	if settings == "" {
		e.t.Fatalf("the page for %s gives no settings:\n%s", receiver, page)
	}
	return dir, settings
}

// serving starts a server and connects to it as a client that trusts only the
// root of the handover: by the right name, then by a wrong one.
func serving(t *testing.T, dir string, port int, binary string, args ...string) {
	t.Helper()
	cmd := exec.Command(binary, args...)
	var out strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Signal(syscall.SIGTERM); cmd.Wait() })
	root, err := os.ReadFile(filepath.Join(dir, "localhost.root.pem"))
	if err != nil {
		t.Fatal(err)
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(root)
	addr := fmt.Sprintf("127.0.0.1:%d", port)
	var c *tls.Conn
	for range 100 {
		if c, err = tls.Dial("tcp", addr, &tls.Config{RootCAs: pool, ServerName: "localhost"}); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if err != nil {
		t.Fatalf("%s: %v\n%s", binary, err, out.String())
	}
	if n := len(c.ConnectionState().PeerCertificates); n != 2 {
		t.Errorf("%s sends %d certificates, want the leaf and its issuer", binary, n)
	}
	c.Close()
	if c, err := tls.Dial("tcp", addr, &tls.Config{RootCAs: pool,
		ServerName: "elsewhere.ternbay.example"}); err == nil {
		c.Close()
		t.Error("a wrong name was trusted")
	}
}

func write(t *testing.T, path, text string) string {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

// Every receiver that names a server is proved by configuring that server from
// the handover folder as its page says, and connecting.
func TestServersTakeTheirHandovers(t *testing.T) {
	t.Parallel()
	t.Run("nginx", func(t *testing.T) {
		binary := peer(t, "nginx", "/usr/sbin/nginx")
		e := signedForLocalhost(t, "rsa-2048")
		dir, settings := e.handover("nginx")
		port := freePort(t)
		conf := write(t, e.path("nginx.conf"),
			fmt.Sprintf("daemon off; master_process off; pid %[1]s/pid; error_log %[1]s/error.log;\nevents {}\nhttp "+
				"{ access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path "+
				"%[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;\nserver { listen 127.0.0.1:%[2]d "+
				"ssl;\n%[3]s} }\n", e.dir, port, settings))
		if out, err := exec.Command(binary, "-t", "-c", conf, "-p", e.dir).CombinedOutput(); err != nil {
			t.Fatalf("nginx -t: %s", out)
		}
		serving(t, dir, port, binary, "-c", conf, "-p", e.dir)
	})
	t.Run("Apache httpd", func(t *testing.T) {
		binary := peer(t, "apache2", "/usr/sbin/apache2", "httpd")
		e := signedForLocalhost(t, "ecdsa-p256")
		dir, settings := e.handover("apache-httpd")
		port := freePort(t)
		modules := "/usr/lib/apache2/modules"
		conf := write(t, e.path("httpd.conf"),
			fmt.Sprintf("ServerRoot %[1]s\nServerName localhost\nPidFile %[1]s/pid\nErrorLog "+
				"%[1]s/error.log\nDefaultRuntimeDir %[1]s\nUser nobody\nGroup nogroup\nListen "+
				"127.0.0.1:%[2]d\nLoadModule mpm_event_module %[3]s/mod_mpm_event.so\nLoadModule authz_core_module "+
				"%[3]s/mod_authz_core.so\nLoadModule socache_shmcb_module %[3]s/mod_socache_shmcb.so\nLoadModule "+
				"ssl_module %[3]s/mod_ssl.so\n<VirtualHost *:%[2]d>\n%[4]s</VirtualHost>\n", e.dir, port, modules,
				settings))
		serving(t, dir, port, binary, "-f", conf, "-DFOREGROUND")
	})
	t.Run("HAProxy", func(t *testing.T) {
		binary := peer(t, "haproxy", "/usr/sbin/haproxy")
		e := signedForLocalhost(t, "ecdsa-p256")
		dir, settings := e.handover("haproxy")
		port := freePort(t)
		settings = strings.Replace(settings, "bind :443", fmt.Sprintf("bind 127.0.0.1:%d", port), 1)
		conf := write(t, e.path("haproxy.cfg"),
			"defaults\n mode http\n timeout client 5s\n timeout connect 5s\n timeout server 5s\nfrontend site\n "+
				settings+" http-request return status 200\n")
		if out, err := exec.Command(binary, "-c", "-f", conf).CombinedOutput(); err != nil {
			t.Fatalf("haproxy -c: %s", out)
		}
		serving(t, dir, port, binary, "-f", conf, "-db")
	})
	t.Run("PostgreSQL", postgres)
}

// postgres configures PostgreSQL from its handover, and connects with its own
// client: by the right name, by a wrong one, and with a client certificate.
func postgres(t *testing.T) {
	initdb := peer(t, "initdb", "/usr/lib/postgresql/15/bin/initdb", "/usr/lib/postgresql/17/bin/initdb")
	psql := peer(t, "psql")
	bin := filepath.Dir(initdb)
	e := signedForLocalhost(t, "ecdsa-p256")
	dir, settings := e.handover("postgresql")
	e.do("request", "draft", "mate", "--out", "..")
	e.do("request", "receive", "../mate.request.pem")
	e.do("sign", "R2", "--template", "client", "--yes")
	e.do("certificate", "export", "R2", "--with", "issuers", "--out", "../mate.pem")
	user := &syscall.SysProcAttr{}
	if os.Getuid() == 0 { // the server refuses to run as the superuser
		for _, d := range []string{e.dir, filepath.Dir(e.dir), filepath.Dir(dir), dir} {
			if err := os.Chmod(d, 0o755); err != nil {
				t.Fatal(err)
			}
		}
		user.Credential = &syscall.Credential{Uid: 65534, Gid: 65534}
		for _, f := range []string{e.dir, filepath.Join(dir, "localhost.key.pem")} {
			if err := os.Chown(f, 65534, 65534); err != nil {
				t.Fatal(err)
			}
		}
	}
	run := func(name string, args ...string) {
		cmd := exec.Command(name, args...)
		cmd.SysProcAttr, cmd.Dir = user, e.dir
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", name, err, out)
		}
	}
	data := e.path("data")
	run(initdb, "-D", data, "-U", "mate", "-A", "trust", "--no-sync")
	port := freePort(t)
	appendTo(t, filepath.Join(data, "postgresql.conf"),
		fmt.Sprintf("\nlisten_addresses = '127.0.0.1'\nport = %d\nunix_socket_directories = ''\n%s", port, settings))
	write(t, filepath.Join(data, "pg_hba.conf"),
		"hostssl postgres mate 127.0.0.1/32 trust\nhostssl template1 mate 127.0.0.1/32 cert\n")
	cmd := exec.Command(filepath.Join(bin, "postgres"), "-D", data)
	cmd.SysProcAttr, cmd.Dir = user, e.dir
	var log strings.Builder
	cmd.Stderr = &log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Signal(syscall.SIGINT); cmd.Wait() })
	for range 100 {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			c.Close()
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	connect := func(host, db, more string) (string, error) {
		out, err := exec.Command(psql, fmt.Sprintf("host=%s hostaddr=127.0.0.1 port=%d user=mate dbname=%s "+
			"sslmode=verify-full sslrootcert=%s/localhost.root.pem %s", host, port, db, dir, more), "-Atc",
			"select 'all aboard'").CombinedOutput()
		return string(out), err
	}
	if out, err := connect("localhost", "postgres", ""); err != nil || !strings.Contains(out, "all aboard") {
		t.Fatalf("by the right name: %v %s\n%s", err, out, log.String())
	}
	if out, err := connect("elsewhere.ternbay.example", "postgres", ""); err == nil {
		t.Errorf("by a wrong name: %s", out)
	}
	client := fmt.Sprintf("sslcert=%s sslkey=%s", e.path("mate.pem"), e.path("mate.key.pem"))
	if out, err := connect("localhost", "template1", client); err != nil || !strings.Contains(out, "all aboard") {
		t.Errorf("with a client certificate: %v %s\n%s", err, out, log.String())
	}
	if out, err := connect("localhost", "template1", "sslcert=none"); err == nil {
		t.Errorf("without a client certificate: %s", out)
	}
}

func appendTo(t *testing.T, path, text string) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.WriteString(text); err != nil {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
}

// A Java server serves with the key store of its handover, and a Java client
// connects with the trust store that lies beside it; with a root that was renewed
// meanwhile, the chain is still one that Java's key store takes.
func TestJavaTakesItsHandover(t *testing.T) {
	t.Parallel()
	e := signedForLocalhost(t, "ecdsa-p256")
	for i, before := range [][]string{nil, {"authority", "renew", "root", "--key", "ecdsa-p256", "--yes"}} {
		if before != nil {
			e.do(before...)
		}
		out := fmt.Sprintf("../handed-out-%d", i)
		e.do("certificate", "handover", "R1", "--for", "java", "--encrypt-with", "../pass", "--out", out)
		dir := filepath.Join(e.dir, "harbour", out, "localhost.java")
		got := strings.Fields(java(t, "HandedOver.java", nil, filepath.Join(dir, "localhost.p12"),
			filepath.Join(dir, "localhost.trust.p12"), "tern and gull"))
		if strings.Join(got, " ") != "chain 3 trusted 204 refused" {
			t.Errorf("round %d: %v", i, got)
		}
	}
}

// A Java key store that made the request itself takes the answer: the key stays where it is, and gets the chain.
func TestAJavaStoreTakesTheAnswerToItsOwnRequest(t *testing.T) {
	long(t)
	t.Parallel()
	e := newEstate(t, "ecdsa-p256")
	more := append(slices.Clone(internals), "--add-exports", "java.base/sun.security.util=ALL-UNNAMED")
	store := e.path("server.p12")
	write(t, e.path("own.pem"), java(t, "OwnStore.java", more, "make", store, "CN=ticket.ternbay.example"))
	e.do("request", "receive", e.path("own.pem"))
	e.do("sign", "R1", "--template", "web-server", "--for", "java-own-key", "--yes")
	out := e.do("certificate", "handover", "R1", "--for", "java-own-key", "--out", "../out")
	if strings.Contains(out, "password") {
		t.Errorf("it speaks of a password:\n%s", out)
	}
	dir := e.path("out/ticket.ternbay.example.java-own-key/")
	if got := java(t, "OwnStore.java", more, "answer", store, dir+"/ticket.ternbay.example.answer.p7b",
		dir+"/ticket.ternbay.example.root.pem"); strings.TrimSpace(got) != "chain 3" {
		t.Error(got)
	}
}
