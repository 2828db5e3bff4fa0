package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"ironseal/pki/bundle"
	"ironseal/pki/specimen"
)

// onStick runs transfers and drafts in a directory that stands for a memory stick.
func onStick(t *testing.T, p place, stick string, run func(args ...string) result) {
	t.Helper()
	must := func(args ...string) string {
		r := run(args...)
		if r.code != 0 {
			t.Fatalf("ironseal %s: exit status %d\n%s%s", strings.Join(args, " "), r.code, r.out, r.errors)
		}
		return r.out
	}
	in := func(name string) string { return filepath.Join(stick, name) }
	if out := must("request", "draft", "pier.ternbay.example", "--out", in("drafts")); out == "" {
		t.Error("a draft says nothing")
	}
	if r := run("request", "draft", "pier.ternbay.example", "--out", in("drafts")); r.code != 1 ||
		!strings.Contains(r.errors, "there already") {
		t.Errorf("a draft was replaced: %+v", r)
	}
	must("request", "receive", in("drafts/pier.ternbay.example.request.pem"))
	must("transfer", "pack", in("to"), "--all")
	if r := run("transfer", "pack", in("to"), "R1"); r.code != 1 || !strings.Contains(r.errors, "there already") {
		t.Errorf("a folder was replaced: %+v", r)
	}
	must("authority", "export", "root", "--out", in("root.pem"))
	must("estate", "backup", in("harbour.backup"))
	must("estate", "restore", in("harbour.backup"), filepath.Join(p.dir, "../again"))
	other := harbour(t)
	other.must("transfer", "open", in("to"), "--yes")
	entries, err := os.ReadDir(stick)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), ".ironseal") {
			t.Errorf("%s is left behind", e.Name())
		}
	}
}

// A real image of such a file system, where a program may mount one.
func TestAMemoryStick(t *testing.T) {
	mkfs, err := exec.LookPath("mkfs.vfat")
	if err != nil {
		if mkfs, err = exec.LookPath("/usr/sbin/mkfs.vfat"); err != nil {
			t.Skip("mkfs.vfat is not installed here")
		}
	}
	dir := t.TempDir()
	image, stick := filepath.Join(dir, "image"), filepath.Join(dir, "stick")
	if err := os.WriteFile(image, make([]byte, 16<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(stick, 0o700); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command(mkfs, image).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if out, err := exec.Command("mount", "-o", "loop", image, stick).CombinedOutput(); err != nil {
		t.Skipf("no image can be mounted here: %s", bytes.TrimSpace(out))
	}
	t.Cleanup(func() { _ = syscall.Unmount(stick, syscall.MNT_DETACH) })
	p := harbour(t)
	onStick(t, p, stick, func(args ...string) result { return p.run("", args...) })
}

// The same where the calls fail that such a file system does not have: moving without
// replacing, links, and modes.
func TestAFileSystemWithoutLinksAndModes(t *testing.T) {
	if err := exec.Command("strace", "-qq", "-o", "/dev/null", "true").Run(); err != nil {
		t.Skip("programs cannot be traced here: ", err)
	}
	p := harbour(t)
	stick := filepath.Join(p.dir, "../stick")
	if err := os.Mkdir(stick, 0o700); err != nil {
		t.Fatal(err)
	}
	onStick(t, p, stick, func(args ...string) result {
		cmd := exec.Command("strace", append([]string{"-f", "-qq", "-o", "/dev/null", "-e",
			"inject=renameat2:error=EINVAL", "-e", "inject=link,linkat:error=EPERM", program}, args...)...)
		cmd.Dir, cmd.Env = p.dir, append(append(os.Environ(), "IRONSEAL_ESTATE="), p.env...)
		var out, errs bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &errs
		detach(cmd)
		_ = cmd.Run()
		return result{cmd.ProcessState.ExitCode(), out.String(), errs.String()}
	})
}

// What the disk says is called by its name: full, or only to be read.
func TestDiskTroublesAreCalledByName(t *testing.T) {
	if err := exec.Command("strace", "-qq", "-o", "/dev/null", "true").Run(); err != nil {
		t.Skip("programs cannot be traced here: ", err)
	}
	p := harbour(t)
	for _, c := range []struct{ inject, args, word string }{
		{"write:error=ENOSPC:when=1", "authority export root --out ../root.pem", "disk is full"},
		{"pwrite64:error=ENOSPC", "request decline R1 --because x", "disk is full"},
		{"mkdirat,mkdir:error=EROFS", "request draft a.ternbay.example --out ../new/drafts", "only be read"},
	} {
		t.Run(c.inject, func(t *testing.T) {
			q := copyPlace(t, p)
			q.send("a.ternbay.example", []string{"a.ternbay.example"})
			var out []byte
			var err error
			// The first write of each thread fails. Where that is the message itself, nothing
			// is heard, and the run says nothing about the program.
			for range 10 {
				cmd := exec.Command("strace", append([]string{"-f", "-qq", "-o", "/dev/null", "-e",
					"inject=" + c.inject,
					program}, strings.Fields(c.args)...)...)
				cmd.Dir, cmd.Env = q.dir, append(append(os.Environ(), "IRONSEAL_ESTATE="), q.env...)
				detach(cmd)
				if out, err = cmd.CombinedOutput(); len(out) > 0 {
					break
				}
			}
			if err == nil || !strings.Contains(string(out), c.word) {
				t.Errorf("%s with %s: %v\n%s", c.args, c.inject, err, out)
			}
		})
	}
}

// Commands that read work where nothing can be written; those that act say why not.
func TestReadingFromADiskThatCannotBeWritten(t *testing.T) {
	p := harbour(t)
	p.send("a.ternbay.example", []string{"a.ternbay.example"})
	credential := &syscall.Credential{Uid: nobody, Gid: nobody}
	if os.Getuid() != 0 {
		t.Skip("only the superuser can run it as somebody who may not write")
	}
	outside := filepath.Dir(p.dir)
	for _, d := range []string{outside, filepath.Dir(outside)} {
		if err := os.Chmod(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	err := filepath.Walk(p.dir, func(path string, info os.FileInfo, err error) error {
		if err != nil {
			return err
		}
		mode := os.FileMode(0o444)
		if info.IsDir() {
			mode = 0o555
		}
		return os.Chmod(path, mode)
	})
	if err != nil {
		t.Fatal(err)
	}
	run := func(args string) (string, error) {
		cmd := exec.Command(program, append(strings.Fields(args), "--estate", p.dir)...)
		cmd.Dir = "/"
		cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Credential: credential}
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	for _, args := range []string{"estate status", "authority list", "authority tree", "request list",
		"request show R1", "certificate list", "certificate show root", "forecast", "due", "journal verify",
		"template list", "authority export root --out -"} {
		if out, err := run(args); err != nil {
			t.Errorf("%s: %v\n%s", args, err, out)
		}
	}
	for _, args := range []string{"request decline R1 --because x", "sign R1 --template web-server --yes",
		"authority create x --under root --yes"} {
		if out, err := run(args); err == nil || !strings.Contains(out, "cannot be written") {
			t.Errorf("%s: %v\n%s", args, err, out)
		}
	}
}

// Whatever is going on ends within a second of Ctrl-C or SIGTERM, and what has no end
// of its own is read up to a bound.
func TestEverythingEnds(t *testing.T) {
	p := harbour(t)
	pipe := filepath.Join(p.dir, "../pipe")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	large := p.file("../large", bytes.Repeat([]byte("MIMGqqoBAQEBAQEBAAAA\n"), 700_000))
	for _, args := range []string{"read ../pipe", "authority create x --under root --key rsa-4096 --yes",
		"read " + large, "estate backup ../pipe.backup"} {
		cmd := exec.Command(program, strings.Fields(args)...)
		cmd.Dir, cmd.Env = p.dir, append(append(os.Environ(), "IRONSEAL_ESTATE="), p.env...)
		detach(cmd)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(150 * time.Millisecond)
		asked := time.Now()
		_ = cmd.Process.Signal(syscall.SIGTERM)
		done := make(chan error, 1)
		go func() { done <- cmd.Wait() }()
		select {
		case <-done:
			if took := time.Since(asked); took > 5*time.Second { // a second, and room for a busy machine
				t.Errorf("%s went on for %s", args, took)
			}
		case <-time.After(20 * time.Second):
			t.Errorf("%s does not end", args)
			_ = cmd.Process.Kill()
		}
	}
	p.must("estate", "check")
	for _, args := range []string{"read /dev/zero", "request receive /dev/zero", "verify /dev/zero --anchor /dev/zero",
		"transfer open /dev", "certificate export root --out /dev/null --yes"} {
		begin := time.Now()
		r := p.run("", strings.Fields(args)...)
		if took := time.Since(begin); took > 20*time.Second || r.code == 0 && !strings.Contains(args, "null") {
			t.Errorf("%s: exit status %d after %s: %s", args, r.code, took, r.errors)
		}
	}
	key := bundle.PEM(bundle.EncryptedKey, specimen.HungryKey())
	begin := time.Now()
	if r := p.run("", "convert", p.file("../hungry.pem", key), "--to", "key", "--open-with", "../pass", "--out",
		"../k.pem"); r.code != 1 || !strings.Contains(r.errors, "out of bounds") || time.Since(begin) > 20*time.Second {
		t.Errorf("%+v", r)
	}
}
