package main

import (
	"bytes"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/internal/disk"
	"ironseal/pki/bundle"
	"ironseal/pki/pbes"
	"ironseal/pki/request"
	"ironseal/pki/specimen"
)

// refused runs a command that must be refused, saying word, and must change
// nothing on record.
func (p place) refused(code int, word string, args ...string) {
	p.t.Helper()
	before := p.must("journal", "verify")
	r := p.run("", args...)
	if text := strings.Join(strings.Fields(r.out+r.errors), " "); r.code != code || !strings.Contains(text, word) {
		p.t.Errorf("ironseal %s: exit status %d, want %d, saying %q\n%s%s", strings.Join(args, " "), r.code, code, word,
			r.out, r.errors)
	}
	if after := p.must("journal", "verify"); after != before {
		p.t.Errorf("ironseal %s: it was refused, and changed the records", strings.Join(args, " "))
	}
}

func (p place) exists(name string) bool {
	_, err := os.Lstat(filepath.Join(p.dir, name))
	return err == nil
}

func (p place) read(name string) []byte {
	p.t.Helper()
	data, err := os.ReadFile(filepath.Join(p.dir, name))
	if err != nil {
		p.t.Fatal(err)
	}
	return data
}

// A root that is never on the network, and an estate that signs every day: made,
// renewed twice, a batch of leaves signed, with nothing but files carried.
func TestOfflineRootAndOnlineEstate(t *testing.T) {
	t.Parallel()
	safe, online := empty(t), empty(t)
	stick := t.TempDir()
	carry := func(name string) string { return filepath.Join(stick, name) }
	safe.must("authority", "create", "root", "--key", "ecdsa-p384", "--yes")
	safe.must("authority", "export", "root", "--out", carry("root.pem"))
	walk := func(n int, more ...string) {
		online.must(append([]string{"authority", "apply", "services", "--parent", "offline-root", "--key", "ecdsa-p256",
			"--out", carry(fmt.Sprintf("request-%d.pem", n))}, more...)...)
		if !strings.Contains(online.must("estate", "status"), "services") {
			t.Error("the status does not show that services is sent")
		}
		there, back := carry(fmt.Sprintf("there-%d", n)), carry(fmt.Sprintf("back-%d", n))
		online.must("transfer", "pack", there, "--authority", "services", "--template", "intermediate-authority")
		safe.must("transfer", "open", there, "--yes")
		safe.must("sign", fmt.Sprintf("R%d", n), "--template", "intermediate-authority", "--yes")
		safe.must("transfer", "answer", there, "--out", back)
		if n == 1 {
			online.refused(3, "anchor-unknown", "transfer", "open", back, "--yes")
		}
		online.must("transfer", "open", back, "--anchor", carry("root.pem"), "--yes")
		online.refused(1, "imported already", "transfer", "open", back, "--anchor", carry("root.pem"), "--yes")
	}
	walk(1)
	walk(2)
	// The root is renewed as well, with a new key; the next renewal comes from it.
	safe.must("authority", "renew", "root", "--key", "ecdsa-p384", "--yes")
	safe.must("authority", "export", "root", "--out", carry("root.pem"), "--yes")
	online.must("authority", "adopt", "offline-root", carry("root.pem"), "--anchor", carry("root.pem"), "--yes")
	walk(3)
	var rows []struct{ Handle, State string }
	if err := json.Unmarshal([]byte(online.must("authority", "list", "--json")), &rows); err != nil || len(rows) != 5 {
		t.Errorf("2 generations of the root and 3 of services: %+v %v", rows, err)
	}
	online.refused(1, "its key is not in this estate", "authority", "renew", "offline-root", "--yes")
	online.refused(3, "key-elsewhere", "sign", online.send("x.ternbay.example", []string{"x.ternbay.example"}),
		"--template", "intermediate-authority", "--by", "offline-root", "--yes")
	leaf := online.send("a.ternbay.example", []string{"a.ternbay.example"})
	online.must("sign", leaf, "--template", "web-server", "--yes")
	online.must("certificate", "export", leaf, "--with", "issuers", "--out", carry("chain.pem"))
	online.must("verify", carry("chain.pem"), "--anchor", carry("root.pem"), "--name", "a.ternbay.example")

	// A batch of leaves: reviewed online, signed offline, carried back.
	safe.must("authority", "create", "vault", "--under", "root", "--key", "ecdsa-p256", "--yes")
	for i := range 5 {
		host := fmt.Sprintf("v%d.ternbay.example", i)
		online.send(host, []string{host})
	}
	online.must("transfer", "pack", carry("batch"), "R3", "R4", "R5", "R6", "R7", "--template", "web-server")
	online.refused(1, "R3 is sent", "sign", "R3", "--template", "web-server", "--yes")
	safe.must("transfer", "open", carry("batch"), "--yes")
	safe.must("sign", "--all", "--template", "web-server", "--by", "vault", "--yes")
	safe.must("transfer", "answer", carry("batch"), "--out", carry("batch-back"))
	online.must("transfer", "open", carry("batch-back"), "--yes")
	online.must("certificate", "export", "v3.ternbay.example", "--with", "issuers", "--out", carry("v3.pem"))
	online.must("verify", carry("v3.pem"), "--anchor", carry("root.pem"), "--name", "v3.ternbay.example")
	for _, p := range []place{safe, online} {
		p.must("estate", "check")
		p.must("forecast", "--horizon", "30y")
	}
}

func TestATransferChangedByAByte(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	n := p.send("a.ternbay.example", []string{"a.ternbay.example"})
	p.must("transfer", "pack", "../stick", n)
	other := empty(t)
	files, err := filepath.Glob(filepath.Join(p.dir, "../stick/*"))
	if err != nil || len(files) != 4 {
		t.Fatal(files, err)
	}
	for _, f := range files {
		good, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		for _, at := range []int{0, len(good) / 2, len(good) - 2} {
			bad := bytes.Clone(good)
			bad[at] ^= 1
			if err := os.WriteFile(f, bad, 0o644); err != nil {
				t.Fatal(err)
			}
			other.refused(1, "transfer", "transfer", "open", filepath.Join(p.dir, "../stick"), "--yes")
		}
		if err := os.WriteFile(f, good, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	p.file("../stick/extra.pem", []byte("x"))
	other.refused(1, "was added on the way", "transfer", "open", filepath.Join(p.dir, "../stick"), "--yes")
	if err := os.Remove(filepath.Join(p.dir, "../stick/extra.pem")); err != nil {
		t.Fatal(err)
	}
	other.must("transfer", "open", filepath.Join(p.dir, "../stick"), "--yes")
	other.refused(1, "imported already", "transfer", "open", filepath.Join(p.dir, "../stick"), "--yes")
}

// Answers of a parent elsewhere that do not fit are refused, each for its reason.
func TestAnswersThatDoNotFit(t *testing.T) {
	t.Parallel()
	p := empty(t)
	p.must("authority", "apply", "services", "--key", "ecdsa-p256", "--out", "../request.pem")
	p.refused(1, "is there already", "authority", "apply", "gates", "--key", "ecdsa-p256", "--out", "../request.pem")
	p.refused(1, "is sent already", "authority", "apply", "services", "--out", "../other.pem")
	p.must("authority", "apply", "services", "--again", "--out", "../once-more.pem")
	if !bytes.Equal(p.read("../request.pem"), p.read("../once-more.pem")) {
		t.Error("it is another request")
	}
	c, err := bundle.Read(p.read("../request.pem"))
	if err != nil {
		t.Fatal(err)
	}
	r, err := request.Read(c.Objects[0].DER)
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now()
	year := specimen.Plan{From: now.Add(-time.Hour), Until: now.AddDate(20, 0, 0), Authority: true}
	rootPlan := year
	rootPlan.Subject = "CN=Outside Root"
	root, stranger := specimen.Make(t, nil, rootPlan), specimen.Make(t, nil, rootPlan)
	answer := func(name string, by *specimen.Entity, change func(*specimen.Plan)) string {
		plan := year
		plan.Subject, plan.Until, plan.Public = r.Subject.String(), now.AddDate(9, 0, 0), &r.Key
		change(&plan)
		p.file("../"+name+".pem", append(bundle.PEM(bundle.Certificate, specimen.Make(t, by, plan).Cert.Raw),
			bundle.PEM(bundle.Certificate, by.Cert.Raw)...))
		return "../" + name + ".pem"
	}
	p.file("../root.pem", bundle.PEM(bundle.Certificate, root.Cert.Raw))
	same := func(*specimen.Plan) {}
	for _, c := range []struct{ what, code, file string }{
		{"another key", "answer-for-another-key", answer("key", root, func(s *specimen.Plan) { s.Public = nil })},
		{"another subject", "answer-for-another-subject",
			answer("subject", root, func(s *specimen.Plan) { s.Subject = "CN=Somebody Else" })},
		{"too short", "answer-too-short", answer("short", root,
			func(s *specimen.Plan) { s.Until = now.AddDate(0, 3, 0) })},
		{"not an authority", "answer-not-an-authority",
			answer("leaf", root, func(s *specimen.Plan) { s.Authority = false })},
		{"an unknown root", "anchor-unknown", answer("stranger", stranger, same)},
	} {
		t.Run(c.what, func(t *testing.T) {
			p := p.with(t)
			p.refused(3, c.code, "authority", "import", "services", c.file, "--anchor", "../root.pem", "--yes")
		})
	}
	p.refused(3, "anchor-unknown", "authority", "import", "services", answer("good", root, same), "--yes")
	p.must("authority", "import", "services", "../good.pem", "--anchor", "../root.pem", "--yes")
	p.refused(1, "no request of it is sent", "authority", "import", "services", "../good.pem", "--yes")
	n := p.send("a.ternbay.example", []string{"a.ternbay.example"})
	p.must("sign", n, "--template", "web-server", "--yes")
	p.must("certificate", "export", n, "--with", "root", "--out", "../chain.pem")
	p.must("verify", "../chain.pem", "--name", "a.ternbay.example")
	// PKCS#7 and DER answers, to a renewal.
	p.must("authority", "apply", "services", "--same-key", "--out", "../again.pem")
	p.must("convert", answer("later", root, func(s *specimen.Plan) { s.Until = now.AddDate(12, 0, 0) }), "--to", "p7b",
		"--out", "../later.p7b")
	p.must("authority", "import", "services", "../later.p7b", "--yes")
	if out := p.must("authority", "list"); !strings.Contains(out, "services g2") {
		t.Error(out)
	}
}

// A cascade that was interrupted goes on where it stopped.
func TestCascadeResumes(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("authority", "create", "ships", "--under", "root", "--key", "ecdsa-p256", "--yes")
	bad := p.file("../wrong", []byte("another passphrase\n"))
	r := p.run("", "authority", "renew", "root", "--cascade", "--yes", "--passphrase-file", "services="+bad,
		"--passphrase-file", strings.TrimPrefix(p.env[0], "IRONSEAL_PASSPHRASE_FILE="))
	if r.code != 0 { // a new key takes any passphrase: nothing is interrupted
		t.Fatal(r.errors)
	}
	r = p.run("", "authority", "renew", "root", "--cascade", "--yes", "--passphrase-file", "services="+bad+"x",
		"--passphrase-file", strings.TrimPrefix(p.env[0], "IRONSEAL_PASSPHRASE_FILE="))
	if r.code == 0 || !strings.Contains(r.errors, "continue: ironseal authority renew root --cascade") {
		t.Fatalf("%d %s%s", r.code, r.out, r.errors)
	}
	tree := p.must("authority", "list")
	if !strings.Contains(tree, "root g3") || strings.Contains(tree, "services g3") {
		t.Error(tree)
	}
	out := p.must("authority", "renew", "root", "--cascade", "--yes")
	if !strings.Contains(out, "was renewed already") {
		t.Error(out)
	}
	tree = p.must("authority", "list")
	if strings.Contains(tree, "root g4") || !strings.Contains(tree, "services g3") ||
		!strings.Contains(tree, "ships g3") {
		t.Error(tree)
	}
	p.must("estate", "check")
}

// Every leaf says which generation signed it, and its chain is built with the
// right one.
func TestChainsUseTheGenerationThatSigned(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	before := p.send("a.ternbay.example", []string{"a.ternbay.example"})
	p.must("sign", before, "--template", "web-server", "--yes")
	p.must("authority", "renew", "services", "--key", "rsa-3072", "--yes")
	after := p.send("b.ternbay.example", []string{"b.ternbay.example"})
	p.must("sign", after, "--template", "web-server", "--yes")
	p.must("authority", "export", "root", "--out", "../root.pem")
	for n, by := range map[string]string{before: "services.g1", after: "services.g2"} {
		p.must("certificate", "export", n, "--with", "issuers", "--out", "../"+n+".pem")
		p.must("verify", "../"+n+".pem", "--anchor", "../root.pem")
		if out := p.must("certificate", "list", "--state", "any"); !strings.Contains(out, by) {
			t.Errorf("%s is not shown\n%s", by, out)
		}
	}
	// The same key: the chains that were handed out go on holding under either certificate.
	p.must("authority", "export", "root", "--out", "../old.pem")
	p.must("authority", "renew", "root", "--same-key", "--lifetime", "25y", "--yes")
	p.must("authority", "export", "root", "--out", "../new.pem")
	for _, anchor := range []string{"../old.pem", "../new.pem"} {
		p.must("verify", "../"+before+".pem", "--anchor", anchor, "--name", "a.ternbay.example")
	}
}

func TestRenewalsThatAreRefused(t *testing.T) {
	t.Parallel()
	p := empty(t)
	p.must("estate", "rehearse", "../play", "--blank", "--organisation", "Tern Bay Ferries", "--as-of", "2016-01-01")
	play := place{t: t, dir: filepath.Join(p.dir, "../play")}
	play.must("authority", "create", "root", "--lifetime", "12y", "--key", "ecdsa-p256", "--yes", "--as-of",
		"2016-01-01")
	play.must("authority", "create", "services", "--under", "root", "--lifetime", "4y", "--key", "ecdsa-p256", "--yes",
		"--as-of", "2016-01-01")
	at := func(day string, args ...string) []string { return append(args, "--yes", "--as-of", day) }
	play.refused(3, "parent-ends-soon", at("2026-06-01", "authority", "renew", "services")...)
	play.refused(3, "renewal-without-gain", at("2016-02-01", "authority", "renew", "services", "--lifetime", "2y")...)
	play.refused(1, "ends before it", at("2016-02-01", "authority", "renew", "services", "--switch-day",
		"2021-01-01")...)
	play.refused(1, "it has passed", at("2016-02-01", "authority", "renew", "services", "--switch-day",
		"2016-01-15")...)
	play.refused(2, "not a key kind", at("2016-02-01", "authority", "renew", "services", "--same-key", "--key",
		"rsa-9")...)
	play.refused(1, "the kind of key cannot change",
		at("2016-02-01", "authority", "renew", "services", "--same-key", "--key", "rsa-2048")...)
	play.must(at("2016-03-01", "authority", "renew", "services", "--lifetime", "5y")...)
	// A clock that went backwards.
	play.refused(3, "clock-behind-records", at("2016-02-01", "authority", "renew", "services", "--lifetime", "8y")...)
	play.refused(1, "services is still below it", "authority", "retire", "root", "--because", "x", "--yes",
		"--as-of", "2016-04-01")
	play.must("authority", "retire", "services", "--because", "its work is done", "--yes", "--as-of", "2016-04-01")
	play.refused(1, "it was retired", at("2016-05-01", "authority", "renew", "services")...)
	play.must("authority", "retire", "services", "--because", "over", "--destroy-key", "--yes", "--as-of", "2030-01-01")
	if keys, _ := filepath.Glob(filepath.Join(play.dir, "keys", "*")); len(keys) != 1 {
		t.Errorf("%d keys are left", len(keys))
	}
	play.must("estate", "check", "--as-of", "2030-01-02")
	// What a rehearsal made is refused by a real estate; its clock moves there only.
	play.must("authority", "export", "root", "--out", "../root.pem", "--as-of", "2030-01-02")
	p.refused(3, "made-in-a-rehearsal", "authority", "adopt", "foreign", "../root.pem", "--yes")
	p.refused(2, "only for commands that read, and in rehearsals", "authority", "create", "x", "--yes", "--as-of",
		"2030-01-01")
	if r := play.run("", "estate", "status"); !strings.Contains(r.errors, "REHEARSAL") {
		t.Error("a rehearsal must say that it is one")
	}
}

func TestRehearsalIsACopyWithOtherKeys(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("authority", "renew", "root", "--cascade", "--yes")
	p.must("estate", "rehearse", "../play")
	play := place{t: t, dir: filepath.Join(p.dir, "../play")}
	type row struct{ Handle, Not_before, Not_after, Key string }
	rows := func(p place) (out []row) {
		if err := json.Unmarshal([]byte(p.must("authority", "list", "--json")), &out); err != nil {
			t.Fatal(err)
		}
		return out
	}
	if a, b := fmt.Sprint(rows(p)), fmt.Sprint(rows(play)); a != b {
		t.Errorf("the copy has other authorities or dates:\n%s\n%s", a, b)
	}
	if p.must("authority", "show", "root", "--field", "key_sha256") == play.must("authority", "show", "root", "--field",
		"key_sha256") {
		t.Error("a rehearsal must not have the real keys")
	}
	play.must("authority", "renew", "root", "--cascade", "--yes", "--as-of", "2040-01-01")
	play.must("estate", "check", "--as-of", "2040-01-02")
}

// A backup that was taken while certificates are signed is one consistent state.
func TestBackupDuringBulkSigning(t *testing.T) {
	long(t)
	t.Parallel()
	p := harbour(t)
	p.file("../requests.pem", bulkRequests(t, 3000))
	p.must("request", "receive", "../requests.pem", "--json")
	cmd := exec.Command(program, "sign", "--all", "--template", "web-server", "--yes")
	cmd.Dir, cmd.Env = p.dir, append(os.Environ(), p.env...)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var during []string
	for i := 0; i < 4; i++ {
		time.Sleep(60 * time.Millisecond)
		file := fmt.Sprintf("../backup-%d", i)
		p.must("estate", "backup", file)
		during = append(during, file)
	}
	if err := cmd.Wait(); err != nil {
		t.Fatal(err)
	}
	var list struct {
		Next map[string]int64 `json:"next_list_number"`
	}
	number := func(p place) map[string]int64 {
		if err := json.Unmarshal([]byte(p.must("estate", "check", "--json")), &list); err != nil {
			t.Fatal(err)
		}
		return list.Next
	}
	before := number(p)["services"]
	for i, file := range during {
		to := fmt.Sprintf("../restored-%d", i)
		var b struct {
			Head string `json:"journal_head"`
			Next string `json:"next_request"`
		}
		if err := json.Unmarshal([]byte(p.must("estate", "restore", file, to, "--json")), &b); err != nil {
			t.Fatal(err)
		}
		r := place{t: t, dir: filepath.Join(p.dir, to), env: p.env}
		r.must("journal", "verify", "--against", b.Head)
		time.Sleep(1100 * time.Millisecond / 4)
		if after := number(r)["services"]; after < before {
			t.Errorf("the next list number is %d, and was %d", after, before)
		}
		if b.Next != "R4001" {
			t.Errorf("request numbers go on at %s", b.Next)
		}
	}
	// What was issued after the backup is imported again from its file.
	p.must("certificate", "export", "R3000", "--out", "../late.pem")
	r := place{t: t, dir: filepath.Join(p.dir, "../restored-0"), env: p.env}
	if out := r.run("", "certificate", "show", "h2999.ternbay.example"); out.code == 0 {
		t.Log("the first backup has everything already")
	} else {
		r.must("certificate", "import", "../late.pem", "--yes")
		r.must("certificate", "show", "h2999.ternbay.example")
	}
	r.must("estate", "check")
}

func TestBackupsThatAreRefused(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("estate", "backup", "../old")
	p.refused(1, "the file is there already", "estate", "backup", "../old")
	p.must("authority", "create", "more", "--under", "root", "--key", "ecdsa-p256", "--yes")
	p.refused(1, "older than what is there", "estate", "restore", "../old", ".")
	other := another(t)
	other.refused(1, "another estate", "estate", "restore", filepath.Join(p.dir, "../old"), ".")
	data := p.read("../old")
	for what, bad := range map[string][]byte{"cut short": data[:len(data)-200], "half": data[:len(data)/2],
		"noise": []byte("noise"), "empty": nil,
		"a byte": func() []byte { b := bytes.Clone(data); b[len(b)/2] ^= 1; return b }()} {
		t.Run(what, func(t *testing.T) {
			p := p.with(t)
			p.file("../bad", bad)
			r := p.run("", "estate", "restore", "../bad", "../never")
			if _, err := os.Stat(filepath.Join(p.dir, "../never")); r.code != 1 || err == nil {
				t.Errorf("%s: exit status %d, %v\n%s", what, r.code, err, r.errors)
			}
		})
	}
	p.must("estate", "restore", "../old", "../new")
}

// Faults of every kind are found and named, each with its remedy.
func TestCheckNamesEveryFault(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.must("estate", "check")
	keys, err := filepath.Glob(filepath.Join(p.dir, "keys", "*"))
	if err != nil || len(keys) != 2 {
		t.Fatal(err)
	}
	data, err := os.ReadFile(keys[0])
	if err != nil {
		t.Fatal(err)
	}
	orphan := "keys/" + strings.Repeat("0", 64) + ".key"
	p.file(orphan, data)
	if r := p.run("", "estate", "check"); r.code != 0 { // another program may be about to record it
		t.Errorf("a key that was just written is called a fault: %s", r.out)
	}
	long := time.Now().Add(-2 * time.Hour)
	if err := os.Chtimes(filepath.Join(p.dir, orphan), long, long); err != nil {
		t.Fatal(err)
	}
	p.file("templates/broken.toml", []byte("title = 3"))
	if err := os.Remove(keys[1]); err != nil {
		t.Fatal(err)
	}
	expose(t, keys[0])
	r := p.run("", "estate", "check")
	text := strings.Join(strings.Fields(r.out), " ")
	for _, want := range []string{"its key file is missing", "no record names this key", "others may read it", "broken",
		strings.Fields(disk.Closing("x"))[0], "keep the file", "4 faults"} {
		if r.code != 4 || !strings.Contains(text, want) {
			t.Errorf("exit status %d; %q is not said:\n%s", r.code, want, r.out)
		}
	}
	if strings.Contains(text, "delete") || strings.Contains(text, "serves nothing") {
		t.Errorf("advice that destroys:\n%s", r.out)
	}
	// Nothing is moved while anything else is wrong; then it is, and kept.
	if p.run("", "estate", "check", "--move-aside"); !p.exists(orphan) {
		t.Error("a key was moved while records could not be judged")
	}
}

// A key that nothing names is moved aside on request, and goes along in a backup.
func TestKeysAreMovedAsideAndKept(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	keys, err := filepath.Glob(filepath.Join(p.dir, "keys", "*"))
	if err != nil {
		t.Fatal(err)
	}
	name := strings.Repeat("0", 64) + ".key"
	data, err := os.ReadFile(keys[0])
	if err != nil {
		t.Fatal(err)
	}
	p.file("keys/"+name, data)
	long := time.Now().Add(-2 * time.Hour)
	if err := os.Chtimes(filepath.Join(p.dir, "keys", name), long, long); err != nil {
		t.Fatal(err)
	}
	if out := p.must("estate", "check", "--move-aside"); !strings.Contains(out, "moved: aside/"+name) ||
		p.exists("keys/"+name) {
		t.Error(out)
	}
	p.must("estate", "check")
	p.must("estate", "backup", "../kept")
	p.must("estate", "restore", "../kept", "../again")
	if got, err := os.ReadFile(filepath.Join(p.dir, "../again/aside", name)); err != nil || !bytes.Equal(got, data) {
		t.Errorf("the key is not in the backup: %v", err)
	}
}

func TestCertificatesAreRenewedAndReplaced(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	n := p.send("a.ternbay.example", []string{"a.ternbay.example", "old.ternbay.example"})
	p.must("sign", n, "--template", "web-server", "--lifetime", "30d", "--add-name", "extra.ternbay.example",
		"--drop-name", "old.ternbay.example", "--yes")
	p.must("certificate", "handover", n, "--for", "nginx", "--to", "quay office", "--out", "..")
	due := p.run("", "due", "--alarm", "--ics", "../due.ics")
	if due.code != 5 || !strings.Contains(strings.Join(strings.Fields(due.out), " "), "quay office") ||
		!bytes.Contains(p.read("../due.ics"), []byte("SUMMARY:a.ternbay.example: ends")) {
		t.Errorf("%d %s", due.code, due.out)
	}
	p.file("templates/web-server.toml", bytes.Replace(p.read("templates/web-server.toml"), []byte(`"397d"`),
		[]byte(`"200d"`), 1))
	out := p.must("certificate", "renew", "a.ternbay.example", "--yes")
	for _, want := range []string{"added at signing", "dropped at signing", "held by", "quay office", "template now",
		"200 days"} {
		if !strings.Contains(strings.Join(strings.Fields(out), " "), want) {
			t.Errorf("the sheet does not say %q\n%s", want, out)
		}
	}
	p.refused(1, "was replaced already", "certificate", "renew", serialOf(p, "replaced"), "--yes")
	if r := p.run("", "due", "--alarm"); r.code != 0 {
		t.Errorf("what was replaced is no longer due: %s", r.out)
	}
	// A new request in the place of the old one.
	again := p.send("a.ternbay.example", []string{"a.ternbay.example"})
	p.must("certificate", "renew", "a.ternbay.example", "--request", again, "--yes")
	shown := p.must("certificate", "show", again)
	if !strings.Contains(shown, "extra.ternbay.example") {
		t.Errorf("the names of before are kept:\n%s", shown)
	}
	if out := p.must("certificate", "renew", "--due", "--within", "300d", "--yes"); !strings.Contains(out,
		"1 signed, 0 not") {
		t.Error(out)
	}
}

// serialOf gives the serial of the one certificate in a state.
func serialOf(p place, state string) string {
	var rows []struct{ Serial, State string }
	if err := json.Unmarshal([]byte(p.must("certificate", "list", "--json", "--state", "any")), &rows); err != nil {
		p.t.Fatal(err)
	}
	for _, r := range rows {
		if r.State == state {
			return r.Serial
		}
	}
	p.t.Fatalf("no certificate is %s", state)
	return ""
}

func TestChangeOverWaitsForItsDay(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	for _, host := range []string{"a.ternbay.example", "b.ternbay.example"} {
		p.must("sign", p.send(host, []string{host}), "--template", "web-server", "--yes")
	}
	p.must("authority", "create", "newroot", "--subject", "CN=Another Root,O=Tern Bay Ferries", "--key", "ecdsa-p256",
		"--yes")
	day := time.Now().AddDate(0, 2, 0).Format("2006-01-02")
	p.must("authority", "renew", "services", "--under", "newroot", "--switch-day", day, "--yes")
	p.refused(1, "waits for its switch day", "authority", "renew", "services", "--yes")
	// Meanwhile the old one serves.
	n := p.send("c.ternbay.example", []string{"c.ternbay.example"})
	if out := p.must("sign", n, "--template", "web-server", "--yes"); !strings.Contains(out, "services (g1)") {
		t.Error(out)
	}
	if out := p.must("changeover", "prepare", "services", "--yes"); !strings.Contains(out, "3 signed, 0 not") {
		t.Error(out)
	}
	p.refused(1, "waits unused", "certificate", "export", serialOf(p, "prepared"), "--out", "-")
	if out := p.must("changeover", "progress", "services"); !strings.Contains(out, "3 of 3") {
		t.Error(out)
	}
	p.refused(1, "wait for it", "changeover", "switch", "services", "--yes")
	p.must("changeover", "switch", "services", "--early", "--yes")
	p.must("authority", "export", "newroot", "--out", "../newroot.pem")
	p.must("certificate", "export", "a.ternbay.example", "--with", "issuers", "--out", "../a.pem")
	p.must("verify", "../a.pem", "--anchor", "../newroot.pem", "--name", "a.ternbay.example")
	p.must("changeover", "back", "services", "--switch-day", day, "--yes")
	if out := p.must("sign", p.send("d.ternbay.example", []string{"d.ternbay.example"}), "--template", "web-server",
		"--yes"); !strings.Contains(out, "services (g1)") {
		t.Error(out)
	}
	p.must("estate", "check")
}

// An authority that exists elsewhere is adopted with its key and what it issued.
func TestAdoptingAnAuthority(t *testing.T) {
	t.Parallel()
	p := empty(t)
	now := time.Now()
	plan := specimen.Plan{Subject: "CN=Old Harbour Root", Authority: true, From: now.AddDate(-5, 0, 0),
		Until: now.AddDate(15, 0, 0)}
	root := specimen.Make(t, nil, plan)
	leaf := specimen.Make(t, root, specimen.Plan{Subject: "CN=old.ternbay.example",
		Names: []string{"old.ternbay.example"}, From: now.AddDate(0, -1, 0), Until: now.AddDate(0, 1, 0)})
	foreign := specimen.Make(t, nil, specimen.Plan{Subject: "CN=foreign", Until: now.AddDate(1, 0, 0)})
	encrypted, err := pbes.Encrypt(root.Signer, []byte("tern and gull"), pbes.Work{Memory: 8 << 20}, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	p.file("../root.pem", bundle.PEM(bundle.Certificate, root.Cert.Raw))
	p.file("../root.key", bundle.PEM(bundle.EncryptedKey, encrypted))
	p.file("../issued.pem", append(bundle.PEM(bundle.Certificate, leaf.Cert.Raw),
		bundle.PEM(bundle.Certificate, foreign.Cert.Raw)...))
	p.file("../leaf.pem", bundle.PEM(bundle.Certificate, leaf.Cert.Raw))
	p.refused(3, "not-an-authority", "authority", "adopt", "harbour", "../leaf.pem", "--anchor", "../root.pem", "--yes")
	parent, err := x509.ParseCertificate(root.Cert.Raw)
	if err != nil {
		t.Fatal(err)
	}
	list, err := x509.CreateRevocationList(rand.Reader,
		&x509.RevocationList{Number: big.NewInt(1 << 40), ThisUpdate: now, NextUpdate: now.AddDate(0, 0, 7),
			RevokedCertificateEntries: []x509.RevocationListEntry{{SerialNumber: leaf.Cert.Serial.Big(),
				RevocationTime: now, ReasonCode: 1}}}, parent, root.Signer)
	if err != nil {
		t.Fatal(err)
	}
	p.file("../list.der", list)
	out := p.must("authority", "adopt", "harbour", "../root.pem", "--key", "../root.key", "--issued", "../issued.pem",
		"--revoked", "../list.der", "--yes")
	if !strings.Contains(p.must("certificate", "list", "--state", "any"), "revoked") ||
		!strings.Contains(p.must("estate", "check", "--json"), "1099511627777") {
		t.Error("what it revoked, and the number of its list, are not on record")
	}
	if !strings.Contains(out, "issued 1 of the 2") || !strings.Contains(out, "its key is here") {
		t.Error(out)
	}
	p.refused(1, "on record already", "authority", "adopt", "harbour", "../root.pem", "--yes")
	p.must("certificate", "show", "old.ternbay.example")
	p.must("authority", "create", "services", "--under", "harbour", "--key", "ecdsa-p256", "--yes")
	p.must("authority", "renew", "harbour", "--yes")
	p.must("estate", "check")
	if out := p.must("journal", "list", "--json"); !strings.Contains(out, "what else it issued and revoked") {
		t.Error("the record must say what is not known")
	}
}

// A retirement is undone while nothing stands against it.
func TestARetirementIsUndone(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	r := p.send("pier.ternbay.example", []string{"pier.ternbay.example"})
	p.refused(1, "it is not retired", "authority", "retire", "services", "--undo", "--because", "x", "--yes")
	p.must("authority", "retire", "services", "--because", "its work went to another", "--yes")
	if r := p.run("", "sign", r, "--template", "web-server", "--yes"); r.code == 0 || strings.Contains(r.errors,
		"create services") {
		t.Errorf("%+v", r)
	}
	p.must("authority", "retire", "services", "--undo", "--because", "it is needed after all", "--yes")
	p.must("sign", r, "--template", "web-server", "--by", "services", "--yes")
	p.must("estate", "check")
}
