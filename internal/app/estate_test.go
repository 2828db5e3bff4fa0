package app_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ops/overview"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/disk"
	"ironseal/internal/disk/inmemory"
	"ironseal/internal/estate"
	"ironseal/internal/keystore"
	"ironseal/internal/store"
	"ironseal/internal/store/onserver"
	"ironseal/internal/store/sqlstore"
	"ironseal/pki/bundle"
	"ironseal/pki/finding"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/pbes"
	"ironseal/pki/specimen"
)

func TestMain(m *testing.M) {
	inmemory.Prefer()
	os.Exit(onserver.Run(m))
}

// fixed answers every question with one passphrase.
type fixed string

func (f fixed) Passphrase(context.Context, keystore.Question) ([]byte, bool, error) {
	return []byte(f), true, nil
}

var ctx = context.Background()

func world() estate.Env {
	return estate.Env{Actor: estate.Identity{Name: "tester"}, Pass: fixed("tern and gull")}
}

// newEstate makes an estate with a root and an authority below it, with quick
// keys and little work of encryption.
func newEstate(t testing.TB) (string, *estate.Estate) {
	t.Helper()
	dir, e := bareEstate(t, "Tern Bay Ferries")
	withAuthorities(t, e)
	return dir, e
}

// withAuthorities makes a root, and an authority below it.
func withAuthorities(t testing.TB, e *estate.Estate) {
	t.Helper()
	for _, ask := range []authorities.Ask{{Handle: "root"}, {Handle: "services", Under: "root"}} {
		p, err := authorities.PlanNew(ctx, e, ask)
		if err != nil {
			t.Fatal(err)
		}
		if _, _, err := authorities.Create(ctx, e, p); err != nil {
			t.Fatal(err)
		}
	}
}

// bareEstate makes an estate without authorities.
func bareEstate(t testing.TB, organisation string) (string, *estate.Estate) {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "harbour")
	e, err := estate.Create(ctx, dir, estate.Options{Organisation: organisation, Country: "NO",
		Records: onserver.Records(t)}, world())
	if err != nil {
		t.Fatal(err)
	}
	e.Close()
	path := filepath.Join(dir, estate.SettingsFile)
	text, _ := os.ReadFile(path)
	text = []byte(strings.NewReplacer("encryption-memory = 64", "encryption-memory = 8", `authority-key = "rsa-4096"`,
		`authority-key = "ecdsa-p256"`).Replace(string(text)))
	if err := os.WriteFile(path, text, 0o644); err != nil {
		t.Fatal(err)
	}
	return dir, reopen(t, dir, world())
}

func reopen(t testing.TB, dir string, w estate.Env) *estate.Estate {
	t.Helper()
	e, err := estate.Open(ctx, dir, w)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { e.Close() })
	return e
}

func receive(t testing.TB, e *estate.Estate, n int) {
	t.Helper()
	var in []intake.Input
	for i := range n {
		host := fmt.Sprintf("h%d.ternbay.example", i)
		in = append(in, intake.Input{Name: host, Data: bundle.PEM(bundle.Request,
			specimen.Request(t, nil, "CN="+host, []string{host}).Raw)})
	}
	if _, _, faults := intake.Receive(ctx, e, in, "the yard"); len(faults) > 0 {
		t.Fatal(faults)
	}
}

func sheet(t testing.TB, e *estate.Estate, number int) *signing.Sheet {
	t.Helper()
	s, err := signing.Plan(ctx, e, signing.SignAsk{Request: fmt.Sprint("R", number), Template: "web-server",
		By: "services"})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func sign(e *estate.Estate, s *signing.Sheet) error {
	var failed error
	err := signing.Sign(ctx, e, []*signing.Sheet{s}, func(r signing.SignResult) { failed = r.Err })
	return errors.Join(err, failed)
}

// intact checks what must hold after anything whatever.
func intact(t *testing.T, dir, when string) {
	t.Helper()
	e := reopen(t, dir, world())
	if _, err := e.Records.VerifyJournal(ctx, nil); err != nil {
		t.Errorf("%s: %v", when, err)
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		t.Fatalf("%s: %v", when, err)
	}
	for _, a := range h {
		if !e.Keys.Has(a.Current().Certificate.Key) {
			t.Errorf("%s: the key of %s is gone", when, a.Handle)
		}
	}
	certs, err := e.Certificates(ctx)
	if err != nil {
		t.Fatalf("%s: %v", when, err)
	}
	reqs, err := e.Requests(ctx, lifecycle.Signed)
	if err != nil {
		t.Fatalf("%s: %v", when, err)
	}
	own := 0
	for _, a := range h {
		own += len(a.Generations) + len(a.Links)
	}
	if len(certs) != len(reqs)+own {
		t.Errorf("%s: %d certificates for %d signed requests and %d of authorities", when, len(certs), len(reqs), own)
	}
}

func TestSecretsAreReadableByTheOwnerOnly(t *testing.T) {
	t.Parallel()
	dir, _ := newEstate(t)
	err := filepath.Walk(dir, func(path string, info os.FileInfo, err error) error {
		if err != nil {
			return err
		}
		secret := strings.HasSuffix(path, ".key") || strings.Contains(path, "records.db")
		made := !strings.Contains(filepath.Base(path), "records.db-") && !strings.HasSuffix(path, ".head")
		switch {
		case runtime.GOOS == "windows" && made: // what others make in the folder inherits its access list
			if why := disk.Exposed(path); why != "" && (secret || info.IsDir()) {
				t.Errorf("%s: %s", path, why)
			}
		case runtime.GOOS == "windows":
		case secret && info.Mode().Perm() != 0o600, info.IsDir() && info.Mode().Perm() != 0o700:
			t.Errorf("%s has mode %o", path, info.Mode().Perm())
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	keys, _ := filepath.Glob(filepath.Join(dir, "keys", "*.key"))
	for _, k := range keys {
		data, _ := os.ReadFile(k)
		if !strings.Contains(string(data), "BEGIN ENCRYPTED PRIVATE KEY") {
			t.Errorf("%s is not encrypted", k)
		}
	}
	if len(keys) != 2 {
		t.Errorf("%d keys", len(keys))
	}
}

func TestTheSameRequestIsTakenInOnce(t *testing.T) {
	t.Parallel()
	_, e := newEstate(t)
	in := []intake.Input{{Name: "a", Data: bundle.PEM(bundle.Request,
		specimen.Request(t, nil, "CN=a.example", []string{"a.example"}).Raw)}}
	first, _, _ := intake.Receive(ctx, e, in, "")
	again, _, faults := intake.Receive(ctx, e, in, "")
	if len(faults) > 0 || again[0].Record.Number != first[0].Record.Number || !again[0].Known || first[0].Known {
		t.Errorf("%+v %v", again, faults)
	}
}

func TestARecordThatChangedMeanwhileStopsTheSignature(t *testing.T) {
	t.Parallel()
	for what, meanwhile := range map[string]func(dir string, e *estate.Estate) error{
		"declined": func(_ string, e *estate.Estate) error {
			_, err := intake.Decide(ctx, e, "R1", lifecycle.Declined, "not ours", false)
			return err
		},
		"signed": func(_ string, e *estate.Estate) error { return sign(e, sheet(t, e, 1)) },
		"template changed": func(dir string, _ *estate.Estate) error {
			f, err := os.OpenFile(filepath.Join(dir, "templates", "web-server.toml"), os.O_APPEND|os.O_WRONLY, 0)
			if err != nil {
				return err
			}
			_, err = f.WriteString("# changed\n")
			return errors.Join(err, f.Close())
		},
	} {
		t.Run(what, func(t *testing.T) {
			dir, e := newEstate(t)
			receive(t, e, 1)
			s := sheet(t, e, 1)
			other := reopen(t, dir, world())
			if err := meanwhile(dir, other); err != nil {
				t.Fatal(err)
			}
			before, _ := e.Certificates(ctx)
			err := sign(e, s)
			after, _ := e.Certificates(ctx)
			if err == nil || !strings.Contains(err.Error(), "on screen") || len(after) != len(before) {
				t.Errorf("%s: %v, %d certificates more", what, err, len(after)-len(before))
			}
			intact(t, dir, what)
		})
	}
}

func TestAnUnfitSubjectHandleOrParentIsRefused(t *testing.T) {
	t.Parallel()
	_, e := newEstate(t)
	for what, ask := range map[string]authorities.Ask{
		"handle taken":          {Handle: "root"},
		"no parent":             {Handle: "x", Under: "nobody"},
		"path length used up":   {Handle: "x", Under: "services"},
		"template of end users": {Handle: "x", Under: "root", Template: "web-server"},
	} {
		t.Run(what, func(t *testing.T) {
			p, err := authorities.PlanNew(ctx, e, ask)
			if err == nil {
				_, _, err = authorities.Create(ctx, e, p)
			}
			if err == nil {
				t.Errorf("%s: no error", what)
			}
		})
	}
	root, err := e.Generation(ctx, "root")
	if err != nil {
		t.Fatal(err)
	}
	alike := root.Certificate.Subject
	p, err := authorities.PlanNew(ctx, e, authorities.Ask{Handle: "twin", Subject: &alike})
	if err != nil || !p.Plan.Findings.Has(finding.SubjectTaken) {
		t.Errorf("two authorities of one name: %v %v", err, p.Plan.Findings.Codes())
	}
}

func TestAWrongPassphraseSignsNothing(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	receive(t, e, 1)
	w := world()
	w.Pass = fixed("tern and skua")
	other := reopen(t, dir, w)
	err := sign(other, sheet(t, other, 1))
	if !errors.Is(err, pbes.ErrPassphrase) || strings.Contains(err.Error(), "skua") {
		t.Errorf("%v", err)
	}
	w.Pass = fixed("")
	empty := reopen(t, dir, w)
	p, err := authorities.PlanNew(ctx, empty, authorities.Ask{Handle: "x", Under: "root"})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := authorities.Create(ctx, empty, p); err == nil || !strings.Contains(err.Error(), "empty") {
		t.Errorf("an empty passphrase: %v", err)
	}
	intact(t, dir, "wrong passphrase")
}

func TestAClockThatWentBackSignsNothing(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	receive(t, e, 1)
	w := world()
	w.Now = func() time.Time { return time.Now().Add(-time.Hour) }
	late := reopen(t, dir, w)
	err := sign(late, sheet(t, late, 1))
	var r *issue.Refused
	if !errors.As(err, &r) || !r.Findings.Has(finding.ClockBehind) {
		t.Errorf("%v", err)
	}
	st, err := overview.Of(ctx, late)
	if err != nil || st.ClockBehind == "" {
		t.Errorf("status must say so: %v", err)
	}
}

// Every step of writing a file fails in turn; nothing half made may be left.
func TestFailingDisk(t *testing.T) {
	t.Parallel()
	full := errors.New("no space left on device")
	for _, step := range []disk.Step{disk.StepCreate, disk.StepWrite, disk.StepSync, disk.StepPlace, disk.StepSyncDir} {
		dir, e := newEstate(t)
		w := world()
		w.Disk.Fault = func(s disk.Step, path string) error {
			if s == step {
				return full
			}
			return nil
		}
		broken := reopen(t, dir, w)
		p, err := authorities.PlanNew(ctx, broken, authorities.Ask{Handle: "ships", Under: "root"})
		if err != nil {
			t.Fatal(err)
		}
		if _, _, err := authorities.Create(ctx, broken, p); !errors.Is(err, full) {
			t.Errorf("%s: %v", step, err)
		}
		if h, _ := e.Hierarchy(ctx); h.Find("ships") != nil {
			t.Errorf("%s: an authority without a safe key is on record", step)
		}
		left, _ := filepath.Glob(filepath.Join(dir, "keys", ".ironseal-*"))
		if len(left) > 0 {
			t.Errorf("%s: left behind: %v", step, left)
		}
		if _, err := intake.Draft(ctx, w, broken, intake.DraftAsk{Names: specimen.Names(t, "d.ternbay.example"),
			Dir: dir}); !errors.Is(err, full) {
			t.Errorf("%s: draft: %v", step, err)
		}
		if _, err := estate.Create(ctx, filepath.Join(t.TempDir(), "new"), estate.Options{}, w); !errors.Is(err,
			full) {
			t.Errorf("%s: create: %v", step, err)
		}
		intact(t, dir, string(step))
	}
}

func TestFullDatabaseSignsNothingAndSaysSo(t *testing.T) {
	onserver.FilesOnly(t)
	t.Parallel()
	dir, e := newEstate(t)
	receive(t, e, 30)
	var sheets []*signing.Sheet
	for i := range 30 {
		sheets = append(sheets, sheet(t, e, i+1))
	}
	if err := e.Records.(*sqlstore.Store).LimitPages(ctx); err != nil {
		t.Fatal(err)
	}
	done, failed := 0, 0
	err := signing.Sign(ctx, e, sheets, func(r signing.SignResult) {
		if r.Err == nil {
			done++
		} else if failed++; !strings.Contains(r.Err.Error(), "disk is full") || r.Certificate != nil {
			t.Errorf("%v", r.Err)
		}
	})
	if err != nil || failed == 0 {
		t.Errorf("%d signed, %d failed, %v", done, failed, err)
	}
	certs, _ := reopen(t, dir, world()).Certificates(ctx)
	if len(certs) != 2+done {
		t.Errorf("%d certificates on record, %d were told", len(certs)-2, done)
	}
	intact(t, dir, "full disk")
}

// Stopping at any step by an error leaves the estate as it was, or with the
// whole act done.
func TestStoppingAtEveryStep(t *testing.T) {
	t.Parallel()
	stop := errors.New("stopped here")
	for _, step := range []string{estate.StepPlanned, estate.StepKeyMade, estate.StepKeyKept, estate.StepOpened,
		estate.StepSigned, estate.StepRecording} {
		dir, e := newEstate(t)
		receive(t, e, 1)
		w := world()
		w.Step = func(name string) error {
			if name == step {
				return stop
			}
			return nil
		}
		halting := reopen(t, dir, w)
		p, err := authorities.PlanNew(ctx, halting, authorities.Ask{Handle: "ships", Under: "root"})
		if err != nil {
			t.Fatal(err)
		}
		_, _, err1 := authorities.Create(ctx, halting, p)
		err2 := sign(halting, sheet(t, halting, 1))
		if !errors.Is(err1, stop) && !errors.Is(err2, stop) {
			t.Errorf("%s was never reached: %v, %v", step, err1, err2)
		}
		keys, _ := filepath.Glob(filepath.Join(dir, "keys", "*"))
		h, _ := e.Hierarchy(ctx)
		if len(keys) != len(h) {
			t.Errorf("%s: %d key files for %d authorities", step, len(keys), len(h))
		}
		intact(t, dir, step)
	}
}

// TestCrash is run again as a process of its own, which ends itself at one step.
func TestCrash(t *testing.T) {
	if dir := os.Getenv("CRASH_DIR"); dir != "" {
		w := world()
		w.Step = func(name string) error {
			if name == os.Getenv("CRASH_STEP") {
				os.Exit(77)
			}
			return nil
		}
		e := reopen(t, dir, w)
		if os.Getenv("CRASH_ACT") == "authority" {
			p, err := authorities.PlanNew(ctx, e, authorities.Ask{Handle: "ships", Under: "root"})
			if err != nil {
				t.Fatal(err)
			}
			_, _, _ = authorities.Create(ctx, e, p)
			return
		}
		_ = signing.Sign(ctx, e, []*signing.Sheet{sheet(t, e, 1)}, func(r signing.SignResult) {
			if r.Err == nil {
				fmt.Println("SHOWN", r.Certificate.SerialHex())
			}
		})
		return
	}
	for _, c := range []struct{ act, step string }{
		{"authority", estate.StepPlanned}, {"authority", estate.StepKeyMade}, {"authority", estate.StepKeyKept},
		{"authority", estate.StepSigned},
		{"authority", estate.StepRecording}, {"authority", estate.StepRecorded},
		{"sign", estate.StepPlanned}, {"sign", estate.StepOpened}, {"sign", estate.StepSigned}, {"sign",
			estate.StepRecording},
		{"sign", estate.StepRecorded},
	} {
		t.Run(c.act, func(t *testing.T) {
			dir, e := newEstate(t)
			receive(t, e, 1)
			cmd := exec.Command(os.Args[0], "-test.run=^TestCrash$")
			cmd.Env = append(os.Environ(), "CRASH_DIR="+dir, "CRASH_STEP="+c.step, "CRASH_ACT="+c.act)
			out, err := cmd.CombinedOutput()
			var exit *exec.ExitError
			if !errors.As(err, &exit) || exit.ExitCode() != 77 {
				t.Fatalf("%v: it should have ended itself: %v\n%s", c, err, out)
			}
			if strings.Contains(string(out), "SHOWN") {
				t.Errorf("%v: shown before it was recorded", c)
			}
			intact(t, dir, c.act+" "+c.step)
			// The next run needs no repair.
			next := reopen(t, dir, world())
			rec, _, err := next.Request(ctx, "R1")
			if err != nil {
				t.Fatal(err)
			}
			if rec.State == lifecycle.Waiting {
				if err := sign(next, sheet(t, next, 1)); err != nil {
					t.Errorf("%v: the next run: %v", c, err)
				}
			} else if c.step != estate.StepRecorded {
				t.Errorf("%v: the request is %s", c, rec.State)
			}
		})
	}
}

func TestTwoAtWorkBothFinish(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	receive(t, e, 20)
	var wg sync.WaitGroup
	errs := make(chan error, 20)
	for half := range 2 {
		wg.Go(func() {
			mine, err := estate.Open(ctx, dir, world())
			if err != nil {
				errs <- err
				return
			}
			defer mine.Close()
			for i := half*10 + 1; i <= half*10+10; i++ {
				s, err := signing.Plan(ctx, mine, signing.SignAsk{Request: fmt.Sprint("R", i), Template: "web-server",
					By: "services"})
				if err == nil {
					err = sign(mine, s)
				}
				if err != nil {
					errs <- err
				}
			}
		})
	}
	wg.Wait()
	close(errs)
	for err := range errs {
		t.Error(err)
	}
	intact(t, dir, "two at work")
	if c, _ := e.Certificates(ctx); len(c) != 22 {
		t.Errorf("%d certificates", len(c))
	}
}

func TestInterruptedKeyMakingLeavesNothing(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	p, err := authorities.PlanNew(ctx, e, authorities.Ask{Handle: "slow", Under: "root", Key: key.RSA4096})
	if err != nil {
		t.Fatal(err)
	}
	stopped, cancel := context.WithCancelCause(ctx)
	cancel(errors.New("Ctrl-C"))
	if _, _, err := authorities.Create(stopped, e, p); err == nil || !strings.Contains(err.Error(),
		"nothing was kept") {
		t.Errorf("%v", err)
	}
	if keys, _ := filepath.Glob(filepath.Join(dir, "keys", "*")); len(keys) != 2 {
		t.Errorf("%d key files", len(keys))
	}
}

func TestARewrittenJournalIsTold(t *testing.T) {
	onserver.FilesOnly(t)
	t.Parallel()
	dir, e := newEstate(t)
	receive(t, e, 5)
	head, _, err := e.Records.Newest(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ what, sql, word string }{
		{"changed", "UPDATE journal SET detail = '{}' WHERE seq = 2", "entry 2"},
		{"removed", "DELETE FROM journal WHERE seq = 3", "entries in between are gone"},
		{"end cut off", "DELETE FROM journal WHERE seq = (SELECT max(seq) FROM journal)", "cut off"},
		{"actor changed", "UPDATE journal SET actor = 'x' WHERE seq = 1", "entry 1"},
	} {
		t.Run(c.what, func(t *testing.T) {
			copyDir := t.TempDir()
			db, err := sql.Open("sqlite", filepath.Join(dir, "records.db"))
			if err != nil {
				t.Fatal(err)
			}
			if _, err := db.Exec("VACUUM INTO ?", filepath.Join(copyDir, "records.db")); err != nil {
				t.Fatal(err)
			}
			db.Close()
			db, _ = sql.Open("sqlite", filepath.Join(copyDir, "records.db"))
			if _, err := db.Exec(c.sql); err != nil {
				t.Fatal(err)
			}
			db.Close()
			s, err := sqlstore.Open(ctx, store.File(filepath.Join(copyDir, "records.db")))
			if err != nil {
				t.Fatal(err)
			}
			_, err = s.VerifyJournal(ctx, &head)
			var b *journal.Break
			if !errors.As(err, &b) || !strings.Contains(b.Error(), c.word) {
				t.Errorf("%s: %v", c.what, err)
			}
			s.Close()
		})
	}
	if _, err := e.Records.VerifyJournal(ctx, &head); err != nil {
		t.Errorf("the true journal: %v", err)
	}
	wrong := head
	wrong.Code = "0000-0000-0000-0000"
	if _, err := e.Records.VerifyJournal(ctx, &wrong); err == nil {
		t.Error("a head that was never there must be told")
	}
}

func TestForeignAndMissingRecordsAreRefused(t *testing.T) {
	onserver.FilesOnly(t)
	t.Parallel()
	dir, e := newEstate(t)
	e.Close()
	path := filepath.Join(dir, "records.db")
	data, _ := os.ReadFile(path)
	for what, change := range map[string]func() error{
		"no records":  func() error { return os.Remove(path) },
		"noise":       func() error { return os.WriteFile(path, []byte(strings.Repeat("noise", 4000)), 0o600) },
		"cut short":   func() error { return os.WriteFile(path, data[:1000], 0o600) },
		"another app": func() error { return os.WriteFile(path, nil, 0o600) },
	} {
		t.Run(what, func(t *testing.T) {
			for _, side := range []string{"-wal", "-shm"} {
				os.Remove(path + side)
			}
			if err := change(); err != nil {
				t.Fatal(err)
			}
			if e, err := estate.Open(ctx, dir, world()); err == nil {
				e.Close()
				t.Errorf("%s: opened", what)
			}
		})
	}
	if _, err := estate.Find(filepath.Join(dir, "nowhere"), "."); !errors.Is(err, estate.ErrNone) {
		t.Errorf("a missing estate: %v", err)
	}
}

func TestCertificatesAreFoundByAnyOfTheirNames(t *testing.T) {
	t.Parallel()
	_, e := newEstate(t)
	receive(t, e, 2)
	for i := 1; i <= 2; i++ {
		if err := sign(e, sheet(t, e, i)); err != nil {
			t.Fatal(err)
		}
	}
	want, _, err := e.FindCertificate(ctx, "R1")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"h0.ternbay.example", "H0.TernBay.example", want.SerialHex(), want.SerialHex()[:10],
		"r1"} {
		if got, _, err := e.FindCertificate(ctx, name); err != nil || got.SerialHex() != want.SerialHex() {
			t.Errorf("%q: %v", name, err)
		}
	}
	for _, name := range []string{"", "R9", "nobody.example", "ffffffffffff", "%", "' OR 1=1 --"} {
		if _, _, err := e.FindCertificate(ctx, name); err == nil {
			t.Errorf("%q found something", name)
		}
	}
	if got, _, err := e.FindCertificate(ctx, "services.g1"); err != nil || !got.IsAuthority() {
		t.Errorf("by handle: %v", err)
	}
	again := signing.SignAsk{Request: "R3", Template: "web-server", By: "services"}
	in := []intake.Input{{Name: "again", Data: bundle.PEM(bundle.Request,
		specimen.Request(t, nil, "CN=h0.ternbay.example", []string{"h0.ternbay.example"}).Raw)}}
	intake.Receive(ctx, e, in, "")
	s, err := signing.Plan(ctx, e, again)
	if err != nil {
		t.Fatal(err)
	}
	if err := sign(e, s); err != nil {
		t.Fatal(err)
	}
	got, note, err := e.FindCertificate(ctx, "h0.ternbay.example")
	if err != nil || got.Record.Request != 3 || !strings.Contains(note, "2 certificates") {
		t.Errorf("the newest must be taken, and said so: %v %q", err, note)
	}
}

func BenchmarkSignOne(b *testing.B) {
	_, e := newEstate(b)
	i := 0
	for b.Loop() {
		b.StopTimer()
		i++
		receive(b, e, 1)
		s := sheet(b, e, i)
		b.StartTimer()
		if err := sign(e, s); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkBulk plans, signs and records 4,000 certificates.
func BenchmarkBulk(b *testing.B) {
	const count = 4000
	for b.Loop() {
		b.StopTimer()
		_, e := newEstate(b)
		receive(b, e, count)
		list := make([]signing.Planned, count)
		for i := range list {
			list[i].Ask = &signing.SignAsk{Request: fmt.Sprintf("R%d", i+1), Template: "web-server"}
		}
		b.StartTimer()
		list, err := signing.PlanMany(ctx, e, list, nil)
		if err != nil {
			b.Fatal(err)
		}
		var sheets []*signing.Sheet
		for _, p := range list {
			sheets = append(sheets, p.Sheet)
		}
		if err := signing.Sign(ctx, e, sheets, func(signing.SignResult) {}); err != nil {
			b.Fatal(err)
		}
	}
}
