//go:build linux

package peers

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// sshAgent starts OpenSSH's agent, and gives the environment by which it is found.
func sshAgent(t *testing.T, more ...string) (env []string, stop func()) {
	t.Helper()
	program := peer(t, "ssh-agent")
	dir, err := os.MkdirTemp("/tmp", "agent") // the name of a socket is bounded
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	socket := filepath.Join(dir, "s")
	cmd := exec.Command(program, "-D", "-a", socket, "-P", "/usr/lib/*,/usr/local/lib/*")
	cmd.Env = append(os.Environ(), more...)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	stop = func() {
		_ = cmd.Process.Kill() // it may have been stopped already
		_ = cmd.Wait()
	}
	t.Cleanup(stop)
	for until := time.Now().Add(5 * time.Second); time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
		if c, err := net.Dial("unix", socket); err == nil {
			c.Close()
			break
		}
	}
	return append([]string{"SSH_AUTH_SOCK=" + socket}, more...), stop
}

// tool runs a program with an environment.
func tool(t *testing.T, env []string, name string, args ...string) string {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), env...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
	}
	return string(out)
}

// token makes a token of SoftHSM with a key in it, and lets the agent use it.
func token(t *testing.T, key any) (env []string, stop func()) {
	t.Helper()
	hsm := peer(t, "softhsm2-util")
	dir := t.TempDir()
	conf := filepath.Join(dir, "conf")
	must(t, os.Mkdir(filepath.Join(dir, "tokens"), 0o700))
	must(t, os.WriteFile(conf, []byte("directories.tokendir = "+dir+"/tokens\nobjectstore.backend = file\n"), 0o600))
	der, err := x509.MarshalPKCS8PrivateKey(key)
	must(t, err)
	file := filepath.Join(dir, "key.pem")
	must(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600))
	ask := filepath.Join(dir, "pin")
	must(t, os.WriteFile(ask, []byte("#!/bin/sh\necho 1234\n"), 0o700))
	env = []string{"SOFTHSM2_CONF=" + conf, "SSH_ASKPASS=" + ask, "SSH_ASKPASS_REQUIRE=force", "DISPLAY=:none"}
	tool(t, env, hsm, "--init-token", "--free", "--label", "root", "--pin", "1234", "--so-pin", "4321")
	tool(t, env, hsm, "--import", file, "--token", "root", "--label", "root", "--id", "01", "--pin", "1234")
	must(t, os.Remove(file))
	env, stop = sshAgent(t, env...)
	tool(t, env, peer(t, "ssh-add"), "-s", "/usr/lib/softhsm/libsofthsm2.so")
	return env, stop
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// fingerprintIn is the fingerprint of the agent's only key.
func fingerprintIn(t *testing.T, env []string) string {
	t.Helper()
	for _, word := range strings.Fields(tool(t, env, peer(t, "ssh-add"), "-l")) {
		if strings.HasPrefix(word, "SHA256:") {
			return word
		}
	}
	t.Fatal("the agent holds no key")
	return ""
}

// with runs the program with an environment, and reports what it said and whether it ended well.
func (e estate) with(env []string, args ...string) (string, error) {
	e.t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir = filepath.Join(e.dir, "harbour")
	cmd.Env = append(append(os.Environ(), "IRONSEAL_PASSPHRASE_FILE="+filepath.Join(e.dir, "pass"), "IRONSEAL_ESTATE="),
		env...)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// A root whose key never leaves a token, behind OpenSSH's agent, signs an intermediate and its list; web servers and
// clients accept the chain.
func TestARootInATokenBehindAnAgent(t *testing.T) {
	ec, err := ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	must(t, err)
	rs, err := rsa.GenerateKey(rand.Reader, 3072)
	must(t, err)
	for name, k := range map[string]any{"ECDSA P-384": ec, "RSA": rs} {
		t.Run(name, func(t *testing.T) {
			env, stop := token(t, k)
			e := estate{t, t.TempDir()}
			must(t, os.WriteFile(filepath.Join(e.dir, "pass"), []byte("tern and gull\n"), 0o600))
			e.run(e.dir, "estate", "create", "harbour", "--organisation", "Tern Bay Ferries", "--country", "NO",
				"--publish-at", "http://pki.ternbay.example")
			e.cheap()
			do := func(args ...string) string {
				t.Helper()
				out, err := e.with(env, args...)
				if err != nil {
					t.Fatalf("ironseal %s: %v\n%s", strings.Join(args, " "), err, out)
				}
				return out
			}
			do("authority", "create", "root", "--key-in", "agent:"+fingerprintIn(t, env), "--yes")
			do("authority", "create", "services", "--under", "root", "--key", "ecdsa-p256", "--yes")
			do("revocations", "publish", "--to", "../public")
			do("estate", "check")
			e.site("ecdsa-p256")

			port := nginx(t, e)
			pool := x509.NewCertPool()
			data, err := os.ReadFile(e.path("root.pem"))
			must(t, err)
			pool.AppendCertsFromPEM(data)
			conn, err := tls.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port), &tls.Config{RootCAs: pool,
				ServerName: "localhost"})
			must(t, err)
			conn.Close()
			tool(t, nil, peer(t, "curl"), "-sS", "--cacert", e.path("root.pem"), fmt.
				Sprintf("https://localhost:%d/", port))
			list, err := os.ReadFile(e.path("public/root.g1.crl"))
			must(t, err)
			l, err := x509.ParseRevocationList(list)
			must(t, err)
			block, _ := pem.Decode(data)
			root, err := x509.ParseCertificate(block.Bytes)
			must(t, err)
			must(t, l.CheckSignatureFrom(root))

			stop()
			if out, err := e.with(env, "authority", "create", "stores", "--under", "root", "--key", "ecdsa-p256",
				"--yes"); err == nil || !strings.Contains(out, "agent") {
				t.Errorf("without the agent: %v %s", err, out)
			}
			if out, err := e.with(nil, "estate", "check"); err != nil {
				t.Errorf("%v %s", err, out)
			}
		})
	}
}

// A key that asks before each use signs when it is confirmed, and nothing when it is declined.
func TestAKeyThatAsksBeforeEachUse(t *testing.T) {
	for answer, signs := range map[string]bool{"exit 0": true, "exit 1": false} {
		t.Run(answer, func(t *testing.T) {
			ask := filepath.Join(t.TempDir(), "ask")
			must(t, os.WriteFile(ask, []byte("#!/bin/sh\n"+answer+"\n"), 0o700))
			env, _ := sshAgent(t, "SSH_ASKPASS="+ask, "SSH_ASKPASS_REQUIRE=force", "DISPLAY=:none")
			e := newEstate(t, "ecdsa-p256")
			out, err := e.with(env, "authority", "custody", "root", "--to", "agent", "--confirm")
			if (err == nil) != signs {
				t.Fatalf("%v %s", err, out)
			}
			if out, err = e.with(env, "authority", "create", "stores", "--under", "root", "--key", "ecdsa-p256",
				"--yes"); err != nil { // declined: the file is still there
				t.Errorf("%v %s", err, out)
			}
			_, gone := os.Stat(filepath.Join(e.dir, "harbour", "aside"))
			if (gone == nil) != signs {
				t.Errorf("the sealed file was moved aside: %v", gone)
			}
		})
	}
}
