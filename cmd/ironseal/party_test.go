package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ironseal/internal/app/parties"
	"ironseal/pki/trust"
)

// A device from its first day to its renewal, by its name: what is on record of it stands in
// for what would have to be typed, and what happens to it is found there.
func TestADeviceByItsName(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	const host = "quay-gate-3.ternbay.example"
	addr := serving(t, p.fixed("../served.pem", "../"+host+".key.pem"))
	p.must("party", "add", "quay-gate-3", "--endpoint", host+"@"+addr, "--receiver", "nginx", "--template",
		"web-server",
		"--platform", "debian,java", "--set", "own", "--owner", "harbour technicians")
	p.must("request", "draft", "--party", "quay-gate-3", "--out", "..")
	p.must("request", "receive", "../"+host+".request.pem")
	if out := p.must("sign", "R1", "--party", "quay-gate-3", "--yes"); !strings.Contains(out, "web-server") {
		t.Error(out)
	}
	p.must("certificate", "handover", "R1", "--party", "quay-gate-3", "--out", "..")
	p.must("certificate", "export", "R1", "--with", "issuers", "--out", "../served.pem")
	p.must("trust", "kit", "--party", "quay-gate-3", "--out", "../kits")
	if !p.exists("../kits/own.java") || !p.exists("../kits/own.debian") || !p.exists("../"+host+".nginx") {
		t.Error("the kits or the handover are not there")
	}
	p.must("probe", "--all", "--record")
	var set struct{ Anchors []struct{ SHA256 string } }
	if err := json.Unmarshal([]byte(p.must("trust", "show", "--json")), &set); err != nil {
		t.Fatal(err)
	}
	p.file("../report.json",
		[]byte(fmt.Sprintf(`{"host":"quay-gate-3","platform":"debian","store":"/etc/ssl","act":"install",`+
			`"complete":true,"sha256":["%s"],"missing":[],"when":"2026-11-01T12:00:00Z"}`+"\n", set.Anchors[0].SHA256)))
	p.must("trust", "record", "../report.json")
	var known parties.Known
	if err := json.Unmarshal([]byte(p.must("party", "show", "quay-gate-3", "--json")), &known); err != nil {
		t.Fatal(err)
	}
	if len(known.Certificates) != 1 || known.Certificates[0].Title != host || len(known.Stores) != 1 ||
		len(known.Stores[0].Missing) != 0 || len(known.Seen) != 1 || !known.Seen[0].Trusted {
		t.Errorf("%+v", known)
	}
	out := p.must("party", "show", "quay-gate-3")
	for _, want := range []string{"It holds", "Kits reported", "✓ all there", "Last seen", "✓ trusted",
		"harbour technicians"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing:\n%s", want, out)
		}
	}
	p.must("certificate", "renew", "--party", "quay-gate-3", "--yes")
	p.must("probe", "--party", "quay-gate-3", "--record")
	if out := p.must("party", "show", "quay-gate-3"); !strings.Contains(out, "replaced") {
		t.Error(out)
	}
	p.must("authority", "renew", "root", "--yes")
	if out := p.must("party", "show", "quay-gate-3"); !strings.Contains(out, "✗ lacks") {
		t.Error("after a renewal the party lacks the new root:", out)
	}
	p.must("estate", "check")
	p.must("journal", "verify")
}

// A table goes out and comes back as it was; one of a spreadsheet comes in; and of one that is
// wrong nothing is taken.
func TestTablesOfParties(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("party", "add", "a", "--endpoint", "a.ternbay.example:443,smtp://a.ternbay.example", "--owner",
		"=1+1, \"x\"")
	p.must("party", "add", "b", "--closed", "its maker's list alone", "--platform", "java")
	p.must("party", "change", "b", "--owner", "quay", "--platform", "")
	out := p.must("party", "list", "--csv")
	if !strings.Contains(out, `"'=1+1, ""x"""`) {
		t.Error("a formula would be taken for one:", out)
	}
	before := p.must("party", "list", "--json")
	p.file("../all.csv", []byte(out))
	p.must("party", "import", "../all.csv")
	p.must("party", "remove", "a", "b", "--yes")
	p.refused(1, "no party is called", "party", "show", "a")
	p.must("party", "import", "../all.csv")
	if after := p.must("party", "list", "--json"); after != before {
		t.Errorf("%s\n%s", before, after)
	}
	head := p.must("journal", "verify")
	if p.must("party", "import", "../all.csv"); p.must("journal", "verify") != head {
		t.Error("what is as it was is put on record again")
	}
	p.file("../sheet.csv", []byte("\ufeffOwner;Party;Endpoint\r\nquay;c;c.ternbay.example d.ternbay.example:25\r\n"))
	p.must("party", "import", "../sheet.csv")
	var all []trust.Party
	if err := json.Unmarshal([]byte(p.must("party", "list", "--json")), &all); err != nil || len(all) != 3 ||
		!slices.Equal(all[2].Endpoints, []string{"c.ternbay.example", "d.ternbay.example:25"}) ||
		all[2].Owner != "quay" {
		t.Errorf("%v %+v", err, all)
	}
	p.file("../bad.csv", []byte("party,endpoint,receiver\nnew,x:1,\nx y,,\nnew,,\nd,a b:c,\ne,,ngnix\n\"f\n"))
	head = p.must("journal", "verify")
	r := p.run("", "party", "import", "../bad.csv")
	for _, want := range []string{"line 3", "line 4", "stands in line 2 already", "line 5", "line 6",
		`did you mean "nginx"`,
		"nothing was taken"} {
		if !strings.Contains(r.out+r.errors, want) {
			t.Errorf("%q is missing:\n%s%s", want, r.out, r.errors)
		}
	}
	if r.code != 1 || p.must("journal", "verify") != head {
		t.Error("a table that is wrong was imported by half")
	}
	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{1, "there already", []string{"party", "add", "a"}},
		{1, "use letters", []string{"party", "add", "a\u202eb"}},
		{1, "invisible", []string{"party", "add", "z", "--owner", "x\x1b[2J"}},
		{1, "the port", []string{"party", "add", "z", "--endpoint", "a:b"}},
		{1, "there are: own", []string{"party", "add", "z", "--set", "onw"}},
		{1, "did you mean", []string{"party", "add", "z", "--platform", "debain"}},
		{1, "did you mean", []string{"party", "change", "b", "--template", "web-servr"}},
		{1, "no endpoint", []string{"request", "draft", "--party", "b"}},
		{1, "not known to hold", []string{"certificate", "renew", "--party", "b"}},
		{2, "for one request", []string{"sign", "--all", "--party", "b"}},
		{2, "say for whom", []string{"certificate", "handover", "root", "--party", "b"}},
		{2, "no platform is on record", []string{"trust", "kit", "--party", "b"}},
		{1, "did you mean", []string{"probe", "--party", "bb"}},
	} {
		t.Run(c.want, func(t *testing.T) {
			p := p.with(t)
			p.refused(c.code, c.want, c.args...)
		})
	}
}

// Of two programs that change parties at once, each party ends as one of them said, and none
// is lost.
func TestTwoAtTheParties(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	done := make(chan error)
	for i := range 8 {
		go func() {
			r, err := p.try("party", "add", fmt.Sprintf("gate-%d", i%4), "--owner", fmt.Sprintf("quay %d", i))
			if err == nil && r.code != 0 && !strings.Contains(r.errors, "there already") {
				err = fmt.Errorf("%+v", r)
			}
			done <- err
		}()
	}
	for range 8 {
		if err := <-done; err != nil {
			t.Error(err)
		}
	}
	if n := len(strings.Fields(p.must("party", "list", "--quiet"))); n != 4 {
		t.Errorf("%d parties", n)
	}
	p.must("estate", "check")
}

// Parties go into a rehearsal and into a backup; a change-over can be practised over them.
func TestPartiesAreThereWhenPractising(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("trust", "create", "mine")
	p.must("party", "add", "gate", "--set", "own,mine", "--owner", "quay office", "--platform", "debian")
	list := p.must("party", "list", "--json")
	p.must("estate", "rehearse", "../play")
	p.must("estate", "backup", "../kept")
	p.must("estate", "restore", "../kept", "../again")
	for _, dir := range []string{"../play", "../again"} {
		other := p
		other.dir = filepath.Join(p.dir, dir)
		if got := other.must("party", "list", "--json"); got != list {
			t.Errorf("%s: %s", dir, got)
		}
		other.must("estate", "check")
	}
	play := p
	play.dir = filepath.Join(p.dir, "../play")
	play.must("authority", "create", "newroot", "--subject", "CN=Another Root", "--key", "ecdsa-p256", "--yes")
	play.must("authority", "renew", "services", "--under", "newroot", "--switch-day", "2030-01-01", "--yes")
	play.refused(3, "party-not-ready", "changeover", "switch", "services", "--early", "--yes")
	// a set that is no more is reported with the party that names it
	if err := os.Remove(filepath.Join(play.dir, "sets/mine.toml")); err != nil {
		t.Fatal(err)
	}
	play.refused(1, "party gate: no trust set is called", "party", "show", "gate")
}

// Kits of many parties are packed by one command: a folder for each party, the same bytes as one by one. One that has
// no platform is told, and refused where it was named.
func TestKitsOfAllParties(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.refused(2, "no party has a platform", "trust", "kit", "--party", "all", "--out", "../none")
	p.file("../parties.csv", []byte("party,platform\ngate-1,debian\ngate-2,debian java\nbuoy,\n"))
	p.must("party", "import", "../parties.csv")
	p.must("trust", "kit", "--party", "gate-1", "--out", "../one")
	want := p.read("../one/own.debian/SHA256SUMS")
	for round, args := range [][]string{{"--party", "all"}, {"--party", "gate-1,gate-2", "--yes"}} {
		out := p.must(append([]string{"trust", "kit", "--out", "../all"}, args...)...)
		for _, kit := range []string{"gate-1/own.debian", "gate-2/own.debian", "gate-2/own.java"} {
			if !p.exists("../all/"+kit+"/SHA256SUMS") || !strings.Contains(out, kit) {
				t.Errorf("%v: %s is not there:\n%s", args, kit, out)
			}
		}
		if told := strings.Contains(out, "no platform is on record of buoy"); told != (round == 0) {
			t.Errorf("%v: what is told of the party without a platform:\n%s", args, out)
		}
	}
	if got := p.read("../all/gate-1/own.debian/SHA256SUMS"); !bytes.Equal(got, want) {
		t.Errorf("the kit of many is another:\n%s\n%s", got, want)
	}
	p.refused(2, "no platform is on record of buoy", "trust", "kit", "--party", "gate-1", "--party", "buoy", "--out",
		"../none")
	if p.exists("../none") {
		t.Error("some kits were written, though one cannot be")
	}
	p.refused(1, "no party is called", "trust", "kit", "--party", "all,gate-1", "--out", "../none")
	p.must("trust", "kit", "--party", "gate-1", "--party", "gate-1", "--out", "../twice")
	if !p.exists("../twice/own.debian") {
		t.Error("one party that was named twice counts as two")
	}
	if err := os.MkdirAll(filepath.Join(p.dir, "../some/gate-2/own.java"), 0o755); err != nil {
		t.Fatal(err)
	}
	p.file("../some/gate-2/own.java/mine.txt", []byte("mine"))
	p.file("../some/gate-2/own.java/SHA256SUMS", nil)
	p.says(1, "would be lost", "trust", "kit", "--party", "all", "--out", "../some", "--yes")
	if !p.exists("../some/gate-1/own.debian") || !p.exists("../some/gate-2/own.java/mine.txt") {
		t.Error("a kit that cannot be written keeps others back, or was written")
	}
	if n := strings.Count(p.must("journal", "list"), "pack kit"); n != 10 {
		t.Errorf("%d kits are on record", n)
	}
	p.must("estate", "check")
}
