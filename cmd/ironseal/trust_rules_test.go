package main

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"ironseal/pki/bundle"
	"ironseal/pki/key"
	"ironseal/pki/specimen"
)

// signedHost has a certificate for a host in the place.
func (p place) signedHost(host string) {
	p.t.Helper()
	p.must("request", "draft", host, "--out", "..", "--yes")
	p.must("sign", "../"+host+".request.pem", "--template", "web-server", "--by", "services", "--yes")
}

// says runs a command that must end with a status, and say something.
func (p place) says(code int, word string, args ...string) {
	p.t.Helper()
	if r := p.run("", args...); r.code != code || !strings.Contains(r.out+r.errors, word) {
		p.t.Errorf("%s: %d, and not %d with %q\n%s%s", strings.Join(args, " "), r.code, code, word, r.out, r.errors)
	}
}

// A key that was in an incident is used again only where every incident about it was a false alarm.
func TestAKeyInAnIncidentStaysOutOfUse(t *testing.T) {
	t.Parallel()
	t.Run("two incidents about one key", func(t *testing.T) {
		p := harbour(t)
		p.must("authority", "renew", "services", "--same-key", "--lifetime", "12y", "--yes")
		p.must("incident", "open", "services.g1", "--because", "the safe was found open")
		p.says(1, "the same key", "incident", "open", "services.g2", "--because", "opened twice")
		p.must("request", "draft", "a.ternbay.example", "--out", "..")
		p.says(3, "authority-stopped", "sign", "../a.ternbay.example.request.pem", "--template", "web-server", "--by",
			"services", "--yes")
		p.must("incident", "close", "I1", "--false-alarm", "--because", "it was only dusty")
		p.must("sign", "R1", "--template", "web-server", "--by", "services", "--yes")
	})
	t.Run("closed with steps left over", func(t *testing.T) {
		p := harbour(t)
		p.must("authority", "renew", "root", "--suspect", "stolen", "--yes")
		p.must("incident", "open", "root.g1", "--because", "stolen")
		p.must("incident", "close", "I1", "--unfinished", "--because", "all has moved")
		p.says(1, "no way back", "changeover", "back", "root", "--switch-day", "2031-01-01", "--yes")
	})
	t.Run("revoked for another reason", func(t *testing.T) {
		p := harbour(t)
		signer := specimen.Key(t, key.P256)
		for _, host := range []string{"a.ternbay.example", "b.ternbay.example"} {
			r := specimen.Request(t, signer, "CN="+host, []string{host})
			p.must("request", "receive", p.file("../"+host+".pem", bundle.PEM(bundle.Request, r.Raw)))
		}
		p.must("sign", "R1", "--template", "web-server", "--by", "services", "--yes")
		p.must("incident", "open", "R1", "--because", "a laptop is gone")
		p.must("revoke", "R1", "--reason", "superseded", "--yes")
		p.says(3, "revoke", "incident", "close", "I1", "--because", "done")
		p.must("revoke", "R1", "--reason", "key-compromise", "--yes")
		p.must("incident", "close", "I1", "--unfinished", "--because", "done")
		p.says(3, "key-lost", "sign", "R2", "--template", "web-server", "--by", "services", "--yes")
	})
	t.Run("its copy comes back as another authority", func(t *testing.T) {
		p := harbour(t)
		copied := filepath.Join(filepath.Dir(p.dir), "copy")
		if err := os.CopyFS(copied, os.DirFS(p.dir)); err != nil {
			t.Fatal(err)
		}
		other := place{t: t, dir: copied, env: p.env}
		other.must("authority", "renew", "services", "--same-key", "--lifetime", "12y", "--yes")
		other.must("authority", "export", "services.g2", "--with", "root", "--out", "../other.pem")
		p.must("incident", "open", "services", "--because", "the safe was found open")
		keys, err := filepath.Glob(filepath.Join(p.dir, "keys", "*"))
		if err != nil || len(keys) == 0 {
			t.Fatal(keys, err)
		}
		p.must("request", "draft", "a.ternbay.example", "--out", "..")
		p.must("request", "receive", "../a.ternbay.example.request.pem")
		for _, handle := range []string{"services", "other"} {
			for _, k := range keys {
				p.run("", "authority", "adopt", handle, "../other.pem", "--key", k, "--yes")
			}
			if r := p.run("", "sign", "R1", "--by", handle, "--template", "web-server", "--yes"); r.code == 0 {
				t.Errorf("by %s: %s", handle, r.out)
			}
		}
	})
	t.Run("its responders", func(t *testing.T) {
		p := harbour(t)
		p.signedHost("a.ternbay.example")
		p.must("incident", "open", "services", "--because", "stolen")
		p.must("revocations", "publish", "--to", "../public", "--ocsp", "../answers")
		if out := p.must("certificate", "list", "--state", "any"); strings.Contains(out, "OCSP answers of services") {
			t.Errorf("it certified a responder:\n%s", out)
		}
	})
}

// What a thief of a key signs is accepted by nobody who holds what we publish.
func TestTheNewRootDoesNotVouchForTheStolenOne(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	copied := filepath.Join(filepath.Dir(p.dir), "thief")
	if err := os.CopyFS(copied, os.DirFS(p.dir)); err != nil {
		t.Fatal(err)
	}
	thief := place{t: t, dir: copied, env: p.env}
	p.must("incident", "open", "root", "--because", "stolen")
	p.must("authority", "renew", "root", "--key", "ecdsa-p256", "--suspect", "stolen", "--yes")
	p.must("revocations", "publish", "--to", "../public")
	p.must("authority", "export", "root", "--out", "../new-root.pem")
	p.must("authority", "export", "root", "--with", "all", "--out", "../links.pem")
	thief.signedHost("evil.ternbay.example")
	thief.must("certificate", "export", "evil.ternbay.example", "--with", "issuers", "--out", "../evil.pem")
	client := place{t: t, dir: filepath.Dir(p.dir)}
	for _, more := range [][]string{nil, {"--revocations", "public/root.g1.crl.pem", "--revocations",
		"public/services.g1.crl.pem", "--require-revocation"}} {
		client.says(4, "not valid", append([]string{"verify", "evil.pem", "--name", "evil.ternbay.example", "--anchor",
			"new-root.pem", "--chain", "links.pem"}, more...)...)
	}
	p.must("trust", "kit", "--for", "debian", "--out", "../kits", "--yes")
	files, err := filepath.Glob(filepath.Join(p.dir, "../kits/own.debian/*.crt"))
	if err != nil || len(files) != 1 {
		t.Errorf("the stolen root is packed: %v, %v", files, err)
	}
}

// Where something was signed by an authority that is revoked on record, it does not count.
func TestWhatARevokedAuthoritySignedDoesNotCount(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.signedHost("a.ternbay.example")
	p.signedHost("b.ternbay.example")
	copied := filepath.Join(filepath.Dir(p.dir), "thief")
	if err := os.CopyFS(copied, os.DirFS(p.dir)); err != nil {
		t.Fatal(err)
	}
	thief := place{t: t, dir: copied, env: p.env}
	p.must("revoke", "a.ternbay.example", "--reason", "key-compromise", "--yes")
	for _, pair := range [][2]string{{"a.ternbay.example", "b.ternbay.example"}, {"b.ternbay.example",
		"a.ternbay.example"}} {
		p.says(3, "revoked-on-record", "trust", "pair", pair[0], pair[1], "--out", "../pair")
	}
	if p.exists("../pair") {
		t.Error("folders for a pair with a revoked certificate were written")
	}
	p.must("revoke", "services", "--reason", "ca-compromise", "--yes")
	thief.must("trust", "kit", "--for", "debian", "--out", "../kits", "--sign-by", "services", "--archive", "zip",
		"--yes")
	p.says(4, "do not install it", "trust", "check", "../kits/own.debian.zip")
	out := p.must("authority", "list")
	if !strings.Contains(out, "✗ revoked") {
		t.Errorf("%s", out)
	}
}

// An archive of a kit holds plain files and folders, under one folder, each once: else another program unpacks
// something else than what was checked.
func TestAnArchiveHidesNothing(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("trust", "kit", "--for", "debian", "--out", "../kits", "--sign-by", "services", "--archive", "tar.gz",
		"--yes")
	p.must("trust", "check", "../kits/own.debian.tar.gz")
	data, err := os.ReadFile(filepath.Join(p.dir, "../kits/own.debian.tar.gz"))
	if err != nil {
		t.Fatal(err)
	}
	evil := []byte("#!/bin/sh\necho another script\n")
	for name, more := range map[string]tar.Header{
		"another type":    {Name: "own.debian/trust.sh", Typeflag: '7', Size: int64(len(evil)), Mode: 0o755},
		"a link":          {Name: "own.debian/extra.sh", Typeflag: tar.TypeSymlink, Linkname: "../evil.sh"},
		"a hard link":     {Name: "own.debian/extra.sh", Typeflag: tar.TypeLink, Linkname: "own.debian/trust.sh"},
		"a second folder": {Name: "zz-run-me/trust.sh", Typeflag: tar.TypeReg, Size: int64(len(evil)), Mode: 0o755},
		"a file twice":    {Name: "own.debian/trust.sh", Typeflag: tar.TypeReg, Size: int64(len(evil)), Mode: 0o755},
		"another spelling": {Name: "own.debian/./trust.sh", Typeflag: tar.TypeReg, Size: int64(len(evil)),
			Mode: 0o755},
		"out of the folder": {Name: "own.debian/../trust.sh", Typeflag: tar.TypeReg, Size: int64(len(evil)),
			Mode: 0o755},
	} {
		t.Run(name, func(t *testing.T) {
			p := p
			p.t = t
			var out bytes.Buffer
			gz := gzip.NewWriter(&out)
			w := tar.NewWriter(gz)
			in, err := gzip.NewReader(bytes.NewReader(data))
			if err != nil {
				t.Fatal(err)
			}
			for r := tar.NewReader(in); ; {
				h, err := r.Next()
				if errors.Is(err, io.EOF) {
					break
				}
				if err == nil {
					err = w.WriteHeader(h)
				}
				if err == nil {
					_, err = io.Copy(w, r)
				}
				if err != nil {
					t.Fatal(err)
				}
			}
			h := more
			if err := w.WriteHeader(&h); err != nil {
				t.Fatal(err)
			}
			if h.Size > 0 {
				if _, err := w.Write(evil); err != nil {
					t.Fatal(err)
				}
			}
			if err := errors.Join(w.Close(), gz.Close()); err != nil {
				t.Fatal(err)
			}
			file := p.file("../"+strings.ReplaceAll(name, " ", "-")+".tar.gz", out.Bytes())
			if r := p.run("", "trust", "check", file); r.code == 0 || strings.Contains(r.out, "is what was packed") {
				t.Errorf("%d: %s%s", r.code, r.out, r.errors)
			}
		})
	}
}

// What an estate knows counts in every answer about trust; one that cannot be opened stops the answer.
func TestAnEstateThatCannotBeOpenedStopsTheAnswer(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.signedHost("a.ternbay.example")
	p.must("certificate", "export", "a.ternbay.example", "--with", "issuers", "--out", "../a.pem")
	p.must("authority", "export", "root", "--out", "../root.pem")
	p.must("revoke", "a.ternbay.example", "--reason", "key-compromise", "--yes")
	p.must("revocations", "publish", "--to", "../public")
	verify := []string{"verify", "../a.pem", "--name", "a.ternbay.example", "--anchor", "../root.pem"}
	p.says(4, "revoked", verify...)
	p.says(1, "nowhere", append(verify, "--estate", "../nowhere")...)
	for name, spoil := range map[string]string{"ironseal.toml": "unknown = 1\n", "records.db": "no records"} {
		was, err := os.ReadFile(filepath.Join(p.dir, name))
		if err != nil {
			t.Fatal(err)
		}
		p.file(name, []byte(spoil))
		for _, args := range [][]string{verify, {"request", "show", "../a.ternbay.example.request.pem"},
			{"trust", "check"}, {"probe", "127.0.0.1:1", "--wait", "1s"}} {
			if r := p.run("", args...); r.code == 0 || strings.Contains(r.out, "✓ valid") {
				t.Errorf("with a damaged %s, %v: %d\n%s", name, args, r.code, r.out)
			}
		}
		p.file(name, was)
	}
	client := place{t: t, dir: filepath.Dir(p.dir)} // no estate is here, and none was named
	client.must("verify", "a.pem", "--name", "a.ternbay.example", "--anchor", "root.pem")
}

// An install that fails leaves what was there before, and takes away what it put there.
func TestAFailedInstallLeavesWhatWasThere(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("the scripts of these platforms are for other systems")
	}
	p := harbour(t)
	top := filepath.Dir(p.dir)
	for name, update := range map[string]string{"one": "cat %[1]s/store/*.crt >%[1]s/bundle.crt", "two": "false"} {
		text := fmt.Sprintf(storePlatform, filepath.Join(top, name), update)
		text = strings.ReplaceAll(text, "%[1]s", filepath.Join(top, name))
		for _, dir := range []string{filepath.Join(top, name, "store"), filepath.Join(p.dir, "platforms")} {
			if err := os.MkdirAll(dir, 0o755); err != nil {
				t.Fatal(err)
			}
		}
		p.file("platforms/"+name+".toml", []byte(text))
	}
	there := func(name string) int {
		t.Helper()
		list, err := filepath.Glob(filepath.Join(top, name, "store", "*.crt"))
		if err != nil {
			t.Fatal(err)
		}
		return len(list)
	}
	p.must("trust", "install", "--for", "one", "--yes")
	if there("one") != 1 {
		t.Fatal("the root was not installed")
	}
	p.must("authority", "renew", "root", "--key", "ecdsa-p256", "--yes")
	if r := p.run("", "trust", "install", "--for", "one,two", "--yes"); r.code == 0 {
		t.Errorf("%s", r.out)
	}
	if there("one") != 1 || there("two") != 0 {
		t.Errorf("%d and %d roots are there, and it were 1 and 0 before", there("one"), there("two"))
	}
}

const storePlatform = `title = "a store of a test"
covers = "nothing"
purposes = ["servers", "clients"]
[[file]]
name = "{file}.crt"
form = "pem"
each = true
for = "a root"
[[file]]
name = "trust.sh"
form = "store-script"
for = "installs"
[values]
store = "%[1]s/store"
ending = "crt"
bundle = "%[1]s/bundle.crt"
update = "%[2]s"
update-after-removal = "true"
[page]
steps = ["x"]
`

// An act that ends something says which generation it means where several stand.
func TestWhichGenerationIsMeant(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("authority", "renew", "services", "--suspect", "stolen", "--yes")
	p.must("incident", "open", "services.g1", "--because", "stolen")
	p.says(1, "services.g1", "revoke", "services", "--reason", "ca-compromise", "--yes")
	p.says(3, "another-generation-suspected", "revoke", "services.g2", "--reason", "ca-compromise", "--yes")
	p.must("revoke", "services.g1", "--reason", "ca-compromise", "--yes")
	p.signedHost("a.ternbay.example")
}

// What is below a revoked authority is never shown as valid, and nobody is told to renew it.
func TestWhatHangsBelowARevokedAuthority(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("authority", "create", "yard", "--under", "root", "--key", "ecdsa-p256", "--levels-below", "1", "--yes")
	p.must("authority", "create", "stores", "--under", "yard", "--key", "ecdsa-p256", "--yes")
	p.must("revoke", "yard", "--reason", "ca-compromise", "--yes")
	for _, args := range [][]string{{"authority", "list"}, {"authority", "tree"}, {"estate", "status"}} {
		for line := range strings.Lines(p.must(args...)) {
			if (strings.Contains(line, "stores") || strings.Contains(line, "yard")) && strings.Contains(line,
				"✓ valid") {
				t.Errorf("%v: %s", args, line)
			}
		}
	}
	for _, args := range [][]string{{"forecast"}, {"due", "--within", "20y"}} {
		if r := p.run("", args...); strings.Contains(r.out, "renew stores") || strings.Contains(r.out, "renew yard") {
			t.Errorf("%v advises to renew it:\n%s", args, r.out)
		}
	}
	var list []struct{ Handle, State, Mark string }
	if err := json.Unmarshal([]byte(p.must("authority", "list", "--json")), &list); err != nil {
		t.Fatal(err)
	}
	for _, a := range list {
		if a.Handle == "stores" && a.State == "valid" {
			t.Errorf("%+v", a)
		}
	}
}
