package main

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
)

// The key of an authority is lost, and 300 servers need another certificate: two commands sign and hand over
// all of them, each for the receiver that it was handed over for before.
func TestThreeHundredAreHandedOverInAnIncident(t *testing.T) {
	long(t)
	t.Parallel()
	const n = 300
	p := harbour(t)
	rows := "host,receiver\n"
	for i := range n {
		rows += fmt.Sprintf("h%d.ternbay.example,%s\n", i, []string{"nginx", "haproxy", "appliance-pem"}[i%3])
	}
	hosts := p.file("../hosts.csv", []byte(rows))
	p.must("request", "draft", "--manifest", hosts, "--out", "../drafts")
	p.must("sign", "--manifest", hosts, "--template", "web-server", "--by", "services", "--yes")
	p.must("certificate", "handover", "--manifest", hosts, "--out", "../first")
	p.must("revoke", "h7.ternbay.example", "--reason", "hold", "--yes") // needs no replacement
	p.must("incident", "open", "services", "--because", "the safe was found open")
	if out := p.must("authority", "renew", "services", "--suspect", "stolen", "--yes"); !strings.Contains(out,
		"ironseal incident show I1") || strings.Contains(out, "same key:") {
		t.Errorf("after the renewal: %s", out)
	}
	p.must("incident", "replace", "I1", "--yes")
	if out := p.must("incident", "replace", "I1"); !strings.Contains(out, "Everything has a replacement") {
		t.Error(out)
	}
	out := p.must("incident", "show", "I1")
	if !strings.Contains(out, "299 of 299 have one; 1 revoked or on hold") || !strings.Contains(out,
		"ironseal certificate handover --incident I1 --out DIR") {
		t.Error(out)
	}
	out = p.must("certificate", "handover", "--incident", "I1", "--out", "../second")
	if lines := strings.Count(out, "✓"); lines != n-1 || !strings.Contains(out, "299 handed over, 0 not") {
		t.Errorf("%d lines\n%s", lines, out)
	}
	index := string(p.read("../second/HANDOVERS.txt"))
	for i := range n {
		if i == 7 {
			continue
		}
		dir := fmt.Sprintf("h%d.ternbay.example.%s", i, []string{"nginx", "haproxy", "appliance-pem"}[i%3])
		if !p.exists("../second/"+dir+"/READ-ME.txt") || !strings.Contains(index, "  folder      "+dir+"\n") {
			t.Fatalf("%s is missing", dir)
		}
	}
	if strings.Contains(index, "PRIVATE KEY") || strings.Contains(p.must("incident", "show", "I1"), "0 of 299 repl") {
		t.Error("after the handover")
	}
	p.must("estate", "check")
}

// Each gets what is on record for it: the party's receiver, or that of the certificate before.
func TestManyAreHandedOverAsOnRecord(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("party", "add", "quay", "--receiver", "haproxy", "--endpoint", "quay.ternbay.example:443")
	for i, host := range []string{"quay", "pier", "mole"} {
		host += ".ternbay.example"
		p.must("request", "draft", host, "--out", "../drafts")
		p.must("request", "receive", "../drafts/"+host+".request.pem")
		p.must("sign", fmt.Sprintf("R%d", i+1), "--template", "web-server", "--by", "services", "--yes")
	}
	p.must("certificate", "handover", "R2", "--for", "appliance-pem", "--out", "../first")
	p.must("certificate", "renew", "pier.ternbay.example", "--yes")
	if r := p.run("", "certificate", "handover", "--new", "--out", "../out"); r.code != 1 ||
		!strings.Contains(r.errors, "1 of 3 were not handed over") {
		t.Error(r)
	}
	if !p.exists("../out/quay.ternbay.example.haproxy") || !p.exists("../out/pier.ternbay.example.appliance-pem") ||
		!strings.Contains(string(p.read("../out/HANDOVERS.txt")), "mole.ternbay.example, serial") {
		t.Error(string(p.read("../out/HANDOVERS.txt")))
	}
	p.must("certificate", "handover", "--new", "--for", "java", "--make-password", "--out", "../out")
	var all struct {
		HandedOver []struct{ Receiver, To, Password string } `json:"handed_over"`
	}
	again := p.must("certificate", "handover", "quay.ternbay.example", "mole.ternbay.example", "--make-password",
		"--json",
		"--yes", "--out", "../out")
	if err := json.Unmarshal([]byte(again), &all); err != nil || len(all.HandedOver) != 2 ||
		all.HandedOver[0].To != "quay" || all.HandedOver[0].Password != "" || len(all.HandedOver[1].Password) != 24 {
		t.Errorf("%v %s", err, again)
	}
	if out := p.must("certificate", "handover", "--new", "--out", "../out"); !strings.Contains(out,
		"Nothing is to be") {
		t.Error(out)
	}
	if out := p.must("certificate", "handover", "--party", "quay", "--out", "../third"); !strings.Contains(out,
		"1 handed over") {
		t.Error(out)
	}
	p.refused(2, "name certificates, or give one of", "certificate", "handover", "--new", "--party", "quay")
	if out := p.must("certificate", "show", "mole.ternbay.example", "--all"); strings.Contains(out, "java") {
		t.Errorf("a receiver is called a holder: %s", out)
	}
	p.must("estate", "check")
}
