package app_test

import (
	"crypto"
	"crypto/x509"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/ops/overview"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/app/revoke/importing"
	"ironseal/internal/app/revoke/incidents"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/app/revoke/responding"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/app/transfer"
	"ironseal/internal/estate"
	"ironseal/pki/advice"
	"ironseal/pki/ext"
	"ironseal/pki/lifecycle"
	"ironseal/pki/ocsp"
	"ironseal/pki/revocation"
	"ironseal/pki/span"
	"ironseal/pki/specimen"
)

// A key that was lost is certified nowhere again: not for the same request, not for another
// with the same key, and not for an authority that is renewed.
func TestALostKeyIsCertifiedNoMore(t *testing.T) {
	t.Parallel()
	_, e := newEstate(t)
	signer := specimen.Key(t, "ecdsa-p256")
	for i, host := range []string{"a.ternbay.example", "b.ternbay.example"} {
		n := take(t, e, specimen.Request(t, signer, "CN="+host, []string{host}))
		s := sheet(t, e, n)
		if lost := s.Plan.Findings.Has("key-lost"); lost != (i == 1) {
			t.Errorf("%s: %v", host, s.Plan.Findings.Codes())
		}
		if i == 0 {
			if err := sign(e, s); err != nil {
				t.Fatal(err)
			}
			revoke(t, e, revocation.KeyCompromise, "R1")
		}
	}
	all, err := signing.PlanAll(ctx, e, signing.SignAsk{Template: "web-server", By: "services"}, nil)
	if err != nil || len(all) != 1 || !all[0].Sheet.Findings().Has("key-lost") {
		t.Errorf("in a batch: %+v, %v", all, err)
	}
	for _, first := range []func(){func() {
		if _, _, err := incidents.Open(ctx, e, "services", "a drill"); err != nil {
			t.Fatal(err)
		}
	}, func() { revoke(t, e, revocation.CACompromise, "services") }} {
		first()
		_, err := authorities.PlanRenewal(ctx, e, authorities.RenewAsk{Handle: "services", SameKey: true,
			Lifetime: span.Years(12)})
		if err == nil || !strings.Contains(err.Error(), "may be compromised") {
			t.Errorf("renewed with the same key: %v", err)
		}
	}
}

// What was taken back is neither renewed nor handed over.
func TestWhatWasTakenBackIsNotHandedOn(t *testing.T) {
	t.Parallel()
	_, e, list := signed(t, 3)
	nginx, err := e.Receiver("nginx")
	if err != nil {
		t.Fatal(err)
	}
	revoke(t, e, revocation.KeyCompromise, list[0].SerialHex())
	revoke(t, e, revocation.CertificateHold, list[1].SerialHex())
	for _, c := range list[:2] {
		now, _, err := e.FindCertificate(ctx, c.SerialHex())
		if err != nil {
			t.Fatal(err)
		}
		if _, err := delivery.Handover(ctx, e, delivery.HandoverAsk{Certificate: now, Receiver: nginx,
			Dir: t.TempDir()}); err == nil || !strings.Contains(err.Error(), string(now.State)) {
			t.Errorf("%s is handed over: %v", now.State, err)
		}
		if _, err := renewals.PlanReissue(ctx, e, renewals.ReissueAsk{Certificate: c.SerialHex()}); err == nil {
			t.Errorf("%s is renewed", now.State)
		}
	}
	due, err := renewals.PlanDue(ctx, e, span.Years(3), nil)
	if err != nil || len(due) != 1 {
		t.Errorf("%d would be renewed, %v", len(due), err)
	}
}

// Lists lie under the names that templates wrote into certificates by themselves, too; and a
// template for short lives says that nobody will tell.
func TestAddressesByTemplate(t *testing.T) {
	t.Parallel()
	_, e := newEstate(t)
	for name, text := range map[string]string{
		"quay":  "[publish]\nrevocation-lists = [\"http://old.ternbay.example/quay-list.crl\"]\n",
		"short": "lifetime = \"2d\"\nno-revocation = true\n"} {
		if err := os.WriteFile(filepath.Join(e.Dir, "templates", name+".toml"), []byte("based-on = \"web-server\"\n"+
			text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	e.Settings.Publication.Address, e.Settings.Publication.OCSP = "http://pki.ternbay.example",
		"http://ocsp.ternbay.example"
	receive(t, e, 3)
	for i, template := range []string{"quay", "short", "web-server"} {
		s, err := signing.Plan(ctx, e, signing.SignAsk{Request: []string{"R1", "R2", "R3"}[i], Template: template,
			By: "services"})
		if err == nil {
			err = sign(e, s)
		}
		if err != nil {
			t.Fatal(template, err)
		}
	}
	for i, want := range [][]string{{"http://old.ternbay.example/quay-list.crl"}, nil,
		{"http://pki.ternbay.example/services.g1.crl"}} {
		c, _, err := e.FindCertificate(ctx, []string{"R1", "R2", "R3"}[i])
		if err != nil {
			t.Fatal(err)
		}
		x, err := x509.ParseCertificate(c.Raw)
		if err != nil {
			t.Fatal(err)
		}
		_, never := c.Extensions.Find(ext.NoRevocationID)
		if !slices.Equal(x.CRLDistributionPoints, want) || never != (i == 1) || (len(x.OCSPServer) == 0) != (i == 1) ||
			len(x.IssuingCertificateURL) != 1 {
			t.Errorf("R%d: list %v, ocsp %v, issuer %v", i+1, x.CRLDistributionPoints, x.OCSPServer,
				x.IssuingCertificateURL)
		}
	}
	to := filepath.Join(t.TempDir(), "public")
	publish(t, e, publishing.Ask{}, to)
	named, err := os.ReadFile(filepath.Join(to, "quay-list.crl"))
	if err != nil {
		t.Fatal(err)
	}
	if own, err := os.ReadFile(filepath.Join(to, "services.g1.crl")); err != nil || string(own) != string(named) {
		t.Errorf("under the template's name lies another list, %v", err)
	}
}

// Status, what is due and the calendar know of lists and incidents.
func TestListsAndIncidentsAreDue(t *testing.T) {
	t.Parallel()
	dir, e, _ := signed(t, 1)
	titles := func(e *estate.Estate, within span.Span) (out []string) {
		t.Helper()
		list, err := overview.DueWithin(ctx, e, within)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range list {
			out = append(out, d.Title)
		}
		return out
	}
	if got := titles(e, span.Days(1)); len(got) != 0 {
		t.Errorf("before anything was published %v are due", got)
	}
	publish(t, e, publishing.Ask{}, filepath.Join(t.TempDir(), "public"))
	if got := titles(e, span.Days(61)); len(got) != 0 {
		t.Errorf("within 61 days %v: lists that were just published", got)
	}
	if got := titles(at(t, dir, time.Now().AddDate(0, 0, 61)), span.Days(1)); !slices.Contains(got, "root.g1.crl") {
		t.Errorf("the root's list is late, a month before it goes stale, and only %v are due", got)
	}
	tomorrow := at(t, dir, time.Now().AddDate(0, 0, 1))
	if got := titles(tomorrow, span.Days(1)); len(got) != 0 {
		t.Errorf("a day later %v are due, and the list is only to be signed today", got)
	}
	late := at(t, dir, time.Now().AddDate(0, 0, 2))
	if got := titles(late, span.Days(1)); !slices.Equal(got, []string{"services.g1.crl"}) {
		t.Errorf("two days later %v", got)
	}
	later := at(t, dir, time.Now().AddDate(0, 0, 30))
	if got := titles(later, span.Days(1)); !slices.Equal(got, []string{"services.g1.crl"}) {
		t.Errorf("after a month %v", got)
	}
	if _, _, err := incidents.Open(ctx, e, "services", "a drill"); err != nil {
		t.Fatal(err)
	}
	if got := titles(e, span.Days(1)); !slices.Equal(got, []string{"I1"}) {
		t.Errorf("with an incident %v", got)
	}
	s, err := overview.Of(ctx, later)
	if err != nil || len(s.Lists) != 1 || !slices.Equal(s.Incidents, []string{"I1"}) ||
		s.Next[0].Act != advice.ShowIncident {
		t.Errorf("%+v, %v", s, err)
	}
}

// How far back a responder knows is reported, and what it says of a certificate follows a release.
func TestAnswersFollowTheRecords(t *testing.T) {
	t.Parallel()
	_, e, list := signed(t, 1)
	g, err := e.Generation(ctx, "services")
	if err != nil {
		t.Fatal(err)
	}
	r := live(t, e, "")
	if err := r.Keep(ctx, publishing.Ask{Only: []string{"services"}}); err != nil {
		t.Fatal(err)
	}
	id, err := ocsp.IDOf(crypto.SHA256, g.Certificate, list[0].Serial)
	if err != nil {
		t.Fatal(err)
	}
	asked, err := ocsp.Request{Asked: []ocsp.ID{id}, Nonce: []byte("0123456789abcdef")}.DER()
	if err != nil {
		t.Fatal(err)
	}
	for i, change := range []func(){func() {}, func() { revoke(t, e, revocation.CertificateHold, "R1") }, func() {
		if _, _, err := revoking.Release(ctx, e, []string{"R1"}, "found"); err != nil {
			t.Fatal(err)
		}
	}} {
		change()
		a, err := ocsp.ReadResponse(response(t, e, r, asked))
		if err != nil || string(a.Nonce) != "0123456789abcdef" || !a.Responses[0].Cutoff.
			Equal(g.Certificate.NotBefore) ||
			(a.Responses[0].Status == ocsp.Revoked) != (i == 1) {
			t.Errorf("%d: %+v, %v", i, a, err)
		}
	}
}

// An incident about an authority whose parent is in a safe goes to its end by what transfers
// bring: a certificate for another key, and the list that tells of the old one.
func TestAnIncidentBelowASafe(t *testing.T) {
	t.Parallel()
	_, safe := newEstate(t)
	dir, e := bareEstate(t, "Tern Bay Gates")
	roots, _, err := safe.Roots(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if o, err := transfer.OpenFolder(ctx, e, answered(t, safe, applied(t, e), "R1"), roots); err != nil ||
		o.Answers[0].Err != nil {
		t.Fatal(err, o.Answers)
	}
	receive(t, e, 1)
	s, err := signing.Plan(ctx, e, signing.SignAsk{Request: "R1", Template: "web-server", By: "gates"})
	if err != nil {
		t.Fatal(err)
	}
	if err := sign(e, s); err != nil {
		t.Fatal(err)
	}
	refused(t, e, revoking.Ask{Names: []string{"gates"}, Reason: revocation.CACompromise}, "another estate",
		"revocations.import")
	i, _, err := incidents.Open(ctx, e, "gates", "the disk is gone")
	if err != nil {
		t.Fatal(err)
	}
	steps := func() map[string]incidents.Step {
		t.Helper()
		p, err := incidents.Of(ctx, e, i.Name)
		if err != nil {
			t.Fatal(err)
		}
		out := map[string]incidents.Step{}
		for _, s := range p.Steps {
			out[s.Name] = s
		}
		return out
	}
	if s := steps(); s["prepare replacements"].Next.Act != advice.ApplyAuthority ||
		s["revoke"].Next.Act != advice.ImportLists || s["revoke"].Done {
		t.Errorf("%+v", s)
	}
	if o, err := transfer.OpenFolder(ctx, e, answered(t, safe, applied(t, e), "R2"), nil); err != nil ||
		o.Answers[0].Err != nil {
		t.Fatal(err, o.Answers)
	}
	old, _, err := e.FindCertificate(ctx, "gates.g1")
	if err != nil {
		t.Fatal(err)
	}
	lists := func(why revocation.Reason) importing.Taken {
		t.Helper()
		if why >= 0 {
			revoke(t, safe, why, old.SerialHex())
		} else if _, _, err := revoking.Release(ctx, safe, []string{old.SerialHex()}, "a test"); err != nil {
			t.Fatal(err)
		}
		publish(t, safe, publishing.Ask{Only: []string{"root"}, Ahead: 2}, filepath.Join(t.TempDir(), "public"))
		stick := filepath.Join(t.TempDir(), "lists")
		if _, _, err := transfer.Pack(ctx, safe, transfer.PackAsk{Dir: stick, Lists: true}); err != nil {
			t.Fatal(err)
		}
		folder, err := transfer.ReadFolder(stick)
		if err != nil {
			t.Fatal(err)
		}
		o, err := transfer.OpenFolder(ctx, e, folder, nil)
		if err != nil {
			t.Fatal(err)
		}
		return o.Lists
	}
	for _, c := range []struct {
		why   revocation.Reason
		says  string
		state lifecycle.State
		leaf  lifecycle.State
	}{
		{revocation.CertificateHold, "is revoked, hold", lifecycle.OnHold, lifecycle.IssuerRevoked},
		{-1, "stands again", lifecycle.Replaced, lifecycle.Valid},
		{revocation.CACompromise, "is revoked, ca-compromise", lifecycle.Revoked, lifecycle.IssuerRevoked},
	} {
		t.Run(c.says, func(t *testing.T) {
			got := lists(c.why)
			if len(got.News) != 1 || !strings.Contains(got.News[0], c.says) {
				t.Errorf("%q was learned, and it should say %q", got.News, c.says)
			}
			if state := stateOf(t, e, old.SerialHex()); state != c.state {
				t.Errorf("after %q the authority is %s", c.says, state)
			}
			if leaf := stateOf(t, e, "R1"); leaf != c.leaf {
				t.Errorf("after %q what it signed is %s", c.says, leaf)
			}
			if faults := checked(t, dir); len(faults) > 0 {
				t.Errorf("%v", faults)
			}
		})
	}
	if s := steps(); !s["revoke"].Done || s["publish"].Done {
		t.Errorf("before it was published: %+v", s)
	}
	publish(t, e, publishing.Ask{}, filepath.Join(t.TempDir(), "public"))
	if s := steps(); !s["revoke"].Done || !s["publish"].Done {
		t.Errorf("%+v", s)
	}
	due := func() (out []string) {
		t.Helper()
		list, err := overview.DueWithin(ctx, e, span.Days(30))
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range list {
			if strings.HasPrefix(d.Title, "offline") {
				out = append(out, d.What)
			}
		}
		return out
	}
	if told := due(); len(told) > 0 {
		t.Errorf("a list that says no more than what is on record is due: %q", told)
	}
	if err := os.RemoveAll(filepath.Join(dir, "lists")); err != nil { // as after a restore
		t.Fatal(err)
	}
	if told := due(); len(told) != 1 || !strings.Contains(told[0], "missing") {
		t.Errorf("its file is missing, and this is due: %q", told)
	}
}

// What depends on a generation that was renewed is what somebody has to renew: not what was
// revoked, and not what signs answers.
func TestWhatHangsOnARenewedAuthority(t *testing.T) {
	t.Parallel()
	_, e, list := signed(t, 3)
	revoke(t, e, revocation.CessationOfOperation, list[0].SerialHex())
	g, err := e.Generation(ctx, "services")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := responding.Open(ctx, e, g, 24*time.Hour); err != nil {
		t.Fatal(err)
	}
	p, err := authorities.PlanRenewal(ctx, e, authorities.RenewAsk{Handle: "services"})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := authorities.Renew(ctx, e, p); err != nil {
		t.Fatal(err)
	}
	behind, err := e.Records.CountSuperseded(ctx, e.Now())
	if err != nil || len(behind) != 1 || behind[0].Certificates != 2 {
		t.Errorf("%+v, %v", behind, err)
	}
}
