package main

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A list that was just published is not due, however long the window is: else a scheduler would be alarmed for ever.
func TestPublishedListsRaiseNoAlarm(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("revocations", "publish", "--to", "../public")
	for _, within := range []string{"30d", "60d", "89d"} {
		if r := p.run("", "due", "--within", within, "--alarm"); r.code != 0 {
			t.Errorf("within %s: status %d\n%s", within, r.code, r.out)
		}
	}
	p.must("revocations", "publish", "--to", "../public", "--ocsp", "../answers")
	if out := p.must("certificate", "list"); strings.Contains(out, "expiring") || strings.Contains(out, "ocsp") {
		t.Errorf("what was made for the answers is listed:\n%s", out)
	}
	if r := p.run("", "due", "--within", "60d", "--alarm"); r.code != 0 {
		t.Errorf("status %d\n%s", r.code, r.out)
	}
}

// Certificates name an address of lists: the status says so until the first publication.
func TestTheStatusAsksForTheFirstLists(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	settings, err := os.ReadFile(filepath.Join(p.dir, "ironseal.toml"))
	if err != nil {
		t.Fatal(err)
	}
	p.file("ironseal.toml", bytes.Replace(settings, []byte(`address        = ""`),
		[]byte(`address        = "http://pki.ternbay.example"`), 1))
	const words = "publish the revocation lists that the certificates name"
	if out := p.must("estate", "status"); strings.Contains(out, words) {
		t.Errorf("nothing is signed yet:\n%s", out)
	}
	p.must("sign", p.send("a.ternbay.example", []string{"a.ternbay.example"}), "--template", "web-server", "--yes")
	if out := p.must("estate", "status"); !strings.Contains(out, words) {
		t.Errorf("lists are not asked for:\n%s", out)
	}
	p.must("revocations", "publish", "--to", "../public")
	if out := p.must("estate", "status"); strings.Contains(out, words) {
		t.Errorf("lists are asked for still:\n%s", out)
	}
}

// An incident, a hold and a renewal meet: nothing argues for the suspected key, what is on hold needs no
// replacement, and each next step is one that can be taken.
func TestAnIncidentWithAHoldGivesRightAnswers(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	for _, host := range []string{"a.ternbay.example", "b.ternbay.example"} {
		p.must("sign", p.send(host, []string{host}), "--template", "web-server", "--by", "services", "--yes")
	}
	p.must("revoke", "b.ternbay.example", "--reason", "hold", "--yes")
	if out := p.must("incident", "open", "services", "--because", "found open"); !strings.Contains(out,
		"authority renew services --suspect") {
		t.Error(out)
	}
	for _, more := range [][]string{nil, {"--suspect", "found open"}} {
		out := p.run("no\n", append([]string{"authority", "renew", "services", "--key", "ecdsa-p256"}, more...)...).out
		if strings.Contains(out, "the key is sound") || strings.Contains(out, "same key:") ||
			!strings.Contains(out, "advice: take a new key") {
			t.Errorf("%v:\n%s", more, out)
		}
	}
	p.must("authority", "renew", "services", "--key", "ecdsa-p256", "--suspect", "found open", "--yes")
	p.must("incident", "replace", "I1", "--yes")
	out := p.must("incident", "show", "I1")
	for _, want := range []string{"1 of 1 have one; 1 revoked or on hold", "certificate handover --incident I1"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing:\n%s", want, out)
		}
	}
	p.must("revoke", "services.g1", "--reason", "ca-compromise", "--yes")
	if out := p.must("estate", "status"); !strings.Contains(out, "incident show I1") {
		t.Error(out)
	}
	if out := p.must("certificate", "list"); !strings.Contains(out, "Not shown") {
		t.Errorf("what is hidden is not told:\n%s", out)
	}
}
