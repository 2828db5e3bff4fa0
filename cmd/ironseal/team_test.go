package main

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

// person gives somebody a key of their own, in a file, and the estate as they act on it.
func (p place) person(name string) place {
	p.t.Helper()
	_, k, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		p.t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(k, name)
	if err != nil {
		p.t.Fatal(err)
	}
	public, err := ssh.NewPublicKey(k.Public())
	if err != nil {
		p.t.Fatal(err)
	}
	file := p.file("../"+name+".key", pem.EncodeToMemory(block))
	p.file("../"+name+".pub", ssh.MarshalAuthorizedKey(public))
	theirs := p
	theirs.env = append(append([]string{}, p.env...), "IRONSEAL_OPERATOR_KEY="+file, "SSH_AUTH_SOCK=")
	return theirs
}

// setting changes a line of the settings.
func (p place) setting(from, to string) {
	p.t.Helper()
	file := filepath.Join(p.dir, "ironseal.toml")
	text, err := os.ReadFile(file)
	if err != nil || !strings.Contains(string(text), from) {
		p.t.Fatalf("%q is not in the settings: %v", from, err)
	}
	p.file("ironseal.toml", []byte(strings.Replace(string(text), from, to, 1)))
}

// crew is an estate with two administrators, a signer and an auditor.
func crew(t *testing.T) (p, ana, ben, cleo, dag place) {
	t.Helper()
	p = harbour(t)
	ana, ben, cleo, dag = p.person("ana"), p.person("ben"), p.person("cleo"), p.person("dag")
	ana.must("operator", "add", "ana", "--key", "../ana.pub", "--role", "administrator")
	ana.must("operator", "add", "ben", "--key", "../ben.pub", "--role", "administrator")
	ana.must("operator", "add", "cleo", "--key", "../cleo.pub", "--role", "signer")
	ana.must("operator", "add", "dag", "--key", "../dag.pub", "--role", "auditor")
	return p, ana, ben, cleo, dag
}

func (p place) denied(word string, args ...string) {
	p.t.Helper()
	if r := p.run("", args...); r.code == 0 || !strings.Contains(r.errors, word) {
		p.t.Errorf("ironseal %s: %+v", strings.Join(args, " "), r)
	}
}

// A template that needs two: what the first proposes the second sees, and just that is signed.
func TestTwoPeopleSign(t *testing.T) {
	t.Parallel()
	p, ana, ben, cleo, dag := crew(t)
	text, err := os.ReadFile(filepath.Join(p.dir, "templates", "web-server.toml"))
	if err != nil {
		t.Fatal(err)
	}
	p.file("templates/double.toml", []byte("approvals = 2\n"+string(text)))
	ana.send("booking.ternbay.example", []string{"booking.ternbay.example"})
	ana.send("second.ternbay.example", []string{"second.ternbay.example"})

	out := cleo.must("sign", "R1", "--template", "double", "--by", "services", "--lifetime", "90d", "--yes")
	if !strings.Contains(out, "proposed:") || !strings.Contains(out, "ironseal approve P1") {
		t.Errorf("%s", out)
	}
	if got := p.must("request", "list", "--quiet"); !strings.Contains(got, "R1") {
		t.Errorf("R1 does not wait: %s", got)
	}
	cleo.denied("just this already", "sign", "R1", "--template", "double", "--by", "services", "--lifetime", "90d",
		"--yes")
	cleo.denied("each operator counts once", "approve", "P1", "--yes")
	cleo.denied("1 of 2 agree", "proposal", "complete", "P1")
	dag.denied("auditor", "approve", "P1", "--yes")
	out = ben.must("approve", "P1", "--yes")
	if !strings.Contains(out, "Review sheet") && !strings.Contains(out, "booking.ternbay.example") {
		t.Errorf("the second does not see the sheet: %s", out)
	}
	sheet := out[:strings.Index(out, "✓ approved")]
	out = cleo.must("proposal", "complete", "P1")
	if !strings.Contains(out, "✓ signed R1") || !strings.Contains(out, code(t, sheet)) {
		t.Errorf("%s\n%s", sheet, out)
	}
	cleo.denied("it is not open", "proposal", "complete", "P1")
	cleo.denied("it is not open", "object", "P1", "--because", "late")

	t.Run("void", func(t *testing.T) {
		p, ana, ben, cleo := p.with(t), ana.with(t), ben.with(t), cleo.with(t)
		cleo.must("sign", "R2", "--template", "double", "--by", "services", "--yes")
		p.file("templates/double.toml", []byte("approvals = 2\n"+strings.Replace(string(text), `"397d"`, `"300d"`, 1)))
		ben.denied("is not what was proposed", "approve", "P2", "--yes")
		p.file("templates/double.toml", []byte("approvals = 2\n"+string(text)))
		ben.must("approve", "P2", "--yes")
		ana.must("request", "decline", "R2", "--because", "a change of mind")
		cleo.denied("", "proposal", "complete", "P2")
		if got := p.must("proposal", "list", "--all", "--json"); strings.Contains(got, `"done"`) && strings.
			Count(got, `"done"`) != 1 {
			t.Errorf("%s", got)
		}
	})
	t.Run("many at once", func(t *testing.T) {
		ana, cleo := ana.with(t), cleo.with(t)
		ana.send("third.ternbay.example", []string{"third.ternbay.example"})
		if r := cleo.run("", "sign", "--all", "--template", "double", "--by", "services", "--yes"); r.code != 3 ||
			!strings.Contains(r.out, "2 operators must agree") {
			t.Errorf("%+v", r)
		}
	})
	t.Run("a rejected one", func(t *testing.T) {
		p, ana, ben, cleo := p.with(t), ana.with(t), ben.with(t), cleo.with(t)
		n := ana.send("fourth.ternbay.example", []string{"fourth.ternbay.example"})
		cleo.must("sign", n, "--template", "double", "--by", "services", "--yes")
		name := strings.Fields(p.must("proposal", "list", "--quiet"))[0]
		ben.must("object", name, "--because", "it is misspelt")
		ben.denied("objected", "approve", name, "--yes")
		p.must("proposal", "show", name)
	})
	p.must("journal", "verify")
	p.must("estate", "check")
}

// code is the check code of a sheet.
func code(t *testing.T, sheet string) string {
	t.Helper()
	i := strings.LastIndex(sheet, "sheet ")
	if i < 0 {
		t.Fatalf("no code in %s", sheet)
	}
	return strings.Fields(sheet[i+len("sheet "):])[0]
}

// Acts on authorities, operators, trust sets and revocations of authorities wait for a second person, and an approval
// does
// not count when its giver is no operator of the right role any more.
func TestTwoPeopleAct(t *testing.T) {
	t.Parallel()
	p, ana, ben, cleo, _ := crew(t)
	for _, key := range []string{"authorities         = 0", "operators           = 0", "trust-sets          = 0",
		"revoked-authorities = 0"} {
		p.setting(key, strings.Replace(key, "= 0", "= 2", 1))
	}
	agree := func(t *testing.T, args ...string) string {
		t.Helper()
		ana, ben := ana.with(t), ben.with(t)
		out := ana.must(args...)
		at := strings.Index(out, "proposed: P")
		if at < 0 {
			t.Fatalf("ironseal %s was not proposed: %s", strings.Join(args, " "), out)
		}
		name := strings.TrimSuffix(strings.Fields(out[at:])[1], ",")
		time.Sleep(1100 * time.Millisecond) // whoever agrees does so later, and sees the same
		ben.must("approve", name, "--yes")
		return ben.must("proposal", "complete", name)
	}
	for _, args := range []string{
		"authority create stores --under root --key ecdsa-p256 --yes",
		"authority renew services --lifetime 5y --waive renewal-without-gain --because practice --yes",
		"authority retire stores --because trying --yes",
		"operator add eve --key ../cleo-new.pub --role signer --yes",
		"operator end eve --because left --yes",
		"trust create partners --yes",
		"trust add partners root --yes",
		"trust drop partners root --yes",
		"revoke services.g1 --reason ca-compromise --because lost --yes",
	} {
		t.Run(args, func(t *testing.T) {
			p.person("cleo-new")
			agree(t, strings.Fields(args)...)
		})
	}
	t.Run("a rehearsal", func(t *testing.T) { // one person plays all
		p := p.with(t)
		p.must("estate", "rehearse", "../rehearsed")
		p.must("authority", "create", "moles", "--under", "root", "--key", "ecdsa-p256", "--yes", "--estate",
			"../rehearsed")
	})
	t.Run("a signer", func(t *testing.T) {
		cleo.with(t).denied("for the role administrator", "authority", "create", "x", "--under", "root", "--key",
			"ecdsa-p256", "--yes")
	})
	t.Run("a role that changed", func(t *testing.T) {
		ana, ben := ana.with(t), ben.with(t)
		out := ben.must("authority", "create", "quays", "--under", "root", "--key", "ecdsa-p256", "--yes")
		name := strings.TrimSuffix(strings.Fields(out[strings.Index(out, "proposed: P"):])[1], ",")
		ana.must("approve", name, "--yes")
		agree(t, "operator", "add", "ben", "--key", "../ben.pub", "--role", "clerk", "--yes")
		ana.denied("1 of 2 agree", "proposal", "complete", name)
	})
	p.must("journal", "verify")
	p.must("estate", "check")
}

// The story of a team ends well, and what it shows is so.
func TestTheStoryOfATeam(t *testing.T) {
	t.Parallel()
	p := place{t: t, dir: t.TempDir()}
	r := p.run("", "demo", "play", "--story", "team")
	if r.code != 0 {
		t.Fatalf("%+v", r)
	}
	out := r.out + r.errors
	for _, want := range []string{"From now on every act is signed", "is for the role administrator, and not",
		"✓ proposed: P1", "✓ approved: P1", "✓ made services (g2)", "✓ shared: the key of root", "Missing: cleo, " +
			"dag, eve",
		"signed by operators, each in a role that allows it", "✓ No faults"} {
		if !strings.Contains(out, want) {
			t.Errorf("the story does not show %q", want)
		}
	}
}
