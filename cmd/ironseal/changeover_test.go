package main

import (
	"crypto/tls"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// An authority moves below another root. Every party that must trust it has to learn that root
// first: the plan says who, the records say who has, and the switch waits for the rest.
func TestAChangeOfRootsOverParties(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	const host = "gate-1.ternbay.example"
	p.must("request", "draft", host, "--out", "..")
	p.must("request", "receive", "../"+host+".request.pem")
	p.must("sign", "R1", "--template", "web-server", "--yes")
	for _, args := range [][]string{
		{"gate-1", "--endpoint", host + ":443", "--receiver", "nginx", "--platform", "debian", "--set", "own"},
		{"gate-2", "--platform", "java,debian", "--set", "own", "--owner", "quay office"},
		{"scanner", "--set", "own", "--closed", "firmware 2.1 trusts only its maker's list"},
		{"elsewhere", "--platform", "debian"}} {
		p.must(append([]string{"party", "add"}, args...)...)
	}
	p.must("certificate", "handover", "R1", "--party", "gate-1", "--out", "..")
	p.must("authority", "create", "newroot", "--subject", "CN=Another Root,O=Tern Bay Ferries", "--key", "ecdsa-p256",
		"--yes")
	day := time.Now().AddDate(0, 2, 0).Format("2006-01-02")
	p.must("authority", "renew", "services", "--under", "newroot", "--switch-day", day, "--yes")
	p.refused(1, "did you mean", "changeover", "record", "services", "gate-11", "--because", "seen")
	p.refused(1, "need not hold", "changeover", "record", "services", "elsewhere", "--because", "seen")
	p.refused(2, "how it is known", "changeover", "record", "services", "gate-1")
	p.must("changeover", "prepare", "services", "--yes")
	out := p.must("changeover", "progress", "services")
	for _, want := range []string{"Who must hold Another Root", "? unknown", "✗ cannot learn",
		"3 connections would fail",
		"gate-1, gate-2, scanner refuse gate-1: "} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing:\n%s", want, out)
		}
	}
	if strings.Contains(out, "elsewhere") {
		t.Error("a party that trusts none of it is asked:", out)
	}
	out = p.must("changeover", "plan", "services", "--out", "../kits")
	for _, want := range []string{"1. by ", "gate-1, gate-2", "cannot install a root", "remove the earlier root"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing:\n%s", want, out)
		}
	}
	kits, err := filepath.Glob(filepath.Join(p.dir, "../kits/gate-*/own.*"))
	if err != nil || len(kits) != 3 {
		t.Error(kits, err)
	}
	p.refused(3, "party-not-ready", "changeover", "switch", "services", "--early", "--yes")
	r := p.run("", "changeover", "switch", "services", "--early", "--yes")
	if strings.Count(r.errors, "--waive party-not-ready") != 1 {
		t.Errorf("one waiver is enough for a code:\n%s", r.errors)
	}
	var roots struct {
		Anchors []struct{ SHA256, Subject string }
	}
	if err := json.Unmarshal([]byte(p.must("trust", "show", "--json")), &roots); err != nil || len(roots.Anchors) != 2 {
		t.Fatal(roots, err)
	}
	sum := roots.Anchors[0].SHA256
	if !strings.Contains(roots.Anchors[0].Subject, "Another") {
		sum = roots.Anchors[1].SHA256
	}
	report := func(missing string, day int) {
		p.file("../report.json",
			[]byte(fmt.Sprintf(`{"host":"Gate-1","platform":"debian","store":"/etc/ssl","act":"check",`+
				`"complete":true,"sha256":["%s"],"missing":[%s],"when":"2026-11-%02dT12:00:00Z"}`+"\n", sum, missing,
				day)))
		p.must("trust", "record", "../report.json")
	}
	report(`"`+sum+`"`, 1)
	if out := p.must("changeover", "progress", "services"); !strings.Contains(out, "✗ not ready") {
		t.Error(out)
	}
	report("", 2)
	p.must("changeover", "record", "services", "gate-2", "--because", "the quay office looked")
	out = p.must("changeover", "progress", "services")
	if !strings.Contains(out, "2 of 3 ready, 1 cannot learn") || !strings.Contains(out, "1 connection would fail") ||
		!strings.Contains(out, "scanner refuses gate-1") || !strings.Contains(out, "the quay office looked") {
		t.Error(out)
	}
	p.refused(3, "party-cannot-learn", "changeover", "switch", "services", "--early", "--yes")
	p.must("changeover", "switch", "services", "--early", "--yes", "--waive", "party-cannot-learn", "--because",
		"the scanner is replaced that day")
	if out := p.must("journal", "list", "--json"); !strings.Contains(out, "the scanner is replaced that day") {
		t.Error("the waiver is not on record")
	}
	p.refused(1, "still depends on root.g1", "changeover", "finish", "services", "--out", "../gone")
	p.must("estate", "check")
}

// Where the root stays, nobody has to learn anything.
func TestAChangeBelowOneRootNeedsNobody(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("party", "add", "gate", "--set", "own")
	day := time.Now().AddDate(0, 2, 0).Format("2006-01-02")
	p.must("authority", "renew", "services", "--switch-day", day, "--yes")
	if out := p.must("changeover", "progress", "services"); strings.Contains(out, "Who must hold") {
		t.Error(out)
	}
	p.refused(1, "its root stays", "changeover", "record", "services", "gate", "--because", "x")
	p.refused(1, "no root above it has been left", "changeover", "finish", "services", "--out", "../x")
	p.must("changeover", "switch", "services", "--early", "--yes")
}

// A partner's root changes: the set that machines hold gives way to another on a day, when all
// of them have learnt it; and the way back is open at every stage.
func TestAChangeFromASetToAnother(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	old, _, _ := partner(t)
	next, _, _ := partner(t)
	for name, root := range map[string][]byte{"skua": pemOf(old), "skua-2": pemOf(old, next), "skua-3": pemOf(next)} {
		p.must("trust", "create", name)
		p.must("trust", "add", name, p.file("../root.pem", root), "--yes")
	}
	for _, name := range []string{"gate-1", "gate-2"} {
		p.must("party", "add", name, "--set", "skua,own", "--platform", "debian")
	}
	p.must("party", "add", "other", "--set", "own")
	day := time.Now().AddDate(0, 1, 0).Format("2006-01-02")
	for want, args := range map[string][]string{
		"it has passed":    {"skua", "--to", "skua-3", "--switch-day", "2020-01-01"},
		"ends before it":   {"skua", "--to", "skua-3", "--switch-day", "2090-01-01"},
		"the same anchors": {"skua", "--to", "skua", "--switch-day", day},
		"no trust set is":  {"skau", "--to", "skua-3", "--switch-day", day},
		"no change-over":   {"skua"},
		"no authority is":  {"nobody"},
	} {
		t.Run(want, func(t *testing.T) {
			p := p.with(t)
			p.refused(1, want, append([]string{"changeover", "plan"}, args...)...)
		})
	}
	p.refused(2, "needs both", "changeover", "plan", "skua", "--to", "skua-3")
	p.must("changeover", "plan", "skua", "--to", "skua-3", "--switch-day", day, "--out", "../kits")
	p.refused(1, "planned already", "changeover", "plan", "skua", "--to", "skua-2", "--switch-day", day)
	if kits, err := filepath.Glob(filepath.Join(p.dir, "../kits/gate-*/skua.debian/*.crt")); err != nil ||
		len(kits) != 4 {
		t.Error(kits, err) // each has both roots until the end
	}
	if out := p.must("changeover", "progress", "skua"); !strings.Contains(out, "0 of 2 ready, 2 unknown") {
		t.Error(out)
	}
	p.refused(3, "party-not-ready", "changeover", "switch", "skua", "--early", "--yes")
	p.refused(1, "need not hold", "changeover", "record", "skua", "other", "--because", "seen")
	p.must("changeover", "record", "skua", "gate-1", "gate-2", "--because", "seen on the spot")
	p.refused(1, "wait for it", "changeover", "switch", "skua", "--yes")
	p.refused(1, "has not been switched", "changeover", "finish", "skua", "--out", "../gone")
	sets := func(want string) {
		t.Helper()
		for _, name := range []string{"gate-1", "gate-2"} {
			if out := p.must("party", "show", name); !strings.Contains(out, want+"\n") {
				t.Errorf("%s: %s", want, out)
			}
		}
	}
	p.must("changeover", "switch", "skua", "--early", "--yes")
	sets("skua-3 own")
	p.refused(1, "changed meanwhile", "changeover", "switch", "skua", "--early", "--yes")
	p.must("changeover", "back", "skua", "--yes")
	sets("skua own")
	p.refused(1, "no change-over", "changeover", "progress", "skua")
	p.must("changeover", "plan", "skua", "--to", "skua-3", "--switch-day", day)
	p.must("changeover", "back", "skua", "--yes") // while it is only planned
	p.must("changeover", "plan", "skua", "--to", "skua-3", "--switch-day", day)
	p.must("changeover", "switch", "skua", "--early", "--yes")
	p.must("changeover", "finish", "skua", "--out", "../gone")
	left, err := filepath.Glob(filepath.Join(p.dir, "../gone/gate-*/skua.debian/*.crt"))
	if err != nil || len(left) != 2 {
		t.Error(left, err)
	}
	p.must("estate", "check")
}

// A server that asks for clients' certificates says of which roots it takes them: a look at it
// tells whether it has learnt the new one.
func TestAPartyIsConfirmedByALook(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("authority", "create", "newroot", "--subject", "CN=Another Root,O=Tern Bay Ferries", "--key", "ecdsa-p256",
		"--yes")
	p.must("authority", "export", "root", "--out", "../old.pem")
	p.must("authority", "export", "newroot", "--out", "../new.pem")
	_, _, leaf := partner(t)
	mine := tls.Certificate{Certificate: [][]byte{leaf.Cert.Raw}, PrivateKey: leaf.Signer}
	var mu sync.Mutex
	trusted := pool(t, filepath.Join(p.dir, "../old.pem"))
	listen := func(asks tls.ClientAuthType) string {
		return listening(t, &tls.Config{GetConfigForClient: func(*tls.ClientHelloInfo) (*tls.Config, error) {
			mu.Lock()
			defer mu.Unlock()
			return &tls.Config{Certificates: []tls.Certificate{mine}, ClientAuth: asks, ClientCAs: trusted}, nil
		}})
	}
	p.must("party", "add", "gate", "--set", "own", "--endpoint", listen(tls.RequireAndVerifyClientCert))
	p.must("party", "add", "board", "--set", "own", "--endpoint", listen(tls.NoClientCert))
	p.must("party", "add", "tablet", "--set", "own")
	p.must("authority", "renew", "services", "--under", "newroot", "--switch-day", time.Now().AddDate(0, 1,
		0).Format("2006-01-02"),
		"--yes")
	out := p.must("changeover", "record", "services", "--probe")
	if !strings.Contains(out, "✗ not ready") || !strings.Contains(out, "asks for no client's certificate") {
		t.Error(out)
	}
	if out := p.must("changeover", "progress", "services"); !strings.Contains(out,
		"0 of 3 ready, 1 not ready, 2 unknown") {
		t.Error(out)
	}
	both := pool(t, filepath.Join(p.dir, "../old.pem"))
	both.AppendCertsFromPEM(p.read("../new.pem"))
	mu.Lock()
	trusted = both
	mu.Unlock()
	p.must("changeover", "record", "services", "--probe")
	if out := p.must("changeover", "progress", "services"); !strings.Contains(out, "1 of 3 ready, 2 unknown") ||
		!strings.Contains(out, "a look at") {
		t.Error(out)
	}
	p.refused(2, "says itself", "changeover", "record", "services", "gate", "--probe")
	p.refused(2, "name parties", "changeover", "record", "services", "--because", "x")
	p.must("estate", "check")
}
