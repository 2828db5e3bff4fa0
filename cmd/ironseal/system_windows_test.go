package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// The guide's lines for Command Prompt run as printed, one after the other.
func TestTheGuideInCommandPrompt(t *testing.T) {
	page, err := os.ReadFile(filepath.Join("..", "..", "docs", "guide.md"))
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	script := "@echo off\r\n"
	count := 0
	for _, block := range strings.Split(strings.ReplaceAll(string(page), "\r", ""), "```cmd\n")[1:] {
		block, _, _ = strings.Cut(block, "```")
		for line := range strings.Lines(block) {
			line = strings.ReplaceAll(strings.TrimSpace(line), `C:\ternbay`, filepath.Join(dir, "ternbay"))
			for _, asks := range []string{"ironseal sign ", "ironseal trust install", "ironseal trust remove"} {
				if strings.HasPrefix(line, asks) {
					line += " --yes" // a person answers
				}
			}
			bad := "if errorlevel 1 "
			if line == "ironseal trust check" {
				bad = "if not errorlevel 4 " // the root is not there yet
			}
			script += line + "\r\n" + bad + "(echo failed: " + strings.ReplaceAll(line, `"`, "") + "& exit /b 1)\r\n"
			count++
		}
	}
	if count < 10 {
		t.Fatalf("%d lines were found", count)
	}
	file := filepath.Join(dir, "guide.bat")
	if err := os.WriteFile(file, []byte(script), 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("cmd", "/c", file)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+";"+os.Getenv("PATH"), "IRONSEAL_ESTATE=",
		"SSL_CERT_FILE=", "NODE_EXTRA_CA_CERTS=", "REQUESTS_CA_BUNDLE=", "JAVA_HOME=")
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Errorf("%v\n%s", err, out)
	}
	for _, want := range []string{"✓ signed R6", "camera-2.ternbay.example.p12", "No faults"} {
		if !strings.Contains(string(out), want) {
			t.Errorf("%q is missing:\n%s", want, out)
		}
	}
}

// Names that Windows keeps for devices, or does not keep as they are, are refused with their reason.
func TestNamesThatWindowsKeeps(t *testing.T) {
	p := harbour(t)
	for _, name := range []string{"NUL.pem", `..\com1`, `..\out.`, `..\a. \x.pem`, `CON\x.pem`} {
		r := p.run("", "authority", "export", "root", "--out", name)
		if r.code != 1 || !strings.Contains(r.errors, "reserved on Windows") {
			t.Errorf("%q: %+v", name, r)
		}
	}
	if r := p.run("", "authority", "create", "aux", "--under", "root", "--yes"); r.code == 0 ||
		!strings.Contains(r.errors, "name of a device") {
		t.Errorf("%+v", r)
	}
	p.must("authority", "export", "root", "--out", `..\ROOT.pem`)
	if r := p.run("", "authority", "export", "services", "--out", `..\root.pem`); r.code == 0 {
		t.Errorf("another spelling replaces a file without a question: %+v", r)
	}
	long := `..\` + strings.Repeat(`a-rather-long-name\`, 20)
	p.must("authority", "export", "root", "--out", long+"root.pem")
	if _, err := os.Stat(filepath.Join(p.dir, long+"root.pem")); err != nil {
		t.Error(err)
	}
}
