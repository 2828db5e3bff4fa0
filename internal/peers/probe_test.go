//go:build linux

package peers

import (
	"bytes"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
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

	"ironseal/pki/bundle"
	"ironseal/pki/endpoint"
	"ironseal/pki/finding"
	"ironseal/pki/specimen"
)

// shown is what a server is made to present, right or wrong, and what is to be said of it.
type shown struct {
	name       string
	chain, key string // files
	port       int
	code       finding.Code // of the first reason; "" where it is trusted
}

// presents makes the files: one that is right, and ways to be wrong.
func presents(t *testing.T, dir string) (list []*shown, root string) {
	t.Helper()
	now := time.Now()
	life := func(p specimen.Plan) specimen.Plan {
		if p.From.IsZero() {
			p.From = now.Add(-time.Hour)
		}
		if p.Until.IsZero() {
			p.Until = now.AddDate(0, 3, 0)
		}
		return p
	}
	plan := life(specimen.Plan{Subject: "CN=localhost,O=Tern Bay Ferries", Names: []string{"localhost"},
		Extended: []string{"serverAuth"}})
	top := specimen.Make(t, nil, life(specimen.Plan{Subject: "CN=Root", Authority: true}))
	mid := specimen.Make(t, top, life(specimen.Plan{Subject: "CN=Services", Authority: true}))
	strange := specimen.Make(t, nil, life(specimen.Plan{Subject: "CN=Stranger", Authority: true}))
	ended, clients, elsewhere := plan, plan, plan
	ended.From, ended.Until = now.AddDate(-1, 0, 0), now.AddDate(0, 0, -2)
	clients.Extended = []string{"clientAuth"}
	elsewhere.Names, elsewhere.Subject = []string{"gate.ternbay.example"}, "CN=gate.ternbay.example"
	leaf := specimen.Make(t, mid, plan)
	for _, s := range []struct {
		name  string
		code  finding.Code
		chain []*specimen.Entity
	}{
		{"right", "", []*specimen.Entity{leaf, mid}},
		{"no-intermediate", finding.MissingIssuer, []*specimen.Entity{leaf}},
		{"self-made", finding.SelfMade, []*specimen.Entity{specimen.Make(t, nil, plan)}},
		{"expired", finding.Expired, []*specimen.Entity{specimen.Make(t, mid, ended), mid}},
		{"another-root", finding.MissingIssuer, []*specimen.Entity{specimen.Make(t, strange, plan)}},
		{"for-clients", finding.UsageMissing, []*specimen.Entity{specimen.Make(t, mid, clients), mid}},
		{"wrong-name", finding.WrongName, []*specimen.Entity{specimen.Make(t, mid, elsewhere), mid}},
	} {
		var chain bytes.Buffer
		for _, e := range s.chain {
			chain.Write(bundle.PEM(bundle.Certificate, e.Cert.Raw))
		}
		der, err := x509.MarshalPKCS8PrivateKey(s.chain[0].Signer)
		if err != nil {
			t.Fatal(err)
		}
		key := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
		x := &shown{name: s.name, code: s.code, port: freePort(t), chain: filepath.Join(dir, s.name+".pem"),
			key: filepath.Join(dir, s.name+".key")}
		write(t, x.chain, chain.String())
		write(t, x.key, string(key))
		write(t, x.chain+".both", chain.String()+string(key))
		list = append(list, x)
	}
	return list, write(t, filepath.Join(dir, "root.pem"), string(bundle.PEM(bundle.Certificate, top.Cert.Raw)))
}

// started runs a server until the test ends, and waits for its ports.
func started(t *testing.T, list []*shown, end syscall.Signal, as *syscall.SysProcAttr, binary string, args ...string) {
	t.Helper()
	cmd := exec.Command(binary, args...)
	var out strings.Builder
	cmd.Stdout, cmd.Stderr, cmd.SysProcAttr, cmd.WaitDelay = &out, &out, as, 5*time.Second
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Signal(end); _ = cmd.Wait() })
	for _, s := range list {
		up := slices.ContainsFunc(make([]struct{}, 200), func(struct{}) bool {
			c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.port))
			if err != nil {
				time.Sleep(50 * time.Millisecond)
				return false
			}
			c.Close()
			return true
		})
		if !up {
			t.Fatalf("%s does not listen: %s", binary, out.String())
		}
	}
}

// Real servers are right, and wrong in six ways each: every verdict and its reason is right,
// directly and after the words before TLS.
func TestProbeAgainstRealServers(t *testing.T) {
	t.Parallel()
	for name, start := range map[string]func(t *testing.T, dir string, list []*shown) (scheme string){
		"nginx": probeNginx, "Apache httpd": probeHTTPD, "HAProxy": probeHAProxy, "PostgreSQL": probePostgres,
		"Postfix": probePostfix, "Dovecot IMAP": probeDovecot("imap"), "Dovecot POP3": probeDovecot("pop3"),
		"slapd": probeSlapd,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := openDir(t)
			list, root := presents(t, dir)
			scheme := start(t, dir, list)
			args := []string{"probe", "--json", "--anchor", root, "--wait", "10s"}
			for _, s := range list {
				args = append(args, fmt.Sprintf("%s://localhost:%d", scheme, s.port))
			}
			cmd := exec.Command(program, args...)
			cmd.Dir = dir
			out, err := cmd.Output()
			var exit *exec.ExitError
			if !errors.As(err, &exit) || exit.ExitCode() != 4 {
				t.Fatalf("%v\n%s", err, out)
			}
			var rows []endpoint.Row
			if err := json.Unmarshal(out, &rows); err != nil || len(rows) != len(list) {
				t.Fatalf("%v\n%s", err, out)
			}
			for i, s := range list {
				r := rows[i]
				first := finding.Code("")
				if len(r.Findings) > 0 && !r.Trusted {
					first = r.Findings[0].Code
				}
				if r.Trusted != (s.code == "") || first != s.code || len(r.Presented) == 0 || r.Protocol != "TLS 1.3" {
					t.Errorf("%s: trusted %v, %s: %+v", s.name, r.Trusted, r.Protocol, r.Findings)
				}
			}
		})
	}
}

// openDir is a directory that servers may enter which run as somebody else.
func openDir(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "ironseal-peer-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return dir
}

func probeNginx(t *testing.T, dir string, list []*shown) string {
	binary := peer(t, "nginx", "/usr/sbin/nginx")
	servers := ""
	for _, s := range list {
		servers += fmt.Sprintf("server { listen 127.0.0.1:%d ssl; ssl_certificate %s; ssl_certificate_key %s; }\n",
			s.port,
			s.chain, s.key)
	}
	conf := write(t, dir+"/nginx.conf", fmt.Sprintf("daemon off; master_process off; pid %[1]s/pid; error_log "+
		"%[1]s/error.log;\nevents {}\nhttp { access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; "+
		"fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s; ssl_protocols TLSv1.2 TLSv1.3;\n"+
		"%[2]s}\n", dir, servers))
	started(t, list, syscall.SIGTERM, nil, binary, "-c", conf, "-p", dir)
	return "https"
}

func probeHTTPD(t *testing.T, dir string, list []*shown) string {
	binary := peer(t, "apache2", "/usr/sbin/apache2")
	hosts := ""
	for _, s := range list {
		hosts += fmt.Sprintf("Listen 127.0.0.1:%[1]d\n<VirtualHost 127.0.0.1:%[1]d>\nServerName "+
			"localhost\nSSLEngine on\n"+
			"SSLCertificateFile %[2]s\nSSLCertificateKeyFile %[3]s\n</VirtualHost>\n", s.port, s.chain, s.key)
	}
	conf := write(t, dir+"/httpd.conf", fmt.Sprintf("ServerRoot %[1]s\nServerName localhost\nPidFile "+
		"%[1]s/pid\nErrorLog "+
		"%[1]s/error.log\nDefaultRuntimeDir %[1]s\nUser nobody\nGroup nogroup\nLoadModule mpm_event_module "+
		"%[2]s/mod_mpm_event.so\nLoadModule authz_core_module %[2]s/mod_authz_core.so\nLoadModule "+
		"socache_shmcb_module "+
		"%[2]s/mod_socache_shmcb.so\nLoadModule ssl_module %[2]s/mod_ssl.so\n%[3]s", dir, "/usr/lib/apache2/modules",
		hosts))
	started(t, list, syscall.SIGTERM, nil, binary, "-f", conf, "-DFOREGROUND")
	return "https"
}

func probeHAProxy(t *testing.T, dir string, list []*shown) string {
	binary := peer(t, "haproxy", "/usr/sbin/haproxy")
	conf := "defaults\n mode http\n timeout client 5s\n timeout connect 5s\n timeout server 5s\n"
	for _, s := range list {
		conf += fmt.Sprintf("frontend f-%s\n bind 127.0.0.1:%d ssl crt %s\n http-request return status 200\n", s.name,
			s.port,
			s.chain+".both")
	}
	started(t, list, syscall.SIGTERM, nil, binary, "-f", write(t, dir+"/haproxy.cfg", conf), "-db")
	return "https"
}

// probePostgres starts a cluster for each, beside each other.
func probePostgres(t *testing.T, dir string, list []*shown) string {
	initdb := peer(t, "initdb", "/usr/lib/postgresql/15/bin/initdb", "/usr/lib/postgresql/17/bin/initdb")
	as := nobody(t, dir)
	first := dir + "/data"
	cmd := exec.Command(initdb, "-D", first, "-U", "mate", "-A", "trust", "--no-sync")
	cmd.SysProcAttr, cmd.Dir = as, dir
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("initdb: %v\n%s", err, out)
	}
	for _, s := range list {
		data := dir + "/data-" + s.name
		cmd := exec.Command("cp", "-a", first, data)
		cmd.SysProcAttr = as
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		for _, f := range []string{s.chain, s.key} {
			if err := os.Chmod(f, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		appendTo(t, data+"/postgresql.conf", fmt.Sprintf("\nlisten_addresses = '127.0.0.1'\nport = %d\n"+
			"unix_socket_directories = ''\nshared_buffers = 1MB\nssl = on\nssl_cert_file = '%s'\nssl_key_file = "+
			"'%s'\n", s.port,
			s.chain, s.key))
		started(t, []*shown{s}, syscall.SIGINT, as, filepath.Join(filepath.Dir(initdb), "postgres"), "-D", data)
	}
	return "postgres"
}

// nobody is who runs servers that refuse to run as the superuser; everything in the directory
// becomes theirs.
func nobody(t *testing.T, dir string) *syscall.SysProcAttr {
	t.Helper()
	if os.Getuid() != 0 {
		return nil
	}
	err := filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Chown(path, 65534, 65534)
	})
	if err != nil {
		t.Fatal(err)
	}
	return &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
}

// privileged skips what runs as the superuser alone.
func privileged(t *testing.T) {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("this server starts as the superuser alone")
	}
}

func probePostfix(t *testing.T, dir string, list []*shown) string {
	postfix := peer(t, "postfix", "/usr/sbin/postfix")
	privileged(t)
	for _, d := range []string{"conf", "queue", "data"} {
		if err := os.Mkdir(filepath.Join(dir, d), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if out, err := exec.Command("chown", "postfix", dir+"/data").CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
	write(t, dir+"/conf/main.cf", fmt.Sprintf("compatibility_level = 3.6\nqueue_directory = "+
		"%[1]s/queue\ndata_directory = "+
		"%[1]s/data\nmyhostname = localhost\ninet_interfaces = 127.0.0.1\ninet_protocols = "+
		"ipv4\nsmtpd_tls_security_level = "+
		"may\nmydestination =\nalias_maps =\nsmtpd_relay_restrictions = reject\n", dir))
	services := "tlsmgr unix - - n 1000? 1 tlsmgr\nanvil unix - - n - 1 anvil\nrewrite unix - - n - - " +
		"trivial-rewrite\n" +
		"proxymap unix - - n - - proxymap\ncleanup unix n - n - 0 cleanup\nbounce unix - - n - 0 bounce\n" +
		"pickup unix n - n 60 1 pickup\nqmgr unix n - n 300 1 qmgr\npostlog unix-dgram n - n - 1 postlogd\n"
	for _, s := range list {
		services += fmt.Sprintf("127.0.0.1:%d inet n - n - - smtpd\n  -o smtpd_tls_chain_files=%s,%s\n", s.port, s.key,
			s.chain)
	}
	write(t, dir+"/conf/master.cf", services)
	started(t, list, syscall.SIGTERM, nil, postfix, "-c", dir+"/conf", "start-fg")
	return "smtp"
}

// probeDovecot starts one instance for each.
func probeDovecot(protocol string) func(*testing.T, string, []*shown) string {
	return func(t *testing.T, dir string, list []*shown) string {
		binary := peer(t, "dovecot", "/usr/sbin/dovecot")
		privileged(t)
		for _, s := range list {
			conf := write(t, dir+"/"+s.name+".conf", fmt.Sprintf("base_dir = %[1]s/run-%[2]s\nlog_path = "+
				"%[1]s/log\nprotocols = "+
				"%[3]s\nlisten = 127.0.0.1\nssl = yes\nssl_cert = <%[4]s\nssl_key = <%[5]s\nservice %[3]s-login "+
				"{\n  chroot =\n"+
				"  inet_listener %[3]s {\n    port = %[6]d\n  }\n  inet_listener %[3]ss {\n    port = 0\n  "+
				"}\n}\npassdb {\n"+
				"  driver = static\n  args = nopassword=y\n}\n", dir, s.name, protocol, s.chain, s.key, s.port))
			started(t, []*shown{s}, syscall.SIGTERM, nil, binary, "-F", "-c", conf)
		}
		return protocol
	}
}

// probeSlapd starts one instance for each.
func probeSlapd(t *testing.T, dir string, list []*shown) string {
	binary := peer(t, "slapd", "/usr/sbin/slapd")
	for _, s := range list {
		data := dir + "/ldif-" + s.name
		if err := os.Mkdir(data, 0o700); err != nil {
			t.Fatal(err)
		}
		conf := write(t, dir+"/"+s.name+".slapd", fmt.Sprintf("TLSCertificateFile %s\nTLSCertificateKeyFile "+
			"%s\npidfile "+
			"%s/pid\ndatabase ldif\nsuffix \"cn=quay\"\ndirectory %s\n", s.chain, s.key, data, data))
		started(t, []*shown{s}, syscall.SIGTERM, nil, binary, "-h", fmt.Sprintf("ldap://127.0.0.1:%d", s.port), "-f",
			conf, "-d",
			"0")
	}
	return "ldap"
}

// What strict readers drop is shown all the same, with each suite of TLS 1.3 and before it: the
// handshake is read again from what a web server sent.
func TestMalformedCertificatesOfAWebServerAreShown(t *testing.T) {
	binary := peer(t, "nginx", "/usr/sbin/nginx")
	dir := openDir(t)
	list, root := presents(t, dir)
	der, err := os.ReadFile(list[0].chain)
	if err != nil {
		t.Fatal(err)
	}
	block, _ := pem.Decode(der)
	serial := bytes.Index(block.Bytes, []byte{0xa0, 3, 2, 1, 2, 2}) + 7 // behind the version
	block.Bytes[serial] |= 0x80
	odd := write(t, dir+"/odd.pem", string(pem.EncodeToMemory(block)))
	servers, ports := "", []*shown{}
	for _, suite := range []string{"TLS_AES_128_GCM_SHA256", "TLS_AES_256_GCM_SHA384", "TLS_CHACHA20_POLY1305_SHA256",
		""} {
		s := &shown{port: freePort(t)}
		ports = append(ports, s)
		speak := "ssl_protocols TLSv1.2;"
		if suite != "" {
			speak = "ssl_protocols TLSv1.3; ssl_conf_command Ciphersuites " + suite + ";"
		}
		servers += fmt.Sprintf("server { listen 127.0.0.1:%d ssl; ssl_certificate %s; ssl_certificate_key %s; %s }\n",
			s.port, odd,
			list[0].key, speak)
	}
	conf := write(t, dir+"/nginx.conf", fmt.Sprintf("daemon off; master_process off; pid %[1]s/pid; error_log "+
		"%[1]s/error.log;\nevents {}\nhttp { access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; "+
		"fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;\n%[2]s}\n", dir, servers))
	started(t, ports, syscall.SIGTERM, nil, binary, "-c", conf, "-p", dir)
	for _, s := range ports {
		cmd := exec.Command(program, "probe", "--anchor", root, fmt.Sprintf("localhost:%d", s.port))
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		var exit *exec.ExitError
		if !errors.As(err, &exit) || exit.ExitCode() != 4 || !strings.Contains(string(out), "its serial is negative") ||
			!strings.Contains(string(out), "1. localhost") {
			t.Errorf("%v\n%s", err, out)
		}
	}
}
