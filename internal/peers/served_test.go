//go:build linux

package peers

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	xocsp "golang.org/x/crypto/ocsp"
)

// served is an estate whose lists and OCSP answers the program itself serves.
type served struct {
	estate
	at string // such as http://127.0.0.1:8085
}

// newServed makes the estate, with certificates of servers and clients that name the server's address, and serves
// it.
func newServed(t *testing.T) served {
	t.Helper()
	q := served{estate: estate{t, openDir(t)}}
	port := freePort(t)
	q.at = fmt.Sprintf("http://127.0.0.1:%d", port)
	write(t, q.path("pass"), "tern and gull\n")
	q.run(q.dir, "estate", "create", "harbour", "--organisation", "Tern Bay Ferries", "--country", "NO", "--publish-at",
		q.at)
	q.cheap()
	settings := q.path("harbour/ironseal.toml")
	text, err := os.ReadFile(settings)
	if err != nil {
		t.Fatal(err)
	}
	write(t, settings, strings.Replace(string(text), `ocsp           = ""`, fmt.Sprintf("ocsp = %q", q.at+"/ocsp"), 1))
	q.do("authority", "create", "root", "--key", "ecdsa-p256", "--yes")
	q.do("authority", "create", "services", "--under", "root", "--key", "ecdsa-p256", "--yes")
	for i, name := range []string{"localhost", "pier.ternbay.example", "mate", "stoker"} {
		q.do("request", "draft", name, "--out", "..")
		q.do("request", "receive", "../"+name+".request.pem")
		template := "client"
		if i < 2 {
			template = "web-server"
		}
		r := fmt.Sprintf("R%d", i+1)
		q.do("sign", r, "--template", template, "--yes")
		q.do("certificate", "export", r, "--with", "issuers", "--out", "../"+name+".pem")
	}
	q.do("authority", "export", "root", "--out", "../root.pem")
	q.serve(port)
	return q
}

// serve starts the server of the estate, and waits until it answers.
func (q served) serve(port int) {
	q.t.Helper()
	cmd := exec.Command(program, "serve", "--publish", "--answer", "--public", fmt.Sprintf("127.0.0.1:%d", port),
		"--desk",
		"", "--health", "")
	cmd.Dir = q.path("harbour")
	cmd.Env = append(os.Environ(), "IRONSEAL_PASSPHRASE_FILE="+q.path("pass"), "IRONSEAL_ESTATE=")
	var out strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		q.t.Fatal(err)
	}
	q.t.Cleanup(func() {
		cmd.Process.Signal(syscall.SIGTERM)
		if err := cmd.Wait(); err != nil {
			q.t.Errorf("%v\n%s", err, out.String())
		}
	})
	for range 200 {
		if r, err := http.Get(q.at + "/services.g1.crl"); err == nil {
			r.Body.Close()
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	q.t.Fatalf("it does not serve:\n%s", out.String())
}

// stapled is the answer that a server sends along, once it has fetched one.
func (q served) stapled(port int) (*xocsp.Response, error) {
	root, err := os.ReadFile(q.path("root.pem"))
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(root)
	for range 60 { // the first handshakes go without
		c, err := tls.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port), &tls.Config{RootCAs: pool,
			ServerName: "localhost"})
		if err != nil {
			time.Sleep(50 * time.Millisecond)
			continue
		}
		state := c.ConnectionState()
		c.Close()
		if log, _ := os.ReadFile(q.path("error.log")); strings.Contains(string(log), `status "revoked"`) {
			return nil, fmt.Errorf("it staples nothing: %s", log)
		}
		if len(state.OCSPResponse) > 0 {
			return xocsp.ParseResponseForCert(state.OCSPResponse, state.PeerCertificates[0], state.PeerCertificates[1])
		}
		time.Sleep(100 * time.Millisecond)
	}
	return nil, fmt.Errorf("nothing is stapled")
}

// Web servers fetch answers at the address in their certificate, and staple them: good at first, and revoked once
// they ask again.
func TestServersStapleOurAnswers(t *testing.T) {
	t.Parallel()
	q := newServed(t)
	servers := map[string]func(port int) (string, []string){
		"nginx": func(port int) (string, []string) {
			conf := write(t, q.path("nginx.conf"), fmt.Sprintf("daemon off; master_process off; pid %[1]s/pid; "+
				"error_log "+
				"%[1]s/error.log;\nevents {}\nhttp { access_log off; client_body_temp_path %[1]s/b; "+
				"proxy_temp_path %[1]s/p; "+
				"fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;\nserver { listen "+
				"127.0.0.1:%[2]d ssl; ssl_certificate localhost.pem; ssl_certificate_key localhost.key.pem; "+
				"ssl_stapling on; "+
				"ssl_stapling_verify on; ssl_trusted_certificate root.pem; location / { return 200; } } }\n", q.dir,
				port))
			return peer(t, "nginx", "/usr/sbin/nginx"), []string{"-c", conf, "-p", q.dir}
		},
		"Apache httpd": func(port int) (string, []string) {
			conf := write(t, q.path("httpd.conf"), fmt.Sprintf("ServerRoot %[1]s\nServerName localhost\nPidFile "+
				"%[1]s/pid2\nErrorLog %[1]s/error2.log\nDefaultRuntimeDir %[1]s\nUser nobody\nGroup "+
				"nogroup\nLoadModule "+
				"mpm_event_module %[3]s/mod_mpm_event.so\nLoadModule authz_core_module "+
				"%[3]s/mod_authz_core.so\nLoadModule "+
				"socache_shmcb_module %[3]s/mod_socache_shmcb.so\nLoadModule ssl_module "+
				"%[3]s/mod_ssl.so\nSSLUseStapling on\n"+
				"SSLStaplingCache shmcb:%[1]s/stapling(128000)\nListen 127.0.0.1:%[2]d\n<VirtualHost "+
				"127.0.0.1:%[2]d>\n"+
				"ServerName localhost\nSSLEngine on\nSSLCertificateFile %[1]s/localhost.pem\nSSLCertificateKeyFile "+
				"%[1]s/localhost.key.pem\n</VirtualHost>\n", q.dir, port, "/usr/lib/apache2/modules"))
			return peer(t, "apache2", "/usr/sbin/apache2"), []string{"-f", conf, "-DFOREGROUND"}
		},
	}
	for _, want := range []int{xocsp.Good, xocsp.Revoked} {
		if want == xocsp.Revoked {
			q.do("revoke", "R1", "--reason", "key-compromise", "--since", time.Now().UTC().Format("2006-01-02"),
				"--yes")
			time.Sleep(time.Second)
		}
		for name, start := range servers {
			port := freePort(t)
			binary, args := start(port)
			cmd := exec.Command(binary, args...)
			var out strings.Builder
			cmd.Stdout, cmd.Stderr = &out, &out
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			a, err := q.stapled(port)
			cmd.Process.Signal(syscall.SIGTERM)
			cmd.Wait()
			log, _ := os.ReadFile(q.path("error.log"))
			if want == xocsp.Revoked && strings.Contains(string(log), `certificate status "revoked"`) {
				continue // this server staples no bad news, and says so
			}
			if err != nil || a.Status != want {
				t.Errorf("%s staples %v, and it should be %d: %v\n%s%s", name, a, want, err, out.String(), log)
			}
		}
	}
}

// Java asks at the address in each certificate; curl and HAProxy take the lists that they fetch there.
func TestClientsAskOurServer(t *testing.T) {
	t.Parallel()
	q := newServed(t)
	chains := []string{q.path("localhost.pem"), q.path("pier.ternbay.example.pem"), q.path("mate.pem"),
		q.path("stoker.pem")}
	judged := func() []string {
		return strings.Fields(java(t, "Revoked.java", nil, append([]string{"address", q.path("root.pem"), "-"},
			chains...)...))
	}
	if got := judged(); !slices.Equal(got, []string{"good", "good", "good", "good"}) {
		t.Errorf("%v", got)
	}
	q.do("revoke", "R2", "R4", "--reason", "superseded", "--yes")
	time.Sleep(time.Second)
	if got := judged(); !slices.Equal(got, []string{"good", "REVOKED:SUPERSEDED", "good", "REVOKED:SUPERSEDED"}) {
		t.Errorf("%v", got)
	}
	lists := q.path("services.lists.pem")
	for range 100 { // the server signs the list by itself
		r, err := http.Get(q.at + "/services.lists.pem")
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(r.Body)
		r.Body.Close()
		if err != nil {
			t.Fatal(err)
		}
		write(t, lists, string(text))
		block, _ := pem.Decode(text)
		if block == nil {
			t.Fatalf("%s", text)
		}
		if l, err := x509.ParseRevocationList(block.Bytes); err != nil || len(l.RevokedCertificateEntries) == 2 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	q.curl(lists)
	both := write(t, q.path("both.pem"), string(readFile(t, q.path("localhost.pem")))+
		string(readFile(t, q.path("localhost.key.pem"))))
	port := freePort(t)
	conf := write(t, q.path("haproxy.cfg"), fmt.Sprintf("defaults\n mode http\n timeout client 5s\n timeout connect "+
		"5s\n timeout server 5s\nfrontend site\n bind 127.0.0.1:%d ssl crt %s ca-file %s verify required crl-file "+
		"%s\n "+
		"http-request return status 200\n", port, both, q.path("root.pem"), lists))
	as := quay{estate: q.estate}
	got := as.on(port, nil, syscall.SIGTERM, func() map[string]bool { return as.metBy(port, "mate", "stoker") },
		peer(t, "haproxy", "/usr/sbin/haproxy"), "-f", conf, "-db")
	if !got["mate"] || got["stoker"] {
		t.Errorf("HAProxy lets in: %v", got)
	}
}

// curl tries both servers by the lists.
func (q served) curl(lists string) {
	q.t.Helper()
	for name, want := range map[string]bool{"localhost": true, "pier.ternbay.example": false} {
		pair, err := tls.LoadX509KeyPair(q.path(name+".pem"), q.path(name+".key.pem"))
		if err != nil {
			q.t.Fatal(err)
		}
		l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{pair}})
		if err != nil {
			q.t.Fatal(err)
		}
		defer l.Close()
		go http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			io.WriteString(w,
				"all aboard")
		}))
		_, port, _ := strings.Cut(l.Addr().String(), ":")
		out, err := exec.Command(peer(q.t, "curl"), "-sS", "--cacert", q.path("root.pem"), "--crlfile", lists,
			"--resolve",
			name+":"+port+":127.0.0.1", "https://"+name+":"+port+"/").CombinedOutput()
		if (err == nil) != want || !want && !strings.Contains(string(out), "revoked") {
			q.t.Errorf("%s: %v %s", name, err, out)
		}
	}
}
