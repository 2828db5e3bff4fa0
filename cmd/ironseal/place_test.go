package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/internal/store/onserver"
	"ironseal/internal/store/sqlstore"
	"ironseal/pki/bundle"
	"ironseal/pki/ext"
	"ironseal/pki/label"
	"ironseal/pki/specimen"
)

// place is a directory in which the program is run.
type place struct {
	t   testing.TB
	dir string
	env []string
}

// with is the same place in a subtest, which then fails by itself.
func (p place) with(t testing.TB) place {
	p.t = t
	return p
}

type result struct {
	code        int
	out, errors string
}

func (p place) run(stdin string, args ...string) result {
	p.t.Helper()
	r, err := p.start(stdin, args...)
	if err != nil {
		p.t.Fatal(err)
	}
	return r
}

// try runs a command beside others, where no test can be ended.
func (p place) try(args ...string) (result, error) { return p.start("", args...) }

func (p place) start(stdin string, args ...string) (result, error) {
	cmd := exec.Command(program, args...)
	cmd.Dir = p.dir
	cmd.Env = append(append(os.Environ(), "NO_COLOR=", "IRONSEAL_ESTATE=", "IRONSEAL_PASSPHRASE_FILE="), p.env...)
	cmd.Stdin = strings.NewReader(stdin)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	detach(cmd)
	err := cmd.Run()
	r := result{0, out.String(), errs.String()}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		r.code, err = exit.ExitCode(), nil
	}
	if strings.Contains(r.errors, "panic:") || strings.Contains(r.errors, "goroutine ") {
		err = fmt.Errorf("%v: %s", args, r.errors)
	}
	return r, err
}

// must runs a command that has to end well.
func (p place) must(args ...string) string {
	p.t.Helper()
	r := p.run("", args...)
	if r.code != 0 {
		p.t.Fatalf("ironseal %s: exit status %d\n%s%s", strings.Join(args, " "), r.code, r.out, r.errors)
	}
	return r.out
}

func (p place) file(name string, data []byte) string {
	p.t.Helper()
	path := filepath.Join(p.dir, name)
	if err := errors.Join(os.WriteFile(path, data, 0o600), disk.SetMode(path, 0o600)); err != nil {
		p.t.Fatal(err)
	}
	return path
}

// original is where the first estate of harbour was made. The others are copies of it.
var original struct {
	once sync.Once
	dir  string // empty until it is there
}

// harbour makes an estate with quick keys, a root and an authority below it.
func harbour(t testing.TB) place {
	t.Helper()
	if runtime.GOOS == "windows" { // a copy would not keep who may read a key
		return another(t)
	}
	original.once.Do(func() {
		dir := filepath.Join(scratch, "original")
		if err := os.Mkdir(dir, 0o700); err != nil {
			t.Fatal(err)
		}
		withAuthorities(emptyIn(place{t: t, dir: dir}))
		original.dir = dir
	})
	if original.dir == "" {
		t.Fatal("the first estate could not be made")
	}
	dir := t.TempDir()
	copyTree(t, original.dir, dir)
	ownRecords(t, filepath.Join(original.dir, "harbour"), filepath.Join(dir, "harbour"))
	return place{t: t, dir: filepath.Join(dir, "harbour"),
		env: []string{"IRONSEAL_PASSPHRASE_FILE=" + filepath.Join(dir, "pass")}}
}

// another makes an estate as harbour does, with an identity and keys of its own.
func another(t testing.TB) place {
	t.Helper()
	return withAuthorities(empty(t))
}

func withAuthorities(p place) place {
	p.t.Helper()
	p.must("authority", "create", "root", "--key", "ecdsa-p256", "--yes")
	p.must("authority", "create", "services", "--under", "root", "--key", "ecdsa-p256", "--yes")
	return p
}

// copyTree copies a directory into one that is there, with the modes of its files.
func copyTree(t testing.TB, from, to string) {
	t.Helper()
	if err := filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(from, path)
		into := filepath.Join(to, rel)
		info, err := d.Info()
		if err != nil {
			return err
		}
		if d.IsDir() {
			if err := os.MkdirAll(into, 0o700); err != nil || rel == "." {
				return err
			}
			return os.Chmod(into, info.Mode().Perm())
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if err := os.WriteFile(into, data, info.Mode().Perm()); err != nil {
			return err
		}
		return os.Chmod(into, info.Mode().Perm())
	}); err != nil {
		t.Fatal(err)
	}
}

// empty makes an estate without authorities.
func empty(t testing.TB) place {
	t.Helper()
	return emptyIn(place{t: t, dir: t.TempDir()})
}

func emptyIn(p place) place {
	t := p.t
	t.Helper()
	p.must(append([]string{"estate", "create", "harbour", "--organisation", "Tern Bay Ferries", "--country", "NO"},
		atServer(t)...)...)
	p.dir = filepath.Join(p.dir, "harbour")
	settings, err := os.ReadFile(filepath.Join(p.dir, "ironseal.toml"))
	if err != nil {
		t.Fatal(err)
	}
	p.file("ironseal.toml", []byte(strings.Replace(string(settings), "encryption-memory = 64",
		"encryption-memory = 8", 1)))
	p.env = []string{"IRONSEAL_PASSPHRASE_FILE=" + p.file("../pass", []byte("tern and gull\n"))}
	return p
}

// atServer are the options for records on a server, where the tests are run with such.
func atServer(t testing.TB) []string {
	if url := onserver.Records(t); url != "" {
		return []string{"--records", url}
	}
	return nil
}

// ownRecords gives the copy of an estate records of its own, where they are on a server.
func ownRecords(t testing.TB, from, to string) {
	t.Helper()
	settings, err := estate.ReadSettings(to)
	if err != nil || !settings.Storage.OnServer() {
		return
	}
	ctx := context.Background()
	records, err := sqlstore.Open(ctx, estate.PlaceOf(from, settings.Storage))
	if err != nil {
		t.Fatal(err)
	}
	defer records.Close()
	url := onserver.URL(t)
	copied, err := sqlstore.Copy(ctx, records, store.Place{At: url, Head: filepath.Join(to, estate.HeadFile)})
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(copied.Close(), estate.PointTo(to, disk.Disk{}, url)); err != nil {
		t.Fatal(err)
	}
}

// send receives a request for a host with more extensions, and gives its number.
func (p place) send(host string, names []string, more ...ext.Extension) string {
	p.t.Helper()
	r := specimen.Request(p.t, nil, "CN="+host, names, more...)
	file := p.file("../"+label.FileName(host)+".pem", bundle.PEM(bundle.Request, r.Raw))
	var rows []struct{ Request string }
	if err := json.Unmarshal([]byte(p.must("request", "receive", file, "--json")), &rows); err != nil {
		p.t.Fatal(err)
	}
	return rows[0].Request
}
