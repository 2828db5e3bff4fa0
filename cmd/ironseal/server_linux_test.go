package main

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"ironseal/internal/store/onserver"
)

// joined is the directory of a second machine for the records of a place. It has the sealed keys too.
func joined(t *testing.T, p place, url string) place {
	t.Helper()
	top := t.TempDir()
	second := place{t: t, dir: top, env: p.env}
	second.must("estate", "join", "second", "--records", url)
	second.dir = filepath.Join(top, "second")
	keys, err := filepath.Glob(filepath.Join(p.dir, "keys", "*"))
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range keys {
		data, err := os.ReadFile(k)
		if err == nil {
			err = os.WriteFile(filepath.Join(second.dir, "keys", filepath.Base(k)), data, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	return second
}

// Records go from a file to a server and back, are the same at both ends, and nobody goes on where they were.
func TestRecordsAreMoved(t *testing.T) {
	t.Parallel()
	url := onserver.URL(t)
	p := another(t)
	onserver.FilesOnly(t)
	p.send("booking.ternbay.example", []string{"booking.ternbay.example"})
	before := p.must("journal", "list", "--count", "3", "--json")
	out := p.must("estate", "move", "--to", url)
	if !strings.Contains(out, "records.db.moved-1") || strings.Contains(before, "move records") {
		t.Errorf("%s", out)
	}
	p.must("estate", "check")
	p.must("journal", "verify", "--against", headIn(t, out))
	second := joined(t, p, url)
	second.must("sign", "R1", "--template", "web-server", "--by", "services", "--yes")
	second.must("revocations", "publish", "--to", "../public")
	second.must("estate", "check")
	if got := p.must("certificate", "list", "--quiet"); strings.TrimSpace(got) == "" {
		t.Error("what the second machine signed is not seen at the first")
	}

	t.Run("files that differ", func(t *testing.T) {
		text, err := os.ReadFile(filepath.Join(p.dir, "templates", "web-server.toml"))
		if err != nil {
			t.Fatal(err)
		}
		p.file("templates/web-server.toml", append(text, []byte("\n# a note\n")...))
		if r := p.run("", "request", "draft", "a.ternbay.example", "--out", ".."); r.code != 1 || !strings.
			Contains(r.errors,
				"templates/web-server.toml") || !strings.Contains(r.errors, "estate files update") {
			t.Errorf("%+v", r)
		}
		p.must("request", "list")
		if r := p.run("", "estate", "files", "record", "--yes"); r.code != 0 || !strings.Contains(r.errors,
			"+ # a note") {
			t.Errorf("%+v", r)
		}
		if r := second.run("", "request", "draft", "a.ternbay.example", "--out", ".."); r.code != 1 {
			t.Errorf("%+v", r)
		}
		second.must("estate", "files", "update", "--yes")
		second.must("request", "draft", "a.ternbay.example", "--out", "..")
	})
	t.Run("files that acts write", func(t *testing.T) {
		for i, args := range []string{"template copy web-server quay", "template allow quay root", "receiver copy " +
			"nginx proxy",
			"trust create partners --title x", "trust add partners root --yes", "trust drop partners root --yes"} {
			p.must(strings.Fields(args)...)
			p.must("estate", "files", "list")
			second.must("estate", "files", "update", "--yes")
			second.must("party", "add", fmt.Sprintf("machine-%d", i))
		}
	})
	t.Run("backup", func(t *testing.T) {
		second.must("estate", "backup", "../b") // it has the lists that it signed
		second.must("estate", "restore", "../b", "../again")
		second.must("estate", "check", "--estate", "../again")
	})
	t.Run("back to a file", func(t *testing.T) {
		p.must("revocations", "publish", "--to", "../public") // the other machine has the lists that it signed
		p.must("estate", "move", "--to", "records.db")
		p.must("estate", "check")
		if r := second.run("", "estate", "status"); r.code != 1 || !strings.Contains(r.errors, "were moved to") {
			t.Errorf("%+v", r)
		}
		p.must("request", "draft", "b.ternbay.example", "--out", "..")
	})
}

var serialMember = regexp.MustCompile(`"serial": *"([0-9a-f]+)"`)

func serialIn(text string) string {
	if m := serialMember.FindStringSubmatch(text); m != nil {
		return m[1]
	}
	return "no serial in " + text
}

func headIn(t *testing.T, text string) string {
	t.Helper()
	i := strings.LastIndex(text, "journal J")
	if i < 0 {
		t.Fatalf("no head in %s", text)
	}
	return strings.Fields(text[i+len("journal "):])[0]
}

// An older copy of the database that takes the place of a newer one is told, and nothing goes on with it.
func TestAnOlderDatabaseIsTold(t *testing.T) {
	t.Parallel()
	onserver.FilesOnly(t)
	server := onserver.Start(t, 0)
	url := server.URL("harbour")
	p := another(t)
	p.must("estate", "move", "--to", url)
	second := joined(t, p, url)
	seen := headIn(t, second.must("estate", "status"))
	for name, edit := range map[string]string{
		"the end is cut off": "DELETE FROM derived; DELETE FROM journal WHERE seq = (SELECT max(seq) FROM journal)",
		"the end is rewritten": "UPDATE journal SET hash = decode(repeat('00', 32), 'hex') WHERE seq = (SELECT " +
			"max(seq) " +
			"FROM journal)",
		"another estate": "TRUNCATE journal CASCADE",
	} {
		t.Run(name, func(t *testing.T) {
			if out, err := server.Query("harbour", "CREATE SCHEMA kept; CREATE TABLE kept.journal AS SELECT * FROM "+
				"journal; "+
				"CREATE TABLE kept.derived AS SELECT * FROM derived; "+edit); err != nil {
				t.Fatalf("%v %s", err, out)
			}
			defer func() {
				out, err := server.Query("harbour", "TRUNCATE journal CASCADE; INSERT INTO journal SELECT * FROM "+
					"kept.journal; "+
					"INSERT INTO derived SELECT * FROM kept.derived; DROP SCHEMA kept CASCADE")
				if err != nil {
					t.Fatalf("%v %s", err, out)
				}
			}()
			for _, args := range []string{"request list", "revocations publish --to ../public",
				"request draft a.ternbay.example --out .."} {
				if r := second.run("", strings.Fields(args)...); r.code != 1 || !strings.Contains(r.errors,
					"estate check") ||
					!strings.Contains(r.errors, seen) {
					t.Errorf("%s: %+v", args, r)
				}
			}
			if r := second.run("", "estate", "check"); r.code != 4 {
				t.Errorf("%+v", r)
			}
		})
	}
	second.must("estate", "status")
}

// A primary that dies while commands sign and revoke: its standby is promoted, the commands go on by the address of
// both, and nothing that they said is lost.
func TestFailover(t *testing.T) {
	long(t)
	onserver.FilesOnly(t)
	primary := onserver.Start(t, 5433, "wal_level = replica", "max_wal_senders = 5", "hot_standby = on",
		"synchronous_commit = on", "synchronous_standby_names = '*'", "wal_receiver_status_interval = 1")
	standby, err := primary.Standby(5434)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(standby.Remove)
	url := fmt.Sprintf("postgresql://harbour@/postgres?host=%s,%s&port=%d,%d&search_path=harbour&target_session_attrs="+
		"read-write", primary.Dir, standby.Dir, primary.Port, standby.Port)
	p := another(t)
	for i := range 60 {
		host := fmt.Sprintf("h%d.ternbay.example", i)
		p.send(host, []string{host})
	}
	p.must("estate", "move", "--to", url)
	second := joined(t, p, url)

	var mu sync.Mutex
	said := map[string]bool{} // serials that a command printed
	var all sync.WaitGroup
	began := make(chan bool, 60)
	for w, at := range []place{p, second} {
		all.Go(func() {
			for i := w; i < 60; i += 2 {
				began <- true
				r, err := at.try("sign", fmt.Sprintf("R%d", i+1), "--template", "web-server", "--by", "services",
					"--yes",
					"--json")
				if err != nil || r.code != 0 {
					t.Errorf("R%d: %v %+v", i+1, err, r)
					return
				}
				mu.Lock()
				said[serialIn(r.out)] = true
				mu.Unlock()
			}
		})
	}
	for range 12 {
		<-began
	}
	begin := time.Now()
	primary.Kill()
	if err := standby.Tool("pg_ctl", "promote", "-w", "-D", standby.Data()); err != nil {
		t.Fatal(err)
	}
	// the new primary has no standby to wait for
	for _, text := range []string{"ALTER SYSTEM SET synchronous_standby_names = ''", "SELECT pg_reload_conf()"} {
		if out, err := standby.Query("harbour", text); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	all.Wait()
	t.Logf("the commands went on within %.1f s", time.Since(begin).Seconds())
	have := p.must("certificate", "list", "--json")
	for serial := range said {
		if !strings.Contains(have, serial) {
			t.Errorf("%s was shown, and is lost", serial)
		}
	}
	if len(said) != 60 {
		t.Errorf("%d certificates were shown", len(said))
	}
	second.must("estate", "check")
}

// What a role may not write the database refuses too, whatever program asks; an auditor who can only read verifies
// journal, approvals and records.
func TestTheDatabaseEnforcesRoles(t *testing.T) {
	t.Parallel()
	onserver.FilesOnly(t)
	server := onserver.Start(t, 0)
	url := server.URL("harbour")
	p, ana, ben, _, _ := crew(t)
	p.setting("trust-sets          = 0", "trust-sets          = 2")
	p.setting("operators           = 0", "operators           = 2")
	ana.must("trust", "create", "partners", "--yes")
	ben.must("approve", "P1", "--yes")
	ana.must("proposal", "complete", "P1")
	ana.must("estate", "move", "--to", url, "--yes")
	ben.must("approve", "P2", "--yes")
	ana.must("proposal", "complete", "P2")
	sql := ana.must("operator", "grants", "--prefix", "harbour")
	if out, err := server.Query("public", sql); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	for _, r := range []string{"auditor", "clerk", "signer", "administrator"} {
		if out, err := server.Query("public",
			"CREATE ROLE the_"+r+" LOGIN; GRANT harbour_"+r+" TO the_"+r); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	tables := strings.Fields(must2(t)(server.Query("harbour", "SELECT relname FROM pg_class WHERE relkind = 'r' AND "+
		"relnamespace = 'harbour'::regnamespace")))
	if len(tables) < 20 {
		t.Fatalf("%v", tables)
	}
	as := func(role, text string) error {
		_, err := server.Query("harbour", "SET ROLE the_"+role+"; "+text)
		return err
	}
	for _, table := range tables {
		for _, text := range []string{"DELETE FROM %s", "TRUNCATE %s CASCADE", "ALTER TABLE %s ADD COLUMN x TEXT",
			"DROP TABLE " +
				"%s CASCADE", "CREATE TRIGGER x BEFORE INSERT ON %s EXECUTE FUNCTION " +
				"suppress_redundant_updates_trigger()",
			"INSERT INTO %s SELECT * FROM %[1]s", "LOCK TABLE %s IN EXCLUSIVE MODE", "COPY %s FROM '/dev/null'",
			"ALTER TABLE %s OWNER TO the_auditor"} {
			if err := as("auditor", fmt.Sprintf(text, table)); err == nil {
				t.Errorf("an auditor may: "+text, table)
			}
		}
		if err := as("auditor", "SELECT count(*) FROM "+table); (err == nil) != (table != "sealed") {
			t.Errorf("an auditor reads all but sealed keys: %s: %v", table, err)
		}
	}
	for _, role := range []string{"clerk", "signer", "administrator"} {
		for _, text := range []string{"UPDATE journal SET actor = 'x'", "DELETE FROM journal", "TRUNCATE journal " +
			"CASCADE",
			"ALTER TABLE journal DISABLE TRIGGER ALL", "CREATE TABLE x (y INT)", "DELETE FROM certificate"} {
			if as(role, text) == nil {
				t.Errorf("a %s may: %s", role, text)
			}
		}
	}
	for _, text := range []string{"UPDATE authority SET retired = ''", "INSERT INTO certificate (id, serial, der, " +
		"title, " +
		"subject, not_after, key_sha256, sheet) VALUES (999, 'aa', '', '', '', 0, '', '')", "DELETE FROM revocation"} {
		if as("clerk", text) == nil {
			t.Errorf("a clerk may: %s", text)
		}
	}
	theirs := func(who place, role string) place {
		second := joined(t, who, strings.Replace(url, "harbour@", "the_"+role+"@", 1))
		second.env = who.env
		return second
	}
	dag := theirs(p, "auditor")
	dag.must("journal", "verify")
	dag.must("estate", "check")
	dag.must("proposal", "list", "--all")
	dag.must("certificate", "list")
	dag.must("operator", "list")
	before := p.must("journal", "list", "--count", "1", "--json")
	for _, args := range []string{"request draft x.ternbay.example --out ..", "revocations publish --to ../public",
		"estate files record --yes", "operator end ben --because no"} {
		if r := dag.run("", strings.Fields(args)...); r.code == 0 {
			t.Errorf("an auditor did: %s: %+v", args, r)
		}
	}
	if after := p.must("journal", "list", "--count", "1", "--json"); after != before {
		t.Errorf("something was recorded: %s", after)
	}
	for _, role := range []string{"clerk", "signer"} { // a person whose key may more than their login
		second := theirs(ana, role)
		if r := second.run("", "authority", "create", "x", "--under", "root", "--key", "ecdsa-p256",
			"--yes"); r.code == 0 {
			t.Errorf("a %s of the database made an authority: %+v", role, r)
		}
	}
	clerk := theirs(ana, "clerk")
	clerk.must("request", "draft", "clerk.ternbay.example", "--out", "..")
	clerk.must("request", "receive", "../clerk.ternbay.example.request.pem")
	signer := theirs(ana, "signer")
	signer.must("sign", "R1", "--template", "web-server", "--by", "services", "--yes")
	signer.must("revoke", "R1", "--reason", "superseded", "--because", "trying", "--yes")
	signer.must("revocations", "publish", "--to", "../public")
	admin := theirs(ana, "administrator")
	admin.must("authority", "create", "stores", "--under", "root", "--key", "ecdsa-p256", "--yes")
	admin.must("authority", "renew", "stores", "--lifetime", "5y", "--waive", "renewal-without-gain", "--because",
		"x", "--yes")
	admin.must("estate", "check")
}

func must2(t *testing.T) func(string, error) string {
	return func(out string, err error) string {
		t.Helper()
		if err != nil {
			t.Fatalf("%v %s", err, out)
		}
		return out
	}
}

// Commands that only read use a server that follows the other, and never one that lacks what this machine has seen.
func TestReadingFromAFollower(t *testing.T) {
	t.Parallel()
	onserver.FilesOnly(t)
	primary := onserver.Start(t, 5435, "wal_level = replica", "max_wal_senders = 5", "hot_standby = on")
	follower, err := primary.Standby(5436)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(follower.Remove)
	p := another(t)
	p.must("estate", "move", "--to", primary.URL("harbour"))
	p.setting(`read    = ""`, `read    = "`+follower.URL("harbour")+`"`)
	p.must("estate", "files", "record", "--yes")
	soonRead := func(want string) bool {
		for until := time.Now().Add(10 * time.Second); time.Now().Before(until); time.Sleep(100 * time.Millisecond) {
			if out := p.must("request", "list", "--quiet"); strings.Contains(out, want) {
				return true
			}
		}
		return false
	}
	must2(t)(follower.Query("public", "SELECT pg_wal_replay_pause()"))
	p.send("first.ternbay.example", []string{"first.ternbay.example"})
	if out := p.must("request", "list", "--quiet"); !strings.Contains(out, "R1") {
		t.Errorf("what this machine recorded is not read: %s", out)
	}
	must2(t)(follower.Query("public", "SELECT pg_wal_replay_resume()"))
	if !soonRead("R1") {
		t.Error("the follower is not read")
	}
	must2(t)(primary.Query("public", "SELECT pg_sleep(1)"))
	primary.Kill() // what only reads goes on
	if out := p.must("request", "list", "--quiet"); !strings.Contains(out, "R1") {
		t.Errorf("%s", out)
	}
	if r := p.run("", "request", "decline", "R1", "--because", "trying"); r.code == 0 {
		t.Errorf("an act went on without the primary: %+v", r)
	}
}

// Two machines with two people, one database: a day of requests, signatures, agreement, a revocation, an incident and
// a new
// root. Both machines tell the same at its end, and both are sound.
func TestTwoMachinesThroughADay(t *testing.T) {
	t.Parallel()
	onserver.FilesOnly(t)
	url := onserver.URL(t)
	p, ana, ben, _, _ := crew(t)
	p.setting("authorities         = 0", "authorities         = 2")
	ana.must("estate", "move", "--to", url)
	second := joined(t, ben, url)
	second.env = ben.env
	agreed := func(args ...string) { // proposed at one machine, approved and done at the other
		t.Helper()
		out := ana.must(args...)
		at := strings.Index(out, "proposed: P")
		if at < 0 {
			t.Fatalf("%s", out)
		}
		name := strings.TrimSuffix(strings.Fields(out[at:])[1], ",")
		second.must("approve", name, "--yes")
		second.must("proposal", "complete", name)
	}
	for _, host := range []string{"booking.ternbay.example", "mail.ternbay.example", "gate.ternbay.example"} {
		ana.send(host, []string{host}) // taken in at one machine, signed at the other
	}
	second.must("sign", "--all", "--template", "web-server", "--by", "services", "--yes")
	ana.must("certificate", "export", "booking.ternbay.example", "--with", "issuers", "--out", "../booking.pem")
	ana.must("revoke", "mail.ternbay.example", "--reason", "key-compromise", "--because", "a disk was sold", "--yes")
	second.must("revocations", "publish", "--to", "../public")
	if r := ana.run("", "verify", "../booking.pem", "--name", "booking.ternbay.example"); r.code != 0 {
		t.Errorf("%+v", r)
	}

	ana.must("incident", "open", "services", "--because", "a laptop is gone") // nothing is signed by it from now on
	ana.send("late.ternbay.example", []string{"late.ternbay.example"})
	second.denied("authority-stopped", "sign", "R4", "--template", "web-server", "--by", "services", "--yes")
	agreed("authority", "renew", "services", "--suspect", "a laptop is gone", "--yes")
	keysOf(t, second, p)
	second.must("sign", "R4", "--template", "web-server", "--by", "services", "--yes")
	agreed("authority", "renew", "root", "--lifetime", "25y", "--yes")
	keysOf(t, second, p)
	ana.must("revocations", "publish", "--to", "../public")

	for name, args := range map[string]string{"certificates": "certificate list --state any --json",
		"tree":    "authority tree --json",
		"journal": "journal list --count 0 --json", "proposals": "proposal list --all --json"} {
		if a, b := ana.must(strings.Fields(args)...), second.must(strings.Fields(args)...); a != b {
			t.Errorf("the machines differ about %s:\n%s\n%s", name, a, b)
		}
	}
	ana.must("estate", "check")
	second.must("estate", "check")
	second.must("journal", "verify")
}

// keysOf brings the sealed keys that were made at one machine to the other.
func keysOf(t *testing.T, from, to place) {
	t.Helper()
	for _, k := range mustGlob(t, filepath.Join(from.dir, "keys", "*.key")) {
		data, err := os.ReadFile(k)
		if err == nil {
			err = os.WriteFile(filepath.Join(to.dir, "keys", filepath.Base(k)), data, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// Records of a newer program, of another form, and a second writer that takes no lock are told, and nothing is lost.
func TestHostileDatabases(t *testing.T) {
	t.Parallel()
	onserver.FilesOnly(t)
	server := onserver.Start(t, 0)
	p := another(t)
	p.must("estate", "move", "--to", server.URL("harbour"))
	must2(t)(server.Query("harbour", "UPDATE meta SET value = '99' WHERE key = 'version'"))
	p.denied("newer program", "estate", "status")
	must2(t)(server.Query("harbour", "UPDATE meta SET value = '6' WHERE key = 'version'"))
	p.denied("an earlier form", "estate", "status")
	must2(t)(server.Query("harbour", "UPDATE meta SET value = '7' WHERE key = 'version'"))
	p.must("estate", "status")
	for name, edit := range map[string]string{
		"a revocation is taken out": "DELETE FROM revocation",
		"a certificate is changed": "UPDATE certificate SET title = 'another' WHERE id = (SELECT max(id) FROM " +
			"certificate)",
		"a request is decided": "UPDATE request SET state = 'declined'",
		"an entry is put in": "INSERT INTO journal SELECT seq + 1, at, actor, act, object, detail, prev, " +
			"hash FROM journal ORDER BY seq DESC LIMIT 1",
		"an operator is taken out": "DELETE FROM derived WHERE kind LIKE 'file%'",
		"a trigger changes records": "CREATE FUNCTION harbour.f() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN " +
			"RETURN NULL; END'; CREATE TRIGGER quiet BEFORE INSERT ON revocation FOR EACH ROW EXECUTE FUNCTION " +
			"harbour.f()",
		"an authority is reinstated": "UPDATE authority SET retired = '2026-01-01T00:00:00.000000000Z' WHERE " +
			"handle = 'services'",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			q := another(t)
			q.send("a.ternbay.example", []string{"a.ternbay.example"})
			url := onserver.URL(t)
			schema := url[strings.LastIndex(url, "=")+1:]
			q.must("estate", "move", "--to", url)
			if name == "a revocation is taken out" {
				q.must("sign", "R1", "--template", "web-server", "--by", "services", "--yes")
				q.must("revoke", "R1", "--reason", "superseded", "--because", "trying", "--yes")
			}
			q.must("estate", "check")
			shared := onserver.Shared(t)
			must2(t)(shared.Query(schema, strings.ReplaceAll(edit, "harbour.", schema+".")))
			if r := q.run("", "estate", "check"); r.code != 4 {
				t.Errorf("%s is not told: %+v", name, r)
			}
		})
	}
}
