package app_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ca/external"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/app/transfer"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/handover"
	"ironseal/pki/path"
	"ironseal/pki/specimen"
)

// An authority cannot be renewed under one that is below it, and nothing that
// would leave such a loop is ever committed.
func TestNoAuthorityStandsBelowItself(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	for _, under := range []string{"services", "root"} {
		p, err := authorities.PlanRenewal(ctx, e, authorities.RenewAsk{Handle: "root", Under: under})
		if err != nil {
			t.Fatal(err)
		}
		if !p.Plan.Findings.Has(finding.BelowItself) || len(p.Plan.Findings.Refusing()) == 0 {
			t.Errorf("under %s: %v", under, p.Plan.Findings.Codes())
		}
		if _, _, err := authorities.Renew(ctx, e, p); err == nil {
			t.Errorf("root was renewed under %s", under)
		}
	}
	// Even an act that plans nothing cannot commit a loop.
	before, _, err := e.Records.Newest(ctx)
	if err != nil {
		t.Fatal(err)
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		t.Fatal(err)
	}
	_, err = e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		up, err := tx.AnyGenerationID(h.Find("services").Current())
		if err != nil {
			return nil, err
		}
		loop := specimen.Make(t, nil, specimen.Plan{Subject: "CN=loop", Authority: true})
		id, err := tx.AddCertificate(store.NewCertificate{Certificate: loop.Cert, Issuer: up})
		if err != nil {
			return nil, err
		}
		_, err = tx.AddGeneration("root", "services", 1, id, up, time.Time{})
		return []event.Record{event.On("root", event.AuthorityRenewed{})}, err
	})
	if err == nil || !strings.Contains(err.Error(), "form a circle") {
		t.Errorf("a loop was committed: %v", err)
	}
	if after, _, _ := e.Records.Newest(ctx); after != before {
		t.Error("an act that failed is in the journal")
	}
	if h, err := e.Hierarchy(ctx); err != nil || len(h) != 2 {
		t.Errorf("%d authorities load: %v", len(h), err)
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Error(faults)
	}
}

// far is a root elsewhere that was renewed, with the links between its generations.
type far struct {
	old, renewed       *specimen.Entity
	newByOld, oldByNew *specimen.Entity
	mid                *specimen.Entity // below the renewed root
}

func farRoot(t testing.TB) far {
	t.Helper()
	now := time.Now().UTC().Truncate(time.Second)
	live := func(p specimen.Plan) specimen.Plan {
		p.From, p.Until, p.Authority = now.AddDate(-1, 0, 0), now.AddDate(8, 0, 0), true
		return p
	}
	var f far
	f.old = specimen.Make(t, nil, live(specimen.Plan{Subject: "CN=Far Root"}))
	f.renewed = specimen.Make(t, nil, live(specimen.Plan{Subject: "CN=Far Root"}))
	f.newByOld = specimen.Make(t, f.old, live(specimen.Plan{Subject: "CN=Far Root", Signer: f.renewed.Signer}))
	f.oldByNew = specimen.Make(t, f.renewed, live(specimen.Plan{Subject: "CN=Far Root", Signer: f.old.Signer}))
	f.mid = specimen.Make(t, f.renewed, live(specimen.Plan{Subject: "CN=Far Services"}))
	return f
}

func adopt(e *estate.Estate, ask external.AdoptAsk) error {
	a, err := external.PlanAdoption(ctx, e, ask)
	if err != nil {
		return err
	}
	_, _, err = external.Adopt(ctx, e, a)
	return err
}

func certs(list ...*specimen.Entity) []*cert.Certificate {
	var out []*cert.Certificate
	for _, e := range list {
		out = append(out, e.Cert)
	}
	return out
}

// Link certificates are imported as links, whichever way they come, and never as
// generations.
func TestLinksAreAdoptedAsLinks(t *testing.T) {
	t.Parallel()
	f := farRoot(t)
	for what, steps := range map[string][]external.AdoptAsk{
		"with the new root": {{Handle: "far", List: certs(f.old)},
			{Handle: "far", List: certs(f.newByOld, f.renewed, f.oldByNew)}},
		"by themselves, later on": {{Handle: "far", List: certs(f.old)}, {Handle: "far", List: certs(f.renewed)},
			{Handle: "far", List: certs(f.newByOld)}, {Handle: "far", List: certs(f.oldByNew)}},
	} {
		dir, e := newEstate(t)
		for _, ask := range steps {
			if err := adopt(e, ask); err != nil {
				t.Fatalf("%s: %v", what, err)
			}
		}
		h, err := e.Hierarchy(ctx)
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		a := h.Find("far")
		if len(a.Generations) != 2 || len(a.Links) != 2 || a.Parent != nil {
			t.Errorf("%s: %d generations, %d links", what, len(a.Generations), len(a.Links))
		}
		if faults := checked(t, dir); len(faults) > 0 {
			t.Errorf("%s: %v", what, faults)
		}
	}
	_, e := newEstate(t)
	if err := adopt(e, external.AdoptAsk{Handle: "far", List: certs(f.newByOld)}); err == nil ||
		!strings.Contains(err.Error(), "link certificate") {
		t.Errorf("a link without its roots: %v", err)
	}
	if err := adopt(e, external.AdoptAsk{Handle: "far", List: certs(f.old)}); err != nil {
		t.Fatal(err)
	}
	if err := adopt(e, external.AdoptAsk{Handle: "far", List: certs(f.newByOld)}); err == nil ||
		!strings.Contains(err.Error(), "both roots must be on record") {
		t.Errorf("a link to a root that is not on record: %v", err)
	}
}

// A cross certificate, by which one authority on record vouches for another, moves
// neither of them.
func TestCrossCertificatesAreLinks(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	now := time.Now().UTC().Truncate(time.Second)
	f := farRoot(t)
	other := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Other Root", Authority: true, From: now.AddDate(-1, 0, 0),
		Until: now.AddDate(8, 0, 0)})
	cross := specimen.Make(t, other, specimen.Plan{Subject: "CN=Far Root", Authority: true, Signer: f.old.Signer,
		From: now.AddDate(-1, 0, 0), Until: now.AddDate(8, 0, 0)})
	for _, ask := range []external.AdoptAsk{{Handle: "far", List: certs(f.old)}, {Handle: "other", List: certs(other)},
		{Handle: "far", List: certs(cross)}} {
		if err := adopt(e, ask); err != nil {
			t.Fatal(err)
		}
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if a := h.Find("far"); a.Parent != nil || len(a.Generations) != 1 || len(h.Find("other").Links) != 1 {
		t.Errorf("far stands below %v with %d generations; other has %d links", a.Parent, len(a.Generations),
			len(h.Find("other").Links))
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Error(faults)
	}
}

// applied packs the request of an authority whose parent is in another estate.
func applied(t *testing.T, e *estate.Estate) string {
	t.Helper()
	if _, _, err := external.Apply(ctx, e, external.ApplyAsk{Handle: "gates", Parent: "offline"}); err != nil {
		t.Fatal(err)
	}
	to := filepath.Join(t.TempDir(), "stick")
	if _, _, err := transfer.Pack(ctx, e, transfer.PackAsk{Dir: to, Handles: []string{"gates"}}); err != nil {
		t.Fatal(err)
	}
	return to
}

// answered signs what a transfer brought, by the root, and gives the answer.
func answered(t *testing.T, safe *estate.Estate, stick, request string) transfer.Carried {
	t.Helper()
	open(t, safe, stick, nil)
	s, err := signing.Plan(ctx, safe, signing.SignAsk{Request: request, Template: "intermediate-authority", By: "root"})
	if err != nil {
		t.Fatal(err)
	}
	if err := sign(safe, s); err != nil {
		t.Fatal(err)
	}
	back := filepath.Join(t.TempDir(), "back")
	if _, _, _, err := transfer.PackAnswers(ctx, safe, stick, back); err != nil {
		t.Fatal(err)
	}
	folder, err := transfer.ReadFolder(back)
	if err != nil {
		t.Fatal(err)
	}
	return folder
}

// The answer of an estate whose root was renewed brings the new root and the link:
// what the online estate hands out is accepted by a client that holds only the old.
func TestAnAnswerBringsTheLink(t *testing.T) {
	t.Parallel()
	_, safe := newEstate(t)
	dir, e := bareEstate(t, "Tern Bay Gates")
	roots, _, err := safe.Roots(ctx)
	if err != nil {
		t.Fatal(err)
	}
	oldRoot := roots[0]
	first, err := transfer.OpenFolder(ctx, e, answered(t, safe, applied(t, e), "R1"), []*cert.Certificate{oldRoot})
	if err != nil || first.Answers[0].Err != nil {
		t.Fatal(err, first.Answers)
	}
	p, err := authorities.PlanRenewal(ctx, safe, authorities.RenewAsk{Handle: "root"})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := authorities.Renew(ctx, safe, p); err != nil {
		t.Fatal(err)
	}
	// no anchor: the old root is on record, and the link vouches for the new one
	second, err := transfer.OpenFolder(ctx, e, answered(t, safe, applied(t, e), "R2"), nil)
	if err != nil || second.Answers[0].Err != nil {
		t.Fatal(err, second.Answers)
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		t.Fatal(err)
	}
	root := h.Find("gates").Current().Line()[1].Authority
	if len(root.Generations) != 2 || len(root.Links) != 2 {
		t.Fatalf("%s has %d generations and %d links", root.Handle, len(root.Generations), len(root.Links))
	}
	receive(t, e, 1)
	s, err := signing.Plan(ctx, e, signing.SignAsk{Request: "R1", Template: "web-server", By: "gates"})
	if err != nil {
		t.Fatal(err)
	}
	if err := sign(e, s); err != nil {
		t.Fatal(err)
	}
	held, _, err := e.FindCertificate(ctx, "h0.ternbay.example")
	if err != nil {
		t.Fatal(err)
	}
	file, err := delivery.Export(ctx, e, held, handover.PEM, delivery.WithIssuers)
	if err != nil {
		t.Fatal(err)
	}
	chain, err := transfer.CertificatesIn("chain", file.Data)
	if err != nil {
		t.Fatal(err)
	}
	if v := path.Verify(chain[0], chain, path.Question{Anchors: []*cert.Certificate{oldRoot}, Now: time.Now(),
		Name: "h0.ternbay.example"}); !v.Valid {
		t.Errorf("a client with the old root alone refuses: %v", v.Reasons())
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Error(faults)
	}
}

func open(t testing.TB, e *estate.Estate, dir string, anchors []*cert.Certificate) transfer.Opened {
	t.Helper()
	folder, err := transfer.ReadFolder(dir)
	if err != nil {
		t.Fatal(err)
	}
	o, err := transfer.OpenFolder(ctx, e, folder, anchors)
	if err != nil || len(o.Faults) > 0 {
		t.Fatal(err, o.Faults)
	}
	return o
}

// A key file that vanished between the making and the recording is no authority's; a
// commit of which nobody knows the outcome removes no key.
func TestKeysAndCommits(t *testing.T) {
	t.Parallel()
	dir, _ := newEstate(t)
	keys := func() []string {
		files, err := filepath.Glob(filepath.Join(dir, "keys", "*.key"))
		if err != nil {
			t.Fatal(err)
		}
		return files
	}
	before := keys()
	w := world()
	w.Step = func(step string) error {
		for _, f := range keys() {
			if step == estate.StepSigned && !slices.Contains(before, f) {
				return os.Rename(f, f+".away")
			}
		}
		return nil
	}
	e := reopen(t, dir, w)
	p, err := authorities.PlanNew(ctx, e, authorities.Ask{Handle: "stores", Under: "root"})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := authorities.Create(ctx, e, p); err == nil || !strings.Contains(err.Error(), "key file is gone") {
		t.Errorf("an authority without its key file: %v", err)
	}
	if h, err := e.Hierarchy(ctx); err != nil || h.Find("stores") != nil {
		t.Errorf("it is on record all the same: %v", err)
	}
	if err := authorities.DiscardKey(e, fmt.Errorf("x: %w", store.ErrUncertain), nil); err != nil {
		t.Errorf("a key that may be on record is removed: %v", err)
	}
}
