//go:build linux

package peers

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// What a newcomer does with the README alone: six commands from nothing to a server that
// a client trusts, a request that is refused and explained, and a template of their own
// written by what error messages say.
func TestANewcomersFirstHour(t *testing.T) {
	t.Parallel()
	binary, curl := peer(t, "nginx", "/usr/sbin/nginx"), peer(t, "curl")
	e := estate{t, t.TempDir()}
	write(t, e.path("pass"), "tern and gull\n")
	for _, line := range []string{
		`estate create harbour --organisation TernBayFerries --country NO`,
		`authority create root --key ecdsa-p256 --yes`,
		`authority create services --under root --key ecdsa-p256 --yes`,
		`request draft booking.ternbay.example --out ..`,
		`sign ../booking.ternbay.example.request.pem --template web-server --for nginx --yes`,
		`certificate handover R1 --for nginx --out ..`,
	} {
		dir := e.path("harbour")
		if strings.HasPrefix(line, "estate create") {
			dir = e.dir
		}
		e.run(dir, strings.Fields(line)...)
	}
	dir := e.path("booking.ternbay.example.nginx")
	port := freePort(t)
	conf := write(t, e.path("nginx.conf"), fmt.Sprintf(`daemon off; master_process off; pid %[1]s/pid;
error_log %[1]s/error.log;
events {}
http { access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f;
uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;
server { listen 127.0.0.1:%[2]d ssl; ssl_certificate %[3]s.with-issuers.pem; ssl_certificate_key %[3]s.key.pem;
location / { return 200 "all aboard\n"; } } }
`, e.dir, port, filepath.Join(dir, "booking.ternbay.example")))
	server := exec.Command(binary, "-c", conf, "-p", e.dir)
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { server.Process.Kill(); server.Wait() })
	for range 100 {
		if c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			c.Close()
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	out, err := exec.Command(curl, "--silent", "--show-error", "--cacert",
		filepath.Join(dir, "booking.ternbay.example.root.pem"), "--resolve",
		fmt.Sprintf("booking.ternbay.example:%d:127.0.0.1", port),
		fmt.Sprintf("https://booking.ternbay.example:%d/", port)).CombinedOutput()
	if err != nil || string(out) != "all aboard\n" {
		t.Errorf("curl: %v %s", err, out)
	}
	ownTemplate(t, e)
}

// ownTemplate makes a template with a limit on names as somebody does who knows none of
// the keys: each message names what is wrong and what may be there.
func ownTemplate(t *testing.T, e estate) {
	t.Helper()
	e.do("template", "copy", "web-server", "quay-device")
	file := e.path("harbour/templates/quay-device.toml")
	begin, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for _, try := range []struct{ text, told string }{
		{"[nmes]\n", `did you mean "names"`},
		{"[names]\nallow = [\"*.quay.ternbay.example\"]\n", "patterns"},
		{"[names]\npatterns = \"*.quay.ternbay.example\"\n", "quay-device.toml:5"},
		{"[names]\npatterns = [\"*.quay.ternbay.example\"]\n", ""},
	} {
		t.Run(try.text, func(t *testing.T) {
			write(t, file, string(begin)+try.text)
			out, err := e.fails("template", "check", "quay-device")
			if (err == nil) != (try.told == "") || !strings.Contains(out, try.told) {
				t.Fatalf("%s: %v\n%s", try.text, err, out)
			}
		})
	}
	e.do("request", "draft", "gate-1.quay.ternbay.example", "--out", "..")
	e.do("request", "draft", "gate-2.elsewhere.example", "--out", "..")
	e.do("request", "receive", "../gate-1.quay.ternbay.example.request.pem", "../gate-2.elsewhere.example.request.pem")
	e.do("sign", "R2", "--template", "quay-device", "--yes")
	out, err := e.fails("sign", "R3", "--template", "quay-device", "--yes")
	for _, want := range []string{"needs a waiver", "gate-2.elsewhere.example", "*.quay.ternbay.example",
		"--because TEXT"} {
		if err == nil || !strings.Contains(out, want) {
			t.Errorf("%q is missing: %v\n%s", want, err, out)
		}
	}
}

// fails runs a command that may fail, and returns all it says.
func (e estate) fails(args ...string) (string, error) {
	cmd := exec.Command(program, args...)
	cmd.Dir = e.path("harbour")
	cmd.Env = append(os.Environ(), "IRONSEAL_PASSPHRASE_FILE="+e.path("pass"), "IRONSEAL_ESTATE=")
	out, err := cmd.CombinedOutput()
	return string(out), err
}
