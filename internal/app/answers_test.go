package app_test

import (
	"crypto/rand"
	"encoding/json"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/audit"
	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ca/external"
	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/ops/overview"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/app/transfer"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/issue"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
	"ironseal/pki/span"
	"ironseal/pki/specimen"
)

func parseName(s string) (dn.Name, error) { return dn.Parse(s) }

// quickRequest drafts a request without a test at hand.
func quickRequest(host string) ([]byte, error) {
	signer, err := key.Generate(key.P256, rand.Reader)
	if err != nil {
		return nil, err
	}
	subject, err := dn.Parse("CN=" + host)
	if err != nil {
		return nil, err
	}
	return request.Draft(subject, ext.Set{}, signer, rand.Reader)
}

// An answer of which something could not be imported may come again: what was imported
// is known then, and the rest is tried again.
func TestATransferThatFailedInPartComesAgain(t *testing.T) {
	t.Parallel()
	dir, e := bareEstate(t, "Tern Bay Gates")
	receive(t, e, 2)
	out := filepath.Join(t.TempDir(), "c")
	if _, _, err := transfer.Pack(ctx, e, transfer.PackAsk{Dir: out, All: true}); err != nil {
		t.Fatal(err)
	}
	_, other := newEstate(t)
	open(t, other, out, nil)
	if err := sign(other, sheet(t, other, 1)); err != nil {
		t.Fatal(err)
	}
	s, err := signing.Plan(ctx, other, signing.SignAsk{Request: "R2", Template: "web-server", By: "services",
		Amend: issue.Amendments{Add: specimen.Names(t, "z.ternbay.example")}})
	if err != nil {
		t.Fatal(err)
	}
	if err := sign(other, s); err != nil {
		t.Fatal(err)
	}
	back := filepath.Join(t.TempDir(), "b")
	if _, _, _, err := transfer.PackAnswers(ctx, other, out, back); err != nil {
		t.Fatal(err)
	}
	roots, _, err := other.Roots(ctx)
	if err != nil {
		t.Fatal(err)
	}
	folder, err := transfer.ReadFolder(back)
	if err != nil {
		t.Fatal(err)
	}
	if o, err := transfer.OpenFolder(ctx, e, folder, nil); err != nil || o.Answers[0].Err == nil ||
		o.Answers[1].Err == nil {
		t.Fatalf("a root that only came along was believed: %+v, %v", o.Answers, err)
	}
	for i := range 2 {
		o, err := transfer.OpenFolder(ctx, e, folder, roots)
		if err != nil {
			t.Fatal(err)
		}
		if a := o.Answers[0]; a.Err != nil || a.Known != (i > 0) {
			t.Errorf("round %d: the good one: %+v", i, a)
		}
		if a := o.Answers[1]; a.Err == nil || !strings.Contains(a.Err.Error(), "answer-has-more") {
			t.Errorf("round %d: the one with a name too many: %+v", i, a)
		}
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Error(faults)
	}
}

// What was verified is what is imported: the folder is not looked at again.
func TestAFolderThatIsSwapped(t *testing.T) {
	t.Parallel()
	pack := func(organisation string) string {
		_, e := bareEstate(t, organisation)
		receive(t, e, 1)
		to := filepath.Join(t.TempDir(), "c")
		if _, _, err := transfer.Pack(ctx, e, transfer.PackAsk{Dir: to, All: true}); err != nil {
			t.Fatal(err)
		}
		return to
	}
	good, evil := pack("Tern Bay Gates"), pack("Evil Ferries")
	_, signer := newEstate(t)
	folder, err := transfer.ReadFolder(good)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.RemoveAll(good); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(evil, good); err != nil {
		t.Fatal(err)
	}
	o, err := transfer.OpenFolder(ctx, signer, folder, nil)
	if err != nil || len(o.Received) != 1 {
		t.Fatal(o, err)
	}
	if o.Received[0].Record.Sender != "transfer from Tern Bay Gates" {
		t.Errorf("it came from %q", o.Received[0].Record.Sender)
	}
}

// What a transfer folder holds that is no plain file is never waited for, and a
// manifest's text never becomes a path.
func TestWhatIsNoPlainFileIsNotCarried(t *testing.T) {
	t.Parallel()
	_, e := bareEstate(t, "Tern Bay Gates")
	receive(t, e, 1)
	pack := func() string {
		to := filepath.Join(t.TempDir(), "c")
		if _, _, err := transfer.Pack(ctx, e, transfer.PackAsk{Dir: to, Requests: []string{"R1"}}); err != nil {
			t.Fatal(err)
		}
		return to
	}
	for what, swap := range strange() {
		to := pack()
		for _, name := range []string{transfer.ManifestFile, transfer.TransferCode, transfer.PageFile} {
			dir := copied(t, to)
			if err := os.Remove(filepath.Join(dir, name)); err != nil {
				t.Fatal(err)
			}
			if err := swap(filepath.Join(dir, name)); err != nil {
				t.Fatal(err)
			}
			if _, err := transfer.ReadFolder(dir); err == nil || !strings.Contains(err.Error(), "no plain file") {
				t.Errorf("%s as %s: %v", what, name, err)
			}
		}
	}
	for _, answers := range []string{"../../x", "R1 ../../x", strings.Repeat("f", 100), "F00DF00DF00DF00D"} {
		data, err := json.Marshal(transfer.Folder{Form: 1, ID: strings.Repeat("0", 32), Kind: transfer.AnswersFolder,
			Answers: answers})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := transfer.ReadManifestOf(data); err == nil {
			t.Errorf("%q passes for a transfer's name", answers)
		}
	}
}

// Only what was sent is answered, and a certificate that is on record is called so.
func TestOnlyWhatWasSentIsAnswered(t *testing.T) {
	t.Parallel()
	_, e := newEstate(t)
	receive(t, e, 1)
	if err := sign(e, sheet(t, e, 1)); err != nil {
		t.Fatal(err)
	}
	h, _, err := e.FindCertificate(ctx, "R1")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := external.MatchAnswer(ctx, e,
		external.AnswerAsk{List: []*cert.Certificate{h.Certificate}}); err == nil ||
		!strings.Contains(err.Error(), "on record already") {
		t.Errorf("a certificate that is known: %v", err)
	}
	if _, err := external.MatchAnswer(ctx, e, external.AnswerAsk{List: []*cert.Certificate{h.Certificate},
		Request: "R1"}); err == nil ||
		!strings.Contains(err.Error(), "takes no answer") {
		t.Errorf("an answer to a request that is signed: %v", err)
	}
}

// small makes a certificate with a serial that others chose.
func small(t testing.TB, issuer *specimen.Entity, subject string, serial int64, authority bool,
	until time.Time) *specimen.Entity {
	t.Helper()
	p := specimen.Plan{Subject: subject, Authority: authority, From: time.Now().AddDate(-1, 0, 0), Until: until,
		Serial: serial}
	if !authority {
		p.Names = []string{strings.TrimPrefix(subject, "CN=")}
	}
	return specimen.Make(t, issuer, p)
}

// Serials of one digit go wherever a serial is shown, and one that an authority has
// as well hides nothing.
func TestShortSerials(t *testing.T) {
	t.Parallel()
	_, e := newEstate(t)
	five, soon := time.Now().AddDate(5, 0, 0), time.Now().AddDate(0, 0, 20)
	root, other := small(t, nil, "CN=Old CA", 1, true, five), small(t, nil, "CN=Other CA", 2, true, five)
	leaf, twin := small(t, root, "CN=old.ternbay.example", 2, false, soon),
		small(t, other, "CN=due.ternbay.example", 1, false, soon)
	for _, ask := range []external.AdoptAsk{{Handle: "old", List: certs(root), Issued: certs(leaf)},
		{Handle: "other", List: certs(other), Issued: certs(twin)}} {
		if err := adopt(e, ask); err != nil {
			t.Fatal(err)
		}
	}
	list, err := renewals.DueWithin(ctx, e, span.Days(60))
	if err != nil || len(list) != 2 {
		t.Errorf("%d are due, and two end soon: %v %v", len(list), list, err)
	}
	for _, name := range []string{"old.ternbay.example", "02"} {
		if _, err := renewals.PlanReissue(ctx, e, renewals.ReissueAsk{Certificate: name}); err == nil {
			t.Errorf("%s came from no request", name)
		}
	}
	r := specimen.Request(t, nil, "CN=old.ternbay.example", []string{"old.ternbay.example"})
	if related, err := intake.Related(ctx, e, r); err != nil || !related.Has(finding.Renews) {
		t.Errorf("%v, %v", related, err)
	}
}

// What ends next is reported, however many ended certificates were replaced.
func TestStatusTellsWhatEndsNext(t *testing.T) {
	t.Parallel()
	_, e := newEstate(t)
	receive(t, e, 12)
	for i := range 12 {
		life := span.Days(10)
		if i == 11 {
			life = span.Days(20)
		}
		s, err := signing.Plan(ctx, e, signing.SignAsk{Request: "R" + strconv.Itoa(i+1), Template: "web-server",
			By:    "services",
			Amend: issue.Amendments{Lifetime: life}})
		if err != nil {
			t.Fatal(err)
		}
		if err := sign(e, s); err != nil {
			t.Fatal(err)
		}
		if i == 11 {
			continue
		}
		if s, err = renewals.PlanReissue(ctx, e,
			renewals.ReissueAsk{Certificate: "h" + strconv.Itoa(i) + ".ternbay.example"}); err != nil {
			t.Fatal(err)
		}
		if err := sign(e, s); err != nil {
			t.Fatal(err)
		}
	}
	st, err := overview.Of(ctx, e)
	if err != nil || len(st.Ending) != 1 || st.Ending[0].Title != "h11.ternbay.example" {
		t.Errorf("%v, %v", st.Ending, err)
	}
}

// A prepared certificate is not taken for the one that serves, and after the way
// back the earlier one serves again.
func TestWhatServesIsFound(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	receive(t, e, 1)
	if err := sign(e, sheet(t, e, 1)); err != nil {
		t.Fatal(err)
	}
	serving, _, err := e.FindCertificate(ctx, "R1")
	if err != nil {
		t.Fatal(err)
	}
	p, err := authorities.PlanRenewal(ctx, e, authorities.RenewAsk{Handle: "services", Day: time.Now().AddDate(0, 1,
		0)})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := authorities.Renew(ctx, e, p); err != nil {
		t.Fatal(err)
	}
	list, err := renewals.PlanChange(ctx, e, "services", nil)
	if err != nil || len(list) != 1 || list[0].Err != nil {
		t.Fatal(list, err)
	}
	if err := sign(e, list[0].Sheet); err != nil {
		t.Fatal(err)
	}
	finds := func(when string, want string) {
		for _, name := range []string{"R1", "h0.ternbay.example"} {
			h, _, err := e.FindCertificate(ctx, name)
			if err != nil || h.Record.Issuer != want || h.State != lifecycle.Valid {
				t.Errorf("%s, %s: %s by %s, %v", when, name, h.State, h.Record.Issuer, err)
			}
		}
	}
	finds("prepared", serving.Record.Issuer)
	if _, _, err := renewals.Switch(ctx, e, "services", true, nil, nil); err != nil {
		t.Fatal(err)
	}
	finds("switched", "services.g2")
	if _, _, err := renewals.SwitchBack(ctx, e, "services", time.Now().AddDate(0, 2, 0)); err != nil {
		t.Fatal(err)
	}
	finds("back", serving.Record.Issuer)
	if faults := checked(t, dir); len(faults) > 0 {
		t.Error(faults)
	}
	if _, _, err := renewals.Switch(ctx, e, "services", true, nil, nil); err != nil {
		t.Fatal(err)
	}
	finds("switched again", "services.g2")
	if faults := checked(t, dir); len(faults) > 0 {
		t.Error(faults)
	}
}

// One key under two subjects is told of, whether one or many are planned.
func TestAKeySeenBeforeIsToldAlike(t *testing.T) {
	t.Parallel()
	_, e := newEstate(t)
	k := specimen.Key(t, key.P256)
	in := func(cn string, names ...string) {
		r := specimen.Request(t, k, "CN="+cn, names)
		if _, _, f := intake.Receive(ctx, e, []intake.Input{{Name: cn, Data: bundle.PEM(bundle.Request, r.Raw)}},
			""); f != nil {
			t.Fatal(f)
		}
	}
	in("y.ternbay.example", "y.ternbay.example")
	in("x.ternbay.example", "x.ternbay.example")
	for n := range 2 {
		if err := sign(e, sheet(t, e, n+1)); err != nil {
			t.Fatal(err)
		}
	}
	in("x.ternbay.example", "x.ternbay.example", "x2.ternbay.example")
	all, err := signing.PlanAll(ctx, e, signing.SignAsk{Template: "web-server", By: "services"}, nil)
	if err != nil || len(all) != 1 || all[0].Err != nil {
		t.Fatal(all, err)
	}
	single := sheet(t, e, 3).Plan.Findings.Has(finding.KeyReused)
	if bulk := all[0].Sheet.Findings().Has(finding.KeyReused); !single || !bulk {
		t.Errorf("told for one: %v, for many: %v", single, bulk)
	}
}

// Fixed fields come in one order, whatever the map's.
func TestFixedFieldsHaveOneOrder(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	path := filepath.Join(dir, "templates", "web-server.toml")
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	text := strings.Replace(string(data), "[subject]",
		"[subject]\nfixed = { street = \"Quay 1\", postalCode = \"5003\", title = \"x\", UID = \"7\" }", 1)
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil || text == string(data) {
		t.Fatal(err)
	}
	receive(t, e, 1)
	seen := map[string]bool{}
	for range 20 {
		seen[sheet(t, e, 1).Plan.Draft.Subject.String()] = true
	}
	if len(seen) != 1 {
		t.Errorf("%d subjects came from one input: %v", len(seen), seen)
	}
}

// RSA keys that share a prime are barred, the new one and the one that was there.
func TestSharedPrimesAreBarred(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	pair := weakPair(t)
	taken(t, e, pair[0], "first.ternbay.example")
	if s := sheet(t, e, 1); len(s.Plan.Findings.Refusing()) > 0 {
		t.Fatal(s.Plan.Findings)
	}
	taken(t, e, pair[1], "second.ternbay.example")
	for n := range 2 {
		s := sheet(t, e, n+1)
		if !s.Plan.Findings.Has(finding.SharedPrime) || sign(e, s) == nil {
			t.Errorf("R%d: %v", n+1, s.Plan.Findings.Codes())
		}
	}
	if c, err := audit.Check(ctx, e, audit.CheckAsk{}); err != nil || len(c.Faults) != 2 {
		t.Errorf("%v, %v", c.Faults, err)
	}
	_ = dir
}

// A renewal that ends before what it replaces is reported.
func TestARenewalThatEndsEarlier(t *testing.T) {
	t.Parallel()
	_, e := newEstate(t)
	receive(t, e, 1)
	if err := sign(e, sheet(t, e, 1)); err != nil {
		t.Fatal(err)
	}
	s, err := renewals.PlanReissue(ctx, e, renewals.ReissueAsk{Certificate: "h0.ternbay.example", Lifetime: span.
		Days(90)})
	if err != nil || !s.Plan.Findings.Has(finding.EndsEarlier) {
		t.Errorf("%v, %v", s.Plan.Findings.Codes(), err)
	}
	if _, err := intake.Decide(ctx, e, "R1", lifecycle.Declined, "x", false); err == nil {
		t.Error("a signed request was declined")
	}
}
