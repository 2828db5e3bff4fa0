package app_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/audit"
	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ca/external"
	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/ops/backup"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/keystore"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/path"
	"ironseal/pki/span"
	"ironseal/pki/specimen"
)

var longer, sixty = span.Years(25), span.Days(60)

// answering answers every question again.
type answering func() string

func (a answering) Passphrase(context.Context, keystore.Question) ([]byte, bool, error) {
	return []byte(a()), true, nil
}

// moved is a world whose clock shows a time.
func moved(at time.Time) estate.Env {
	w := world()
	w.Now = func() time.Time { return at }
	return w
}

func renewed(t *testing.T, e *estate.Estate, ask authorities.RenewAsk) {
	t.Helper()
	p, err := authorities.PlanRenewal(ctx, e, ask)
	if err == nil {
		_, _, err = authorities.Renew(ctx, e, p)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// Stopping a renewal at any step by an error leaves the authority as it was, with
// no key left behind, or with the whole act done; links come with it or not at all.
func TestStoppingARenewalAtEveryStep(t *testing.T) {
	t.Parallel()
	stop := errors.New("stopped here")
	for _, same := range []bool{false, true} {
		for _, step := range []string{estate.StepPlanned, estate.StepKeyMade, estate.StepKeyKept, estate.StepSigned,
			estate.StepRecording} {
			if same && step == estate.StepKeyMade {
				continue // no key is made
			}
			dir, e := newEstate(t)
			w := world()
			w.Step = func(name string) error {
				if name == step {
					return stop
				}
				return nil
			}
			halting := reopen(t, dir, w)
			p, err := authorities.PlanRenewal(ctx, halting, authorities.RenewAsk{Handle: "root", SameKey: same,
				Lifetime: longer})
			if err != nil {
				t.Fatal(err)
			}
			if _, _, err := authorities.Renew(ctx, halting, p); !errors.Is(err, stop) {
				t.Errorf("%s, same key %v: %v", step, same, err)
			}
			h, err := e.Hierarchy(ctx)
			if err != nil {
				t.Fatal(err)
			}
			keys, _ := filepath.Glob(filepath.Join(dir, "keys", "*"))
			if a := h.Find("root"); len(a.Generations) != 1 || len(a.Links) != 0 || len(keys) != 2 {
				t.Errorf("%s, same key %v: %d generations, %d links, %d keys", step, same, len(a.Generations),
					len(a.Links), len(keys))
			}
			intact(t, dir, step)
		}
	}
}

// A process that ends at any step of a renewal, an application or an adoption
// leaves an estate that needs no repair: at worst a key that nothing names, which
// the check tells.
func TestCrashWhileRenewing(t *testing.T) {
	t.Parallel()
	acts := map[string]func(*testing.T, *estate.Estate) error{
		"renew": func(t *testing.T, e *estate.Estate) error {
			p, err := authorities.PlanRenewal(ctx, e, authorities.RenewAsk{Handle: "root"})
			if err == nil {
				_, _, err = authorities.Renew(ctx, e, p)
			}
			return err
		},
		"apply": func(t *testing.T, e *estate.Estate) error {
			_, _, err := external.Apply(ctx, e, external.ApplyAsk{Handle: "gates"})
			return err
		},
	}
	if dir := os.Getenv("RENEW_DIR"); dir != "" {
		w := world()
		w.Step = func(name string) error {
			if name == os.Getenv("RENEW_STEP") {
				os.Exit(77)
			}
			return nil
		}
		if err := acts[os.Getenv("RENEW_ACT")](t, reopen(t, dir, w)); err != nil {
			t.Fatal(err)
		}
		return
	}
	for _, c := range []struct{ act, step string }{
		{"renew", estate.StepKeyMade}, {"renew", estate.StepKeyKept}, {"renew", estate.StepSigned}, {"renew",
			estate.StepRecording},
		{"renew", estate.StepRecorded}, {"apply", estate.StepRecording},
	} {
		t.Run(c.act, func(t *testing.T) {
			dir, _ := newEstate(t)
			cmd := exec.Command(os.Args[0], "-test.run=^TestCrashWhileRenewing$")
			cmd.Env = append(os.Environ(), "RENEW_DIR="+dir, "RENEW_STEP="+c.step, "RENEW_ACT="+c.act)
			out, err := cmd.CombinedOutput()
			var exit *exec.ExitError
			if !errors.As(err, &exit) || exit.ExitCode() != 77 {
				t.Fatalf("%v: it should have ended itself: %v\n%s", c, err, out)
			}
			next := reopen(t, dir, world())
			found, err := audit.Check(ctx, next, audit.CheckAsk{})
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range found.Faults {
				if !strings.HasPrefix(f.About, "keys/") || !strings.Contains(f.What, "no record names this key") {
					t.Errorf("%v: %+v", c, f)
				}
			}
			if err := acts[c.act](t, next); err != nil {
				t.Errorf("%v: the next run: %v", c, err)
			}
		})
	}
}

// A wrong passphrase of the old key, which must vouch for the new one, makes no
// half of a renewal.
func TestRenewalNeedsTheOldKeyToo(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	w := world()
	asked := 0
	w.Pass = answering(func() string {
		if asked++; asked == 1 {
			return "for the new key"
		}
		return "wrong"
	})
	halting := reopen(t, dir, w)
	p, err := authorities.PlanRenewal(ctx, halting, authorities.RenewAsk{Handle: "root"})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := authorities.Renew(ctx, halting, p); err == nil {
		t.Fatal("the old key was opened by a wrong passphrase")
	}
	if h, err := e.Hierarchy(ctx); err != nil || len(h.Find("root").Generations) != 1 {
		t.Errorf("half of a renewal is on record: %v", err)
	}
	if c, err := audit.Check(ctx, e, audit.CheckAsk{}); err != nil || len(c.Faults) > 0 {
		t.Errorf("%+v %v", c.Faults, err)
	}
}

// An authority that was renewed while a sheet was on screen does not sign by its
// old certificate, and is not renewed twice.
func TestARenewalMeanwhileStopsOtherActs(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	receive(t, e, 1)
	planned := sheet(t, e, 1)
	first, err := authorities.PlanRenewal(ctx, e, authorities.RenewAsk{Handle: "services"})
	if err != nil {
		t.Fatal(err)
	}
	renewed(t, reopen(t, dir, world()), authorities.RenewAsk{Handle: "services"})
	if err := sign(e, planned); err == nil || !strings.Contains(err.Error(), "renewed meanwhile") {
		t.Errorf("signing: %v", err)
	}
	if _, _, err := authorities.Renew(ctx, e, first); err == nil || !strings.Contains(err.Error(),
		"renewed meanwhile") {
		t.Errorf("renewing: %v", err)
	}
	intact(t, dir, "renewed meanwhile")
}

// Through three renewals of the root with new keys, a chain is handed over with
// the links that another generation of clients needs.
func TestLinksGoWithTheChain(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	receive(t, e, 1)
	if err := sign(e, sheet(t, e, 1)); err != nil {
		t.Fatal(err)
	}
	renewed(t, e, authorities.RenewAsk{Handle: "root"})
	old, _, err := e.FindCertificate(ctx, "R1")
	if err != nil {
		t.Fatal(err)
	}
	bundle, err := delivery.Bundle(ctx, e, old, nil)
	if err != nil || len(bundle.Links) != 1 {
		t.Fatalf("%d links, %v", len(bundle.Links), err)
	}
	roots, _, err := e.Roots(ctx)
	if err != nil || len(roots) != 2 {
		t.Fatal(roots, err)
	}
	for _, root := range roots {
		v := path.Verify(old.Certificate, append(bundle.Intermediates, bundle.Links...),
			path.Question{Anchors: []*cert.Certificate{root}, Now: time.Now()})
		if !v.Valid {
			t.Errorf("with the root %x alone: %v", root.SubjectKey[:4], v.Reasons())
		}
	}
	// When the link has ended, it is left out.
	late := reopen(t, dir, moved(roots[0].NotAfter.Add(time.Hour)))
	if bundle, err := delivery.Bundle(ctx, late, old, nil); err != nil || len(bundle.Links) != 0 {
		t.Errorf("%d links after their end, %v", len(bundle.Links), err)
	}
}

func TestRestoredNumbersGoOn(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	receive(t, e, 3)
	file := filepath.Join(t.TempDir(), "backup")
	b, err := backup.BackUp(ctx, e, file)
	if err != nil {
		t.Fatal(err)
	}
	receive(t, e, 1) // R4, which the backup does not know
	to := filepath.Join(t.TempDir(), "again")
	r, err := backup.Restore(ctx, file, to, world())
	if err != nil || r.NextRequest != 1001 || r.Backup.Head != b.Head {
		t.Fatalf("%+v %v", r, err)
	}
	again := reopen(t, to, world())
	receive(t, again, 1)
	if _, _, err := again.Request(ctx, "R1001"); err != nil {
		t.Error(err)
	}
	if rec, _, err := again.Request(ctx, "R4"); err == nil {
		t.Errorf("R4 was given out again, for %s", rec.Title)
	}
	intact(t, to, "restored")
	for _, sub := range []string{"keys", "records.db"} {
		if why := disk.Exposed(filepath.Join(to, sub)); why != "" {
			t.Errorf("%s: %s", sub, why)
		}
	}
	_ = dir
}

// A full disk while a backup is written leaves no half of one behind.
func TestABackupIsWholeOrNotThere(t *testing.T) {
	t.Parallel()
	_, e := newEstate(t)
	file := filepath.Join(t.TempDir(), "missing", "backup")
	if _, err := backup.BackUp(ctx, e, file); err == nil {
		t.Error("there is no such directory")
	}
	file = filepath.Join(t.TempDir(), "backup")
	stopped, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := backup.BackUp(stopped, e, file); err == nil {
		t.Error("it was stopped")
	}
	if _, err := os.Stat(file); err == nil {
		t.Error("half a backup is left")
	}
}

func TestDueNamesEverythingOnceSoonestFirst(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	receive(t, e, 2)
	for i := range 2 {
		if err := sign(e, sheet(t, e, i+1)); err != nil {
			t.Fatal(err)
		}
	}
	if list, err := renewals.DueWithin(ctx, e, longer); err != nil || len(list) == 0 {
		t.Fatal(list, err)
	}
	end := time.Now().AddDate(0, 0, 390)
	later := reopen(t, dir, moved(end))
	list, err := renewals.DueWithin(ctx, later, sixty)
	if err != nil {
		t.Fatal(err)
	}
	var titles []string
	for i, d := range list {
		titles = append(titles, d.Title+" "+d.What)
		if i > 0 && d.Day.Before(list[i-1].Day) {
			t.Errorf("%s comes after a later day", d.Title)
		}
	}
	if fmt.Sprint(titles) != "[h0.ternbay.example ends h1.ternbay.example ends]" {
		t.Error(titles)
	}
	if _, _, err := external.Apply(ctx, e, external.ApplyAsk{Handle: "gates", Key: key.P256}); err != nil {
		t.Fatal(err)
	}
	if list, err := renewals.DueWithin(ctx, e, sixty); err != nil || len(list) != 1 || list[0].Title != "gates" {
		t.Errorf("what is sent and not answered is due: %+v %v", list, err)
	}
	// How an authority is renewed depends on where the keys are.
	far := &hierarchy.Authority{Handle: "far", Holder: hierarchy.HeldExternally}
	for want, a := range map[advice.Act]*hierarchy.Authority{advice.AdoptAuthority: far,
		advice.ApplyAuthority: {Handle: "near", Parent: far}, advice.RenewAuthority: {Handle: "own"}} {
		t.Run(fmt.Sprint(want), func(t *testing.T) {
			step := renewals.RenewStep(a)
			if handle, _ := step.Value("authority"); step.Act != want || handle != a.Handle {
				t.Errorf("%v, want %q", step, want)
			}
		})
	}
	calendar := string(renewals.CalendarOf(list, end, func(s advice.Step) string { return string(s.Act) }))
	if strings.Count(calendar, "BEGIN:VEVENT") != 2 || !strings.Contains(calendar, string(advice.RenewCertificate)) {
		t.Error(calendar)
	}
}

func TestACertificateIsReplacedOnce(t *testing.T) {
	t.Parallel()
	_, e := newEstate(t)
	receive(t, e, 1)
	if err := sign(e, sheet(t, e, 1)); err != nil {
		t.Fatal(err)
	}
	s, err := renewals.PlanReissue(ctx, e, renewals.ReissueAsk{Certificate: "h0.ternbay.example"})
	if err != nil {
		t.Fatal(err)
	}
	if err := sign(e, s); err != nil {
		t.Fatal(err)
	}
	if err := sign(e, s); !errors.Is(err, fault.Changed) {
		t.Errorf("one plan renewed it twice: %v", err)
	}
	list, err := e.Certificates(ctx)
	if err != nil {
		t.Fatal(err)
	}
	states := map[lifecycle.State]int{}
	for _, c := range list {
		states[c.State]++
	}
	if states[lifecycle.Replaced] != 1 || states[lifecycle.Valid] != 3 {
		t.Error(states)
	}
	if r, _, err := e.Request(ctx, "R1"); err != nil || r.State != lifecycle.Signed {
		t.Error(r.State, err)
	}
}

// With the same key, an adopted authority keeps the key identifier that another
// program gave it, so that old and new certificate serve the same chains.
func TestSameKeyKeepsItsIdentifier(t *testing.T) {
	t.Parallel()
	_, e := newEstate(t)
	odd := ext.KeyID([]byte("an identifier of another kind"))
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Adopted", Authority: true, NoKeyIDs: true,
		Extra: ext.Set{odd}, From: time.Now().AddDate(-1, 0, 0), Until: time.Now().AddDate(5, 0, 0)})
	a, err := external.PlanAdoption(ctx, e, external.AdoptAsk{Handle: "adopted", List: []*cert.Certificate{root.Cert},
		Signer: root.Signer})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := external.Adopt(ctx, e, a); err != nil {
		t.Fatal(err)
	}
	renewed(t, e, authorities.RenewAsk{Handle: "adopted", SameKey: true, Lifetime: longer})
	g, err := e.Generation(ctx, "adopted")
	if err != nil {
		t.Fatal(err)
	}
	c := g.Certificate
	if g.Number != 2 || string(c.SubjectKey) != "an identifier of another kind" ||
		string(c.AuthorityKey) != string(c.SubjectKey) || !key.Same(c.Key, root.Cert.Key) {
		t.Errorf("g%d, %q, %q", g.Number, c.SubjectKey, c.AuthorityKey)
	}
	if !c.SelfSigned() {
		t.Error("it does not sign itself")
	}
}

// A root that waits for its switch day is no anchor yet, and its links go nowhere.
func TestAPreparedRootIsNotTrustedYet(t *testing.T) {
	t.Parallel()
	_, e := newEstate(t)
	receive(t, e, 1)
	if err := sign(e, sheet(t, e, 1)); err != nil {
		t.Fatal(err)
	}
	renewed(t, e, authorities.RenewAsk{Handle: "root", Day: time.Now().AddDate(0, 2, 0)})
	c, _, err := e.FindCertificate(ctx, "R1")
	if err != nil {
		t.Fatal(err)
	}
	count := func() (int, int) {
		bundle, err := delivery.Bundle(ctx, e, c, nil)
		if err != nil {
			t.Fatal(err)
		}
		roots, _, err := e.Roots(ctx)
		if err != nil {
			t.Fatal(err)
		}
		return len(roots), len(bundle.Links)
	}
	if roots, links := count(); roots != 1 || links != 0 {
		t.Errorf("%d roots and %d links before the switch day", roots, links)
	}
	if _, _, err := renewals.Switch(ctx, e, "root", true, nil, nil); err != nil {
		t.Fatal(err)
	}
	if roots, links := count(); roots != 2 || links != 1 {
		t.Errorf("%d roots and %d links after it", roots, links)
	}
}
