//go:build linux

package peers

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"ironseal/internal/demo/network"
)

// A web server gets its certificate by its own module, serves it, and renews it: a client accepts what it serves
// throughout, and by the records one certificate is in place of the other.
func TestApacheEnrolsByACME(t *testing.T) {
	t.Parallel()
	binary, curl := peer(t, "apache2", "/usr/sbin/apache2"), peer(t, "curl")
	names, err := network.New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(names.Close)
	web, port := freePort(t), freePort(t)
	m := newEnrolling(t, "acme", "1d", [][2]string{
		{`challenge-resolver  = ""`, fmt.Sprintf("challenge-resolver  = %q", names.Resolver())},
		{"challenge-http-port = 80", fmt.Sprint("challenge-http-port = ", web)},
		{"challenge-local     = false", "challenge-local     = true"}})
	lines := strings.Fields(m.do("enrol", "account", "web", "--template", "gates", "--names", "quay.ternbay.example"))
	at := func(word string) int {
		for i, l := range lines {
			if l == word {
				return i
			}
		}
		t.Fatalf("there is no %q in %q", word, lines)
		return 0
	}
	id, secret := lines[at("identifier")+1], lines[at("identifier")+3]
	const host = "gate-1.quay.ternbay.example"
	conf := write(t, m.path("httpd.conf"), fmt.Sprintf(`ServerRoot %[1]s
ServerName %[8]s
PidFile %[1]s/pid
ErrorLog %[1]s/error.log
LogLevel md:debug
DefaultRuntimeDir %[1]s
User nobody
Group nogroup
LoadModule mpm_event_module %[2]s/mod_mpm_event.so
LoadModule authz_core_module %[2]s/mod_authz_core.so
LoadModule socache_shmcb_module %[2]s/mod_socache_shmcb.so
LoadModule ssl_module %[2]s/mod_ssl.so
LoadModule md_module %[2]s/mod_md.so
Listen 127.0.0.1:%[3]d
Listen 127.0.0.1:%[4]d
MDStoreDir %[1]s/md
MDPortMap http:%[3]d https:%[4]d
MDCertificateAuthority %[5]s
MDCACertificateFile %[1]s/root.pem
MDExternalAccountBinding %[6]s %[7]s
MDCertificateAgreement accepted
MDContactEmail yard@ternbay.example
MDRenewWindow 33%%
MDCheckInterval 1s
MDStapling off
MDomain %[8]s
<VirtualHost 127.0.0.1:%[4]d>
ServerName %[8]s
SSLEngine on
</VirtualHost>
<VirtualHost 127.0.0.1:%[3]d>
ServerName %[8]s
</VirtualHost>
`, m.dir, "/usr/lib/apache2/modules", web, port, m.at+"/acme/gates/directory", id, secret, host))
	for _, dir := range []string{m.dir, filepath.Dir(m.dir)} { // its children are nobody
		if err := os.Chmod(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	cmd := exec.Command(binary, "-f", conf, "-DFOREGROUND")
	var out strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &out
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL); cmd.Wait() })
	serial := func() string { // of what it serves, to a client that trusts the root alone
		c := exec.Command(curl, "-sSv", "--cacert", m.path("root.pem"), "--resolve",
			fmt.Sprintf("%s:%d:127.0.0.1", host, port), "-w", "%{certs}", "-o", "/dev/null",
			fmt.Sprintf("https://%s:%d/", host, port))
		text, err := c.CombinedOutput()
		if err != nil {
			return ""
		}
		for line := range strings.Lines(string(text)) {
			if _, s, found := strings.Cut(line, "Serial Number:"); found {
				return strings.TrimSpace(s)
			}
		}
		return "it was accepted"
	}
	var served []string
	want := 2
	if thorough() {
		want = 3
	}
	for until := time.Now().Add(90 * time.Second); time.Now().Before(until) && len(served) < want; {
		time.Sleep(4 * time.Second)
		_ = syscall.Kill(cmd.Process.Pid, syscall.SIGUSR1) // it takes a new certificate after a reload
		time.Sleep(time.Second)
		if s := serial(); s != "" && (len(served) == 0 || served[len(served)-1] != s) {
			switch served = append(served, s); len(served) {
			case 1: // renewal information tells it to renew at once
				m.do("incident", "open", s, "--because", "the server room stood open")
			case 2: // a day is a short life: what is left is within the time that the server renews ahead
				write(t, conf, strings.Replace(string(readFile(t, conf)), "MDRenewWindow 33%",
					"MDRenewWindow 1439mi", 1))
			}
		}
	}
	if len(served) < want {
		log, _ := os.ReadFile(m.path("error.log"))
		if len(log) > 6000 {
			log = log[len(log)-6000:]
		}
		t.Fatalf("it serves %v\n%s\n%s\n%s", served, out.String(), log, m.log)
	}
	if list := m.do("certificate", "list", "--state", "any"); strings.Count(list, "replaced") == 0 {
		t.Errorf("by the records, no certificate is in place of another:\n%s", list)
	}
	if shown := m.do("enrol", "show", "web"); !strings.Contains(shown, host) || !strings.Contains(shown, "web/1") {
		t.Errorf("the credential shows\n%s", shown)
	}
}
