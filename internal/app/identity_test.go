package app_test

import (
	"errors"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ca/external"
	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/internal/store/onserver"
	"ironseal/internal/store/sqlstore"
	"ironseal/pki/bundle"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/specimen"
)

// One process serves several people: the journal names each for what they did, and how
// it is known that it was them, where that is not the login.
func TestEveryActHasAnIdentity(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	people := map[string]estate.Identity{"kim": {Name: "kim", Known: estate.ByLogin},
		"sam": {Name: "sam", Known: "client certificate 4f1a"}}
	var all sync.WaitGroup
	for name, who := range people {
		all.Go(func() {
			theirs := e.As(who)
			for range 5 {
				r := specimen.Request(t, nil, "CN="+name+".ternbay.example", []string{name + ".ternbay.example"})
				if _, _, faults := intake.Receive(ctx, theirs, []intake.Input{{Name: name,
					Data: bundle.PEM(bundle.Request, r.Raw)}}, ""); len(faults) > 0 {
					t.Error(faults)
				}
			}
		})
	}
	all.Wait()
	counted := map[string]int{}
	if err := e.Records.Entries(ctx, 0, 0, func(en journal.Entry) error {
		counted[en.Actor]++
		if known := strings.Contains(en.Detail, `"known by":"client certificate 4f1a"`); known != (en.Actor == "sam") {
			t.Errorf("%s: %s", en.Actor, en.Detail)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if counted["kim"] != 5 || counted["sam"] != 5 {
		t.Error(counted)
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Error(faults)
	}
}

// A caller tells failures apart by their kind, not by their words.
func TestFailuresHaveKinds(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	receive(t, e, 2)
	stale := sheet(t, e, 1)
	if err := sign(e, sheet(t, e, 1)); err != nil {
		t.Fatal(err)
	}
	renewal := func() authorities.RenewalPlan {
		p, err := authorities.PlanRenewal(ctx, e, authorities.RenewAsk{Handle: "services"})
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	before := renewal()
	if _, _, err := authorities.Renew(ctx, e, renewal()); err != nil {
		t.Fatal(err)
	}
	_, _, again := authorities.Renew(ctx, e, before)
	_, _, noRequest := e.Request(ctx, "R99")
	_, _, noCertificate := e.FindCertificate(ctx, "nothing.ternbay.example")
	_, noAuthority := e.Generation(ctx, "quay")
	_, noTemplate := e.Template("web-servr")
	_, notSent := external.AppliedBefore(ctx, e, "services")
	_, noRenewal := renewals.PlanReissue(ctx, e, renewals.ReissueAsk{Certificate: "R99"})
	for name, c := range map[string]struct{ err, kind error }{
		"signed already":   {sign(e, stale), fault.Changed},
		"renewed already":  {again, fault.Changed},
		"no request":       {noRequest, fault.NotFound},
		"no certificate":   {noCertificate, fault.NotFound},
		"no authority":     {noAuthority, fault.NotFound},
		"no template":      {noTemplate, fault.NotFound},
		"not sent":         {notSent, fault.NotFound},
		"nothing to renew": {noRenewal, fault.NotFound},
		"busy":             {store.ErrBusy, fault.Busy},
	} {
		t.Run(name, func(t *testing.T) {
			for _, kind := range []error{fault.Changed, fault.Busy, fault.NotFound} {
				if errors.Is(c.err, kind) != (kind == c.kind) {
					t.Errorf("%s: %v is of the kind %q: %t", name, c.err, kind, errors.Is(c.err, kind))
				}
			}
		})
	}
	refused, err := signing.Plan(ctx, e, signing.SignAsk{Request: "R2", Template: "intermediate-authority", By: "root"})
	if err != nil {
		t.Fatal(err)
	}
	var by *issue.Refused
	if err := sign(e, refused); !errors.As(err, &by) || len(by.Findings.Refusing()) == 0 {
		t.Errorf("a refusal carries its findings: %v", err)
	}
	for _, f := range by.Findings.Refusing() {
		if _, known := finding.Lookup(f.Code); !known {
			t.Errorf("%s is no finding", f.Code)
		}
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Error(faults)
	}
}

// What the records hold in memory is what is in the file, also when another program
// changed it: the hierarchy is kept only as long as the journal has the same head.
func TestTheHierarchyThatIsKeptIsFresh(t *testing.T) {
	onserver.FilesOnly(t)
	t.Parallel()
	dir, e := newEstate(t)
	first, err := e.Hierarchy(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := e.Hierarchy(ctx); err != nil || again.Generation("services") != first.Generation("services") {
		t.Errorf("what has not changed was read again: %v", err)
	}
	other := reopen(t, dir, world())
	p, err := authorities.PlanRenewal(ctx, other, authorities.RenewAsk{Handle: "services"})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := authorities.Renew(ctx, other, p); err != nil {
		t.Fatal(err)
	}
	after, err := e.Hierarchy(ctx)
	if err != nil || after.Generation("services").Number != 2 || first.Generation("services").Number != 1 {
		t.Errorf("another program renewed it: %v %v", after.Generation("services"), err)
	}
	s, err := sqlstore.Open(ctx, store.File(filepath.Join(dir, "records.db")))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	fresh, err := s.Hierarchy(ctx)
	if err != nil || fresh.Generation("services").Number != 2 {
		t.Error(fresh, err)
	}
}
