package app_test

import (
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/ops/probes"
	"ironseal/internal/app/parties"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/estate"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/endpoint"
	"ironseal/pki/fault"
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
	"ironseal/pki/revocation"
	"ironseal/pki/span"
	"ironseal/pki/specimen"
	"ironseal/pki/trust"
)

// signed makes an estate with so many certificates, and gives them.
func signed(t testing.TB, n int) (string, *estate.Estate, []estate.CertificateRecord) {
	t.Helper()
	dir, e := newEstate(t)
	receive(t, e, n)
	var out []estate.CertificateRecord
	for i := range n {
		if err := sign(e, sheet(t, e, i+1)); err != nil {
			t.Fatal(err)
		}
		c, _, err := e.FindCertificate(ctx, fmt.Sprintf("R%d", i+1))
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, c)
	}
	return dir, e, out
}

func refused(t *testing.T, e *estate.Estate, ask revoking.Ask, says ...string) {
	t.Helper()
	p, err := revoking.PlanRevoke(ctx, e, ask)
	if err == nil {
		_, err = revoking.Revoke(ctx, e, p)
	}
	for _, s := range says {
		if err == nil || !strings.Contains(err.Error()+fmt.Sprint(fault.NextOf(err)), s) {
			t.Errorf("%v: %v, and it should say %q", ask.Names, err, s)
		}
	}
}

func stateOf(t testing.TB, e *estate.Estate, serial string) lifecycle.State {
	t.Helper()
	c, _, err := e.FindCertificate(ctx, serial)
	if err != nil {
		t.Fatal(err)
	}
	return c.State
}

func TestRevokingAndReleasing(t *testing.T) {
	t.Parallel()
	_, e, list := signed(t, 4)
	why := revocation.KeyCompromise
	revoke(t, e, why, list[0].SerialHex())
	if s := stateOf(t, e, list[0].SerialHex()); s != lifecycle.Revoked {
		t.Errorf("it is %s", s)
	}
	day := e.Now().Format("2006-01-02")
	refused(t, e, revoking.Ask{Names: []string{"R1"}, Reason: why}, "was revoked already, on "+day, "key-compromise")
	refused(t, e, revoking.Ask{Names: []string{"R2"}, Reason: why, Since: e.Now().Add(time.Hour)}, "still to come")
	refused(t, e, revoking.Ask{Names: []string{"root"}, Reason: why}, "signs itself")
	refused(t, e, revoking.Ask{Names: []string{"nobody.ternbay.example"}, Reason: why}, "no certificate matches")
	refused(t, e, revoking.Ask{Names: []string{"nobody.ternbay.example", "R1", "root"}, Reason: why},
		"no certificate matches",
		"was revoked already", "signs itself") // all at once
	refused(t, e, revoking.Ask{}, "no certificate is meant")

	revoke(t, e, revocation.CertificateHold, list[1].SerialHex())
	if s := stateOf(t, e, list[1].SerialHex()); s != lifecycle.OnHold {
		t.Errorf("it is %s", s)
	}
	refused(t, e, revoking.Ask{Names: []string{"R2"}, Reason: revocation.CertificateHold},
		"is on hold already, since "+day)
	for _, name := range []string{"R1", "R3"} {
		if _, _, err := revoking.Release(ctx, e, []string{name}, "a try"); err == nil {
			t.Errorf("%s was released", name)
		}
	}
	if _, _, err := revoking.Release(ctx, e, []string{"R2"}, "it was found"); err != nil {
		t.Error(err)
	}
	if s := stateOf(t, e, list[1].SerialHex()); s != lifecycle.Valid {
		t.Errorf("it is %s", s)
	}
	if _, _, err := revoking.Release(ctx, e, []string{"R2"}, "again"); err == nil ||
		!strings.Contains(err.Error(), "was taken off hold already") {
		t.Error(err)
	}
	revoke(t, e, revocation.CertificateHold, "R3") // from hold to revoked for good
	revoke(t, e, why, "R3")
	if _, _, err := revoking.Release(ctx, e, []string{"R3"}, "no"); err == nil {
		t.Error("what was revoked for good was released")
	}
	if again, err := renewals.PlanReissue(ctx, e, renewals.ReissueAsk{Certificate: "R1"}); err == nil {
		t.Errorf("what is revoked is renewed: %v", again.Record)
	}
}

// A certificate is meant by whatever it is called; what fits several is refused and listed.
func TestWhatIsToBeRevokedIsNamedInManyWays(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 6)
	file := filepath.Join(dir, "..", "one.pem")
	if err := os.WriteFile(file, bundle.PEM(bundle.Certificate, list[0].Raw), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := parties.Add(ctx, e, []trust.Party{{Name: "quay", Sets: []string{"own"}}}); err != nil {
		t.Fatal(err)
	}
	names := []string{file, fmt.Sprintf("%X", list[1].SHA256()), list[2].SerialHex()[:10], "R4", "h4.ternbay.example"}
	p, err := revoking.PlanRevoke(ctx, e, revoking.Ask{Names: append(names, "R4"), Reason: revocation.Superseded})
	if err != nil {
		t.Fatal(err)
	}
	if len(p.Targets) != 5 {
		t.Fatalf("%d are meant", len(p.Targets))
	}
	for i, target := range p.Targets {
		if target.SerialHex() != list[i].SerialHex() {
			t.Errorf("%s is taken for %s", names[i], target.Title())
		}
	}
	refused(t, e, revoking.Ask{Parties: []string{"quay"}, Reason: revocation.Superseded}, "no certificate is meant")
	refused(t, e, revoking.Ask{Parties: []string{"pier"}, Reason: revocation.Superseded}, "no party is called")
	again, err := renewals.PlanReissue(ctx, e, renewals.ReissueAsk{Certificate: "h5.ternbay.example"})
	if err != nil {
		t.Fatal(err)
	}
	if err := sign(e, again); err != nil {
		t.Fatal(err)
	}
	refused(t, e, revoking.Ask{Names: []string{"h5.ternbay.example"}, Reason: revocation.Superseded},
		"2 certificates have this name", list[5].Serial.Short())
	stranger := specimen.NewLine(t)
	other := filepath.Join(dir, "..", "other.pem")
	if err := os.WriteFile(other, bundle.PEM(bundle.Certificate, stranger.Leaf.Cert.Raw), 0o600); err != nil {
		t.Fatal(err)
	}
	refused(t, e, revoking.Ask{Names: []string{other}, Reason: revocation.Superseded}, "was not issued here",
		"CN=Services")
	notHere := issuedUnseen(t, e)
	if err := os.WriteFile(other, bundle.PEM(bundle.Certificate, notHere.Raw), 0o600); err != nil {
		t.Fatal(err)
	}
	refused(t, e, revoking.Ask{Names: []string{other}, Reason: revocation.Superseded}, "was signed by services (g1)",
		"is not on record")
}

// issuedUnseen is a certificate that our key signed and nobody wrote down.
func issuedUnseen(t testing.TB, e *estate.Estate) *cert.Certificate {
	t.Helper()
	g, err := e.Generation(ctx, "services")
	if err != nil {
		t.Fatal(err)
	}
	opened, err := e.Keys.Open(ctx, g.Certificate.Key, "services", "to sign a certificate")
	if err != nil {
		t.Fatal(err)
	}
	defer opened.Close()
	leaf := specimen.Make(t, nil, specimen.Plan{Subject: "CN=unseen"}).Cert
	d := cert.Draft{Serial: leaf.Serial.Big(), Issuer: g.Certificate.Subject, Subject: leaf.Subject,
		NotBefore: leaf.NotBefore, NotAfter: leaf.NotAfter, SPKI: leaf.Key.SPKI}
	der, err := d.Sign(opened, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c, err := cert.Read(der)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// With an authority falls what is below it, and it signs no more; one that was renewed
// with the same key stands on its newer certificate.
func TestAnAuthorityIsRevoked(t *testing.T) {
	t.Parallel()
	_, e, list := signed(t, 2)
	p, err := authorities.PlanNew(ctx, e, authorities.Ask{Handle: "ships", Under: "root"})
	if err == nil {
		_, _, err = authorities.Create(ctx, e, p)
	}
	if err != nil {
		t.Fatal(err)
	}
	plan, err := revoking.PlanRevoke(ctx, e, revoking.Ask{Names: []string{"services"}, Reason: revocation.CACompromise})
	if err != nil {
		t.Fatal(err)
	}
	if len(plan.Dependents) != 2 || !slices.Equal(plan.Parties, []string{"the yard"}) ||
		!plan.Findings.Has("takes-others-down") {
		t.Errorf("%d fall, of %v: %v", len(plan.Dependents), plan.Parties, plan.Findings.Codes())
	}
	renew := func(same bool) {
		t.Helper()
		r, err := authorities.PlanRenewal(ctx, e, authorities.RenewAsk{Handle: "services", SameKey: same,
			Lifetime: span.Years(12)})
		if err == nil {
			_, _, err = authorities.Renew(ctx, e, r)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	renew(true)
	revoke(t, e, revocation.Superseded, "services.g1")
	if s := stateOf(t, e, list[0].SerialHex()); s != lifecycle.Valid {
		t.Errorf("it is %s, and the newer certificate of the same key holds", s)
	}
	waiting := specimen.Request(t, nil, "CN=late.ternbay.example", []string{"late.ternbay.example"})
	number := take(t, e, waiting)
	if err := sign(e, sheet(t, e, number)); err != nil {
		t.Error(err)
	}
	refused(t, e, revoking.Ask{Names: []string{"services.g2"}, Reason: revocation.KeyCompromise,
		Since: e.Now().AddDate(-200, 0, 0)})
	for i, c := range list {
		if s := stateOf(t, e, c.SerialHex()); s != lifecycle.IssuerRevoked {
			t.Errorf("%d is %s", i, s)
		}
	}
	if known, err := compromise.Against(ctx, e, list[0].Certificate); err != nil || len(known.Refusing()) == 0 {
		t.Error("what fell is called valid")
	}
	number = take(t, e, specimen.Request(t, nil, "CN=later.ternbay.example", []string{"later.ternbay.example"}))
	if s := sheet(t, e, number); !s.Plan.Findings.Has("authority-revoked") {
		t.Errorf("it signs on: %v", s.Plan.Findings.Codes())
	}
	renew(false)
	if err := sign(e, sheet(t, e, number)); err != nil {
		t.Error(err)
	}
}

// take receives a request and gives its number.
func take(t testing.TB, e *estate.Estate, r *request.Request) int {
	t.Helper()
	got, _, faults := intake.Receive(ctx, e, []intake.Input{{Name: r.Title(), Data: bundle.PEM(bundle.Request,
		r.Raw)}}, "")
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return int(got[0].Record.Number)
}

// saw records that an endpoint serves a certificate.
func saw(t testing.TB, e *estate.Estate, at, serial string) {
	t.Helper()
	o := probes.Outcome{Row: endpoint.Row{Endpoint: at, Serial: serial}}
	if serial != "" {
		c, _, err := e.FindCertificate(ctx, serial)
		if err != nil {
			t.Fatal(err)
		}
		o.Row.SHA256, o.Proven = fmt.Sprintf("%x", c.SHA256()), true
	}
	if _, err := parties.RecordObservations(ctx, e, "own", []probes.Outcome{o}); err != nil {
		t.Fatal(err)
	}
}

// What is to be taken back once its successor is in use waits for just that.
func TestTheEarlierOneIsTakenBackOnceTheNewOneIsInUse(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 1)
	again, err := renewals.PlanReissue(ctx, e, renewals.ReissueAsk{Certificate: "R1"})
	if err == nil {
		err = sign(e, again)
	}
	if err == nil {
		_, err = revoking.Schedule(ctx, e, list, span.Days(3))
	}
	if err != nil {
		t.Fatal(err)
	}
	waits := func(e *estate.Estate, says string) {
		t.Helper()
		l, err := revoking.Scheduled(ctx, e)
		if err != nil || len(l) != 1 || !strings.Contains(l[0].Waits, says) || says == "" && l[0].Waits != "" {
			t.Errorf("%+v, %v", l, err)
		}
	}
	waits(e, "no endpoint was seen to serve")
	newest, _, err := e.FindCertificate(ctx, "h0.ternbay.example")
	if err != nil {
		t.Fatal(err)
	}
	saw(t, e, "192.0.2.7:443", list[0].SerialHex())
	waits(e, "no endpoint was seen to serve")
	saw(t, e, "192.0.2.8:443", newest.SerialHex())
	waits(e, "was not seen to serve another since")
	saw(t, e, "192.0.2.7:443", newest.SerialHex())
	waits(e, "not before")
	w := world()
	w.Now = func() time.Time { return time.Now().AddDate(0, 0, 4) }
	later := reopen(t, dir, w)
	waits(later, "")
	revoke(t, later, revocation.Superseded, list[0].SerialHex())
	if l, err := revoking.Scheduled(ctx, later); err != nil || len(l) != 0 {
		t.Errorf("%+v, %v", l, err)
	}
}
