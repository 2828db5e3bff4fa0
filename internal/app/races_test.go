package app_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ca/external"
	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/ops/backup"
	"ironseal/internal/app/ops/overview"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/lifecycle"
	"ironseal/pki/revocation"
	"ironseal/pki/specimen"
)

// What was true when a sheet was made is examined again when it is recorded.
func TestTwoPlansAndOneRecord(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	receive(t, e, 1)
	if err := sign(e, sheet(t, e, 1)); err != nil {
		t.Fatal(err)
	}
	plan := func() *signing.Sheet {
		s, err := renewals.PlanReissue(ctx, e, renewals.ReissueAsk{Certificate: "h0.ternbay.example"})
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	a, b := plan(), plan()
	if err := sign(e, a); err != nil {
		t.Fatal(err)
	}
	if err := sign(e, b); err == nil || !strings.Contains(err.Error(), "renewed") {
		t.Errorf("one certificate was renewed twice: %v", err)
	}
	authority := func(handle string) authorities.Planned {
		subject, err := parseName("CN=Depot,O=Tern Bay Ferries")
		if err != nil {
			t.Fatal(err)
		}
		p, err := authorities.PlanNew(ctx, e, authorities.Ask{Handle: handle, Under: "root", Subject: &subject})
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	p, q := authority("stores"), authority("store")
	if _, _, err := authorities.Create(ctx, e, p); err != nil {
		t.Fatal(err)
	}
	if _, _, err := authorities.Create(ctx, e, q); err == nil || !strings.Contains(err.Error(), "same subject") {
		t.Errorf("two authorities have one subject: %v", err)
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Error(faults)
	}
}

func TestOneOpenApplicationAnAuthority(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	other := reopen(t, dir, world())
	done := make(chan error, 2)
	for _, x := range []*estate.Estate{e, other} {
		go func() { _, _, err := external.Apply(ctx, x, external.ApplyAsk{Handle: "gates"}); done <- err }()
	}
	failed := 0
	for range 2 {
		if err := <-done; err != nil {
			failed++
		}
	}
	open, err := e.Records.Applications(ctx)
	if err != nil || len(open) != 1 || failed != 1 {
		t.Errorf("%d applications are open, %d failed: %v", len(open), failed, err)
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Error(faults)
	}
}

// Eight at work on one estate: nothing is lost, nothing is there twice, and the
// journal tells of all of it.
func TestEightAtWork(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	const workers, each = 8, 6
	var wg sync.WaitGroup
	var mu sync.Mutex
	var failed []error
	for w := range workers {
		mine := reopen(t, dir, world())
		wg.Go(func() {
			for i := range each {
				if err := one(mine, w, i); err != nil {
					mu.Lock()
					failed = append(failed, err)
					mu.Unlock()
				}
			}
		})
	}
	wg.Wait()
	for _, err := range failed {
		t.Error(err)
	}
	n, err := overview.Counts(ctx, e)
	if err != nil || n.Requests != workers*each || n.Certificates != workers*each+workers {
		t.Errorf("%+v, %v", n, err)
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Error(faults)
	}
}

// one is a round of one worker: a request comes, is signed, and now and then renewed.
func one(e *estate.Estate, w, i int) error {
	host := fmt.Sprintf("w%d-%d.ternbay.example", w, i)
	der, err := quickRequest(host)
	if err != nil {
		return err
	}
	list, _, faults := intake.Receive(ctx, e, []intake.Input{{Name: host, Data: bundle.PEM(bundle.Request, der)}}, host)
	if len(faults) > 0 {
		return errors.Join(faults...)
	}
	s, err := signing.Plan(ctx, e, signing.SignAsk{Request: fmt.Sprint("R", list[0].Record.Number),
		Template: "web-server",
		By:       "services"})
	if err == nil {
		err = sign(e, s)
	}
	if err != nil || i > 0 {
		return err
	}
	if s, err = renewals.PlanReissue(ctx, e, renewals.ReissueAsk{Certificate: host}); err == nil {
		err = sign(e, s)
	}
	return err
}

// A key file is destroyed only when it is opened and holds that very key.
func TestWithdrawingTouchesNoOtherKey(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	out := filepath.Join(filepath.Dir(dir), "out")
	draft := func() intake.Drafted {
		d, err := intake.Draft(ctx, world(), e, intake.DraftAsk{Names: specimen.Names(t, "www.ternbay.example"),
			Dir: out})
		if err != nil {
			t.Fatal(err)
		}
		if _, _, f := intake.Receive(ctx, e, []intake.Input{{Name: "a", Data: bundle.PEM(bundle.Request,
			d.Request.Raw)}},
			""); f != nil {
			t.Fatal(f)
		}
		return d
	}
	d := draft()
	for _, f := range []string{d.KeyFile, d.RequestFile} {
		if err := os.Rename(f, f+".old"); err != nil {
			t.Fatal(err)
		}
	}
	second := draft()
	if _, err := intake.Decide(ctx, e, "R1", lifecycle.Withdrawn, "wrong", false); err == nil ||
		!strings.Contains(err.Error(), "another key") {
		t.Errorf("withdrawing with another key in its place: %v", err)
	}
	if _, err := os.Stat(second.KeyFile); err != nil {
		t.Fatal("the key of another draft is destroyed")
	}
	// It is reported, and can be finished once the right key lies there again.
	if faults := checked(t, dir); len(faults) != 1 || faults[0].Next[0].Act != advice.WithdrawRequest {
		t.Errorf("%v", faults)
	}
	if err := errors.Join(os.Rename(second.KeyFile, second.KeyFile+".second"),
		os.Rename(d.KeyFile+".old", d.KeyFile)); err != nil {
		t.Fatal(err)
	}
	done, err := intake.Decide(ctx, e, "R1", lifecycle.Withdrawn, "wrong", false)
	if err != nil || done.Destroyed != d.KeyFile {
		t.Errorf("%+v, %v", done, err)
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Error(faults)
	}
}

// The clock: the latest time on record counts, not that of the newest entry; every
// act is refused; and there is one way out, on record.
func TestTheLatestTimeCounts(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	receive(t, e, 2)
	s := sheet(t, e, 1)
	e.Close()
	at := func(d time.Duration) *estate.Estate {
		w := world()
		w.Now = func() time.Time { return time.Now().Add(d) }
		return reopen(t, dir, w)
	}
	ahead := at(24 * time.Hour)
	if _, err := intake.Decide(ctx, ahead, "R2", lifecycle.Declined, "tomorrow", false); err != nil {
		t.Fatal(err)
	}
	var behind *store.BehindError
	now := at(0)
	for what, act := range map[string]func() error{
		"a receipt": func() error {
			r := specimen.Request(t, nil, "CN=x.ternbay.example", nil)
			_, _, faults := intake.Receive(ctx, now, []intake.Input{{Name: "x", Data: bundle.PEM(bundle.Request,
				r.Raw)}}, "")
			return errors.Join(faults...)
		},
		"a decision": func() error {
			_, err := intake.Decide(ctx, now, "R1", lifecycle.Declined, "no",
				false)
			return err
		},
		"a signature": func() error { return sign(now, s) },
		"a backup": func() error {
			_, err := backup.BackUp(ctx, now, filepath.Join(t.TempDir(),
				"b"))
			return err
		},
		"an authority": func() error {
			_, _, err := external.Apply(ctx, now, external.ApplyAsk{Handle: "gates"})
			return err
		},
	} {
		t.Run(what, func(t *testing.T) {
			if err := act(); !errors.As(err, &behind) {
				t.Errorf("%s passes with a clock behind the records: %v", what, err)
			}
		})
	}
	if s, err := signing.Plan(ctx, now, signing.SignAsk{Request: "R1", Template: "web-server",
		By: "services"}); err != nil ||
		!s.Plan.Findings.Has(finding.ClockBehind) {
		t.Errorf("the sheet does not tell of the clock: %v", err)
	}
	if _, _, err := backup.SettleClock(ctx, now, "the battery was changed"); err != nil {
		t.Fatal(err)
	}
	if err := sign(now, sheet(t, now, 1)); err != nil {
		t.Errorf("after it was settled: %v", err)
	}
	if _, _, err := backup.SettleClock(ctx, now, "again"); err == nil {
		t.Error("there was nothing to settle")
	}
	back, err := now.Records.Backwards(ctx)
	if err != nil || len(back) == 0 || !back[0].Settled {
		t.Errorf("%v, %v", back, err)
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Error(faults)
	}
}

// A clock before the root's beginning grants nothing, and says so.
func TestAClockBeforeTheBeginning(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	receive(t, e, 1)
	w := world()
	w.Now = func() time.Time { return time.Now().AddDate(-3, 0, 0) }
	late := reopen(t, dir, w)
	s, err := signing.Plan(ctx, late, signing.SignAsk{Request: "R1", Template: "web-server", By: "services"})
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range s.Plan.Findings {
		if f.Code == finding.LifeOver && strings.Contains(f.Message, "begins on") {
			return
		}
	}
	t.Errorf("%v", s.Plan.Findings)
}

// One wait for a database that is busy is enough for a whole batch.
func TestABatchStopsAfterOneWait(t *testing.T) {
	t.Parallel()
	for _, err := range []error{store.ErrBusy, store.ErrFull, store.ErrReadOnly, store.ErrUncertain,
		&store.BehindError{}} {
		if !store.Permanent(fmt.Errorf("records x: %w: locked", err)) {
			t.Errorf("%v: it is tried again for every certificate", err)
		}
	}
	if store.Permanent(fmt.Errorf("R7: %w", fault.Changed)) {
		t.Error("one record that changed keeps the others back")
	}
	_, e := newEstate(t)
	receive(t, e, 3)
	signed := make(chan signing.SignResult, 3)
	for n := range 3 {
		signed <- signing.SignResult{Sheet: sheet(t, e, n+1)}
	}
	close(signed)
	e.Close() // every commit fails now, at once
	told := 0
	signing.RecordAll(context.Background(), e, signed, func(r signing.SignResult) {
		if told++; r.Err == nil {
			t.Error("it is told as signed")
		}
	})
	if told != 3 {
		t.Errorf("%d were told of", told)
	}
}

// While somebody edits a template without end, every backup that is called done can
// be restored.
func TestBackupsUnderEdits(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	stop := make(chan bool)
	var wg sync.WaitGroup
	wg.Go(func() {
		path := filepath.Join(dir, "templates", "web-server.toml")
		data, _ := os.ReadFile(path)
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			default:
				_ = os.WriteFile(path, append(data, []byte(fmt.Sprintf("# %06d\n", i))...), 0o644)
			}
		}
	})
	for i := range 8 {
		file := filepath.Join(t.TempDir(), "backup")
		if _, err := backup.BackUp(ctx, e, file); err != nil {
			t.Errorf("backup %d: %v", i, err)
			continue
		}
		if _, err := backup.Restore(ctx, file, filepath.Join(t.TempDir(), "again"), world()); err != nil {
			t.Errorf("backup %d was called done: %v", i, err)
		}
		if left, _ := filepath.Glob(filepath.Join(filepath.Dir(file), ".ironseal*")); len(left) > 0 {
			t.Errorf("%v is left behind", left)
		}
	}
	close(stop)
	wg.Wait()
}

// A key that another program removes while a backup is made may be one that its copy of the records needs. The backup
// begins again.
func TestABackupBeginsAgainWhenAKeyGoes(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	e.Close()
	key := filepath.Join(dir, "keys", strings.Repeat("ab", 32)+".key")
	if err := os.WriteFile(key, []byte("of an act that gave up"), 0o600); err != nil {
		t.Fatal(err)
	}
	snapshots := 0
	w := world()
	w.Step = func(step string) error {
		if step != estate.StepSnapshot {
			return nil
		}
		if snapshots++; snapshots == 1 {
			return os.Remove(key)
		}
		return nil
	}
	file, to := filepath.Join(t.TempDir(), "backup"), filepath.Join(t.TempDir(), "again")
	if _, err := backup.BackUp(ctx, reopen(t, dir, w), file); err != nil || snapshots != 2 {
		t.Fatalf("%d snapshots, %v", snapshots, err)
	}
	if _, err := backup.Restore(ctx, file, to, world()); err != nil {
		t.Fatal(err)
	}
	intact(t, to, "restored")
}

// Lists are published while others revoke all the time: each publication is done, and tells what was revoked before it.
func TestPublishingBesideWriters(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	const writers, each = 8, 6
	receive(t, e, writers*each)
	plans, err := signing.PlanAll(ctx, e, signing.SignAsk{Template: "web-server"}, func(int) {})
	must0(t, err)
	var sheets []*signing.Sheet
	for _, p := range plans {
		must0(t, p.Err)
		sheets = append(sheets, p.Sheet)
	}
	must0(t, signing.Sign(ctx, e, sheets, func(r signing.SignResult) { must0(t, r.Err) }))
	var wg sync.WaitGroup
	for w := range writers {
		mine := reopen(t, dir, world())
		wg.Go(func() {
			for i := range each {
				p, err := revoking.PlanRevoke(ctx, mine, revoking.Ask{Names: []string{fmt.Sprintf("R%d", w*each+i+1)},
					Reason: revocation.Superseded, Because: "trying"})
				if err == nil {
					_, err = revoking.Revoke(ctx, mine, p)
				}
				if err != nil {
					t.Error(err)
				}
			}
		})
	}
	publishers := []*estate.Estate{reopen(t, dir, world()), reopen(t, dir, world())}
	for _, mine := range publishers {
		wg.Go(func() {
			for range 6 {
				p, err := publishing.PlanLists(ctx, mine, publishing.Ask{All: true})
				if err == nil {
					_, err = publishing.Sign(ctx, mine, p)
				}
				if err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	if faults := checked(t, dir); len(faults) > 0 {
		t.Error(faults)
	}
}
