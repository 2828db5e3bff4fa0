//go:build linux

package peers

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	xocsp "golang.org/x/crypto/ocsp"
)

// quay is an estate that began two days ago, with a server and clients, one of which was
// revoked yesterday, and one of which is on hold.
type quay struct {
	estate
	public, answers string
}

func newQuay(t *testing.T) quay {
	t.Helper()
	q := quay{estate: estate{t, openDir(t)}}
	q.public, q.answers = q.path("public"), q.path("answers")
	days := func(n int) string { return time.Now().UTC().AddDate(0, 0, n).Format(time.RFC3339) }
	write(t, q.path("pass"), "tern and gull\n")
	q.run(q.dir, "estate", "rehearse", "harbour", "--blank", "--organisation", "Tern Bay Ferries", "--as-of", days(-2))
	then := func(day int, args ...string) { q.do(append(args, "--as-of", days(day))...) }
	for _, a := range [][]string{{"root"}, {"services", "--under", "root"}} {
		then(-2, append(append([]string{"authority", "create"}, a...), "--key", "ecdsa-p256", "--yes")...)
	}
	for i, name := range []string{"localhost", "pier.ternbay.example", "mate", "stoker", "cook"} {
		then(-2, "request", "draft", name, "--out", "..")
		then(-2, "request", "receive", "../"+name+".request.pem")
		template := "client"
		if i < 2 {
			template = "web-server"
		}
		r := fmt.Sprintf("R%d", i+1)
		then(-2, "sign", r, "--template", template, "--yes")
		then(-2, "certificate", "export", r, "--with", "issuers", "--out", "../"+name+".pem")
	}
	then(-2, "authority", "export", "root", "--out", "../root.pem")
	then(-1, "revoke", "R2", "R4", "--reason", "key-compromise", "--yes")
	then(-1, "revoke", "R5", "--reason", "hold", "--yes")
	then(-1, "revocations", "publish", "--to", q.public, "--ocsp", q.answers)
	return q
}

// met is what a server makes of clients, by name.
func (q quay) met(port int) map[string]bool { return q.metBy(port, "mate", "stoker", "cook") }

// metBy is met for some of them.
func (q quay) metBy(port int, names ...string) map[string]bool {
	q.t.Helper()
	root, err := os.ReadFile(q.path("root.pem"))
	if err != nil {
		q.t.Fatal(err)
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(root)
	out := map[string]bool{}
	for _, name := range names {
		pair, err := tls.LoadX509KeyPair(q.path(name+".pem"), q.path(name+".key.pem"))
		if err != nil {
			q.t.Fatal(err)
		}
		c := http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{DisableKeepAlives: true,
			TLSClientConfig: &tls.Config{RootCAs: pool, ServerName: "localhost",
				Certificates: []tls.Certificate{pair}}}}
		answer, err := c.Get(fmt.Sprintf("https://127.0.0.1:%d/", port))
		if err == nil {
			out[name] = answer.StatusCode == http.StatusOK
			answer.Body.Close()
		}
	}
	return out
}

// on starts a server, asks it, and stops it.
func (q quay) on(port int, as *syscall.SysProcAttr, stop syscall.Signal, ask func() map[string]bool, binary string,
	args ...string) map[string]bool {
	q.t.Helper()
	cmd := exec.Command(binary, args...)
	cmd.SysProcAttr, cmd.Dir = as, q.dir
	var log strings.Builder
	cmd.Stdout, cmd.Stderr = &log, &log
	if err := cmd.Start(); err != nil {
		q.t.Fatal(err)
	}
	defer func() { cmd.Process.Signal(stop); cmd.Wait() }()
	for range 100 {
		c, err := tls.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port), &tls.Config{InsecureSkipVerify: true})
		var complaint tls.AlertError
		if err == nil || errors.As(err, &complaint) || strings.Contains(err.Error(), "remote error") {
			if err == nil {
				c.Close()
			}
			break
		}
		if strings.Contains(err.Error(), "first record") { // it speaks before TLS
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	out := ask()
	if len(out) == 0 {
		q.t.Errorf("%s: %s", binary, log.String())
	}
	return out
}

// site is nginx's file for a server that demands clients' certificates and looks into these lists.
func (q quay) site(port int, lists string) string {
	return write(q.t, q.path("nginx.conf"), fmt.Sprintf("daemon off; master_process off; pid %[1]s/pid; error_log "+
		"%[1]s/error.log;\nevents {}\nhttp { access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; "+
		"fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;\nserver { listen "+
		"127.0.0.1:%[2]d ssl; ssl_certificate localhost.pem; ssl_certificate_key localhost.key.pem; "+
		"ssl_verify_client on; ssl_verify_depth 3;\nssl_client_certificate root.pem; ssl_crl %[3]s; "+
		"location / { return 200; } } }\n", q.dir, port, lists))
}

// TestServersRefuseRevokedClients: by the file of lists of the whole path, of yesterday and
// as it is published again today, each refuses who is revoked or on hold, and nobody else.
func TestServersRefuseRevokedClients(t *testing.T) {
	long(t)
	q := newQuay(t)
	lists := filepath.Join(q.public, "services.g1.lists.pem")
	servers := map[string]func(port int) map[string]bool{
		"nginx": func(port int) map[string]bool {
			return q.on(port, nil, syscall.SIGTERM, func() map[string]bool { return q.met(port) },
				peer(t, "nginx", "/usr/sbin/nginx"), "-c", q.site(port, lists), "-p", q.dir)
		},
		"Apache httpd": func(port int) map[string]bool {
			conf := write(t, q.path("httpd.conf"), fmt.Sprintf("ServerRoot %[1]s\nServerName localhost\nPidFile "+
				"%[1]s/pid\n"+
				"ErrorLog %[1]s/error.log\nDefaultRuntimeDir %[1]s\nDocumentRoot %[1]s/public\nUser "+
				"nobody\nGroup nogroup\n"+
				"Listen 127.0.0.1:%[2]d\nLoadModule mpm_event_module %[3]s/mod_mpm_event.so\nLoadModule "+
				"authz_core_module "+
				"%[3]s/mod_authz_core.so\nLoadModule socache_shmcb_module %[3]s/mod_socache_shmcb.so\nLoadModule "+
				"ssl_module "+
				"%[3]s/mod_ssl.so\nLoadModule dir_module %[3]s/mod_dir.so\nDirectoryIndex "+
				"contents.txt\n<VirtualHost *:%[2]d>\n"+
				"SSLEngine on\nSSLCertificateFile localhost.pem\nSSLCertificateKeyFile "+
				"localhost.key.pem\nSSLVerifyClient "+
				"require\nSSLVerifyDepth 3\nSSLCACertificateFile root.pem\nSSLCARevocationFile "+
				"%[4]s\nSSLCARevocationCheck "+
				"chain\n</VirtualHost>\n", q.dir, port, "/usr/lib/apache2/modules", lists))
			return q.on(port, nil, syscall.SIGTERM, func() map[string]bool { return q.met(port) },
				peer(t, "apache2", "/usr/sbin/apache2"), "-f", conf, "-DFOREGROUND")
		},
		"HAProxy": func(port int) map[string]bool {
			both := q.path("localhost.both.pem")
			text := ""
			for _, f := range []string{"localhost.pem", "localhost.key.pem"} {
				data, err := os.ReadFile(q.path(f))
				if err != nil {
					t.Fatal(err)
				}
				text += string(data)
			}
			write(t, both, text)
			conf := write(t, q.path("haproxy.cfg"), fmt.Sprintf("defaults\n mode http\n timeout client 5s\n "+
				"timeout connect "+
				"5s\n timeout server 5s\nfrontend site\n bind 127.0.0.1:%d ssl crt %s ca-file %s verify required "+
				"crl-file %s\n "+
				"http-request return status 200\n", port, both, q.path("root.pem"), lists))
			return q.on(port, nil, syscall.SIGTERM, func() map[string]bool { return q.met(port) },
				peer(t, "haproxy", "/usr/sbin/haproxy"), "-f", conf, "-db")
		},
		"PostgreSQL": func(port int) map[string]bool { return q.database(port, lists) },
	}
	for round, again := range []bool{false, true} {
		if again {
			q.do("revocations", "publish", "--to", q.public, "--all")
		}
		for name, start := range servers {
			got := start(freePort(t))
			for client, want := range map[string]bool{"mate": true, "stoker": false, "cook": false} {
				if got[client] != want {
					t.Errorf("round %d, %s: %s gets in %v, and it should be %v", round, name, client, got[client], want)
				}
			}
		}
	}
}

// database starts PostgreSQL with the lists, and asks it with its own client.
func (q quay) database(port int, lists string) map[string]bool {
	t := q.t
	initdb := peer(t, "initdb", "/usr/lib/postgresql/15/bin/initdb", "/usr/lib/postgresql/17/bin/initdb")
	psql := peer(t, "psql")
	dir := openDir(t)
	for _, f := range []string{"localhost.pem", "localhost.key.pem", "root.pem"} {
		data, err := os.ReadFile(q.path(f))
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, f), data, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	as := nobody(t, dir)
	data := filepath.Join(dir, "data")
	cmd := exec.Command(initdb, "-D", data, "-U", "mate", "-A", "trust", "--no-sync")
	cmd.SysProcAttr, cmd.Dir = as, dir
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("initdb: %v\n%s", err, out)
	}
	appendTo(t, filepath.Join(data, "postgresql.conf"), fmt.Sprintf("\nlisten_addresses = '127.0.0.1'\nport = %d\n"+
		"unix_socket_directories = ''\nssl = on\nssl_cert_file = '%[2]s/localhost.pem'\nssl_key_file = "+
		"'%[2]s/localhost.key.pem'\nssl_ca_file = '%[2]s/root.pem'\nssl_crl_file = '%[3]s'\n", port, dir, lists))
	write(t, filepath.Join(data, "pg_hba.conf"), "hostssl all all 127.0.0.1/32 trust clientcert=verify-ca\n")
	return q.on(port, as, syscall.SIGINT, func() map[string]bool {
		out := map[string]bool{}
		for _, name := range []string{"mate", "stoker", "cook"} {
			for range 50 {
				answer, err := exec.Command(psql, fmt.Sprintf("host=localhost hostaddr=127.0.0.1 port=%d user=mate "+
					"dbname=postgres sslmode=verify-full sslrootcert=%s sslcert=%s sslkey=%s", port, q.path("root.pem"),
					q.path(name+".pem"), q.path(name+".key.pem")), "-Atc", "select 'all aboard'").CombinedOutput()
				out[name] = err == nil && strings.Contains(string(answer), "all aboard")
				if !strings.Contains(string(answer), "Connection refused") && !strings.Contains(string(answer),
					"starting up") {
					break
				}
				time.Sleep(100 * time.Millisecond)
			}
		}
		return out
	}, filepath.Join(filepath.Dir(initdb), "postgres"), "-D", data)
}

// Java's own validator, by list and by OCSP answer, sees what we see.
func TestJavaSeesWhatIsRevoked(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	var chains []string
	for _, name := range []string{"localhost", "pier.ternbay.example", "mate", "stoker", "cook"} {
		chains = append(chains, q.path(name+".pem"))
	}
	want := []string{"good", "REVOKED:KEY_COMPROMISE", "good", "REVOKED:KEY_COMPROMISE", "REVOKED:CERTIFICATE_HOLD"}
	for by, from := range map[string]string{"lists": filepath.Join(q.public, "services.g1.lists.pem"),
		"answers": q.answers} {
		got := strings.Fields(java(t, "Revoked.java", nil, append([]string{by, q.path("root.pem"), from},
			chains...)...))
		if !slices.Equal(got, want) {
			t.Errorf("by %s: %v", by, got)
		}
	}
	files, err := filepath.Glob(filepath.Join(q.answers, "*.ocsp"))
	if err != nil || len(files) != 6 {
		t.Fatalf("%d answers, %v", len(files), err)
	}
	for _, f := range files {
		der, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := xocsp.ParseResponse(der, nil); err != nil {
			t.Errorf("%s: %v", f, err)
		}
	}
}

// curl refuses a server whose certificate is on a list, and takes the other; so does verify
// and probe, by the addresses in certificates too.
func TestCurlRefusesARevokedServer(t *testing.T) {
	t.Parallel()
	curl := peer(t, "curl")
	q := newQuay(t)
	for name, want := range map[string]bool{"localhost": true, "pier.ternbay.example": false} {
		pair, err := tls.LoadX509KeyPair(q.path(name+".pem"), q.path(name+".key.pem"))
		if err != nil {
			t.Fatal(err)
		}
		l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{pair}})
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close()
		go http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			io.WriteString(w,
				"all aboard")
		}))
		_, port, _ := strings.Cut(l.Addr().String(), ":")
		out, err := exec.Command(curl, "-sS", "--cacert", q.path("root.pem"), "--crlfile",
			filepath.Join(q.public, "services.g1.lists.pem"), "--resolve", name+":"+port+":127.0.0.1",
			"https://"+name+":"+port+"/").CombinedOutput()
		if (err == nil) != want || !want && !strings.Contains(string(out), "revoked") {
			t.Errorf("%s: %v %s", name, err, out)
		}
	}
}
