package app_test

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/ops/backup"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/app/revoke/incidents"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/estate"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/issue"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/revocation"
	"ironseal/pki/specimen"
)

func incident(t testing.TB, e *estate.Estate, name string) incidents.Progress {
	t.Helper()
	p, err := incidents.Of(ctx, e, name)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func begin(t testing.TB, e *estate.Estate, name string) incidents.Progress {
	t.Helper()
	i, _, err := incidents.Open(ctx, e, name, "the safe was found open")
	if err != nil {
		t.Fatal(err)
	}
	return incident(t, e, i.Name)
}

func undone(t testing.TB, p incidents.Progress, want ...string) {
	t.Helper()
	if got := p.Undone(); !slices.Equal(got, want) {
		t.Errorf("not done are %q, and it should be %q", got, want)
	}
}

// From a stolen key to zero: every step counts once the records say so.
func TestAnIncidentGoesToItsEnd(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 3)
	p := begin(t, e, "services")
	undone(t, p, "prepare replacements", "hand them over", "revoke", "publish", "prove it")
	if len(p.Affected) != 3 || !slices.Equal(p.Holders, []string{"the yard"}) {
		t.Errorf("%d are affected, held by %v", len(p.Affected), p.Holders)
	}
	number := take(t, e, specimen.Request(t, nil, "CN=late.ternbay.example", []string{"late.ternbay.example"}))
	s := sheet(t, e, number)
	var refused *issue.Refused
	if err := sign(e, s); !errors.As(err, &refused) || !s.Plan.Findings.Has("authority-stopped") {
		t.Errorf("it grants on: %v", err)
	}
	if _, err := incidents.Replace(ctx, e, p, nil); err == nil || !strings.Contains(err.Error(), "renew it first") {
		t.Errorf("replacements by the same key: %v", err)
	}
	if _, err := incidents.Close(ctx, e, p, incidents.Ending{Because: "done"}); err == nil {
		t.Error("it was closed with everything left to do")
	}
	if _, _, err := incidents.Open(ctx, e, "services.g1", "again"); err == nil || !strings.Contains(err.Error(),
		"I1") {
		t.Errorf("a second one about the same: %v", err)
	}
	r, err := authorities.PlanRenewal(ctx, e, authorities.RenewAsk{Handle: "services", Suspicion: "stolen"})
	if err == nil {
		_, _, err = authorities.Renew(ctx, e, r)
	}
	if err != nil {
		t.Fatal(err)
	}
	replaceAll(t, e)
	undone(t, incident(t, e, "I1"), "hand them over", "revoke", "publish", "prove it")
	nginx, err := e.Receiver("nginx")
	if err != nil {
		t.Fatal(err)
	}
	for i, host := range []string{"h0.ternbay.example", "h1.ternbay.example", "h2.ternbay.example"} {
		c, _, err := e.FindCertificate(ctx, host)
		if err != nil {
			t.Fatal(err)
		}
		if i < 2 { // the third is only seen in use
			if _, err := delivery.Handover(ctx, e, delivery.HandoverAsk{Certificate: c, Receiver: nginx,
				Dir: t.TempDir(),
				To:  "the yard"}); err != nil {
				t.Fatal(err)
			}
		}
	}
	undone(t, incident(t, e, "services"), "hand them over", "revoke", "publish", "prove it")
	revoke(t, e, revocation.CACompromise, "services.g1")
	undone(t, incident(t, e, "I1"), "hand them over", "publish", "prove it")
	publish(t, e, publishing.Ask{}, filepath.Join(t.TempDir(), "public"))
	saw(t, e, "192.0.2.1:443", list[0].SerialHex())
	for i, host := range []string{"h0.ternbay.example", "h1.ternbay.example", "h2.ternbay.example"} {
		if p := incident(t, e, "I1"); len(p.Undone()) == 0 {
			t.Errorf("before %s it is done", host)
		}
		c, _, err := e.FindCertificate(ctx, host)
		if err != nil {
			t.Fatal(err)
		}
		saw(t, e, []string{"192.0.2.1:443", "192.0.2.2:443", "192.0.2.3:443"}[i], c.SerialHex())
	}
	p = incident(t, e, "I1")
	undone(t, p)
	report, err := incidents.Report(ctx, e, p)
	if err != nil {
		t.Fatal(err)
	}
	for _, words := range []string{"the safe was found open", "services.g1", "[x] 7. prove it", list[0].SerialHex(),
		"open incident: I1", "revoke: services.g1, Tern Bay Ferries Services", "held by the yard"} {
		if !strings.Contains(string(report), words) {
			t.Errorf("the report does not say %q:\n%s", words, report)
		}
	}
	if _, err := incidents.Close(ctx, e, p, incidents.Ending{Because: "all is replaced"}); err != nil {
		t.Error(err)
	}
	if _, err := incidents.Close(ctx, e, incident(t, e, "I1"), incidents.Ending{Because: "again"}); err == nil {
		t.Error("it was closed twice")
	}
	if err := sign(e, sheet(t, e, number)); err != nil { // by the new generation
		t.Error(err)
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Errorf("%v", faults)
	}
}

func replaceAll(t testing.TB, e *estate.Estate) {
	t.Helper()
	list, err := incidents.Replace(ctx, e, incident(t, e, "I1"), nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range list {
		if x.Err != nil {
			t.Fatal(x.Err)
		}
		if err := sign(e, x.Sheet); err != nil {
			t.Fatal(err)
		}
	}
}

// Replacements can be prepared behind a switch day, and both acts know of each other.
func TestAnIncidentWithASwitchDay(t *testing.T) {
	t.Parallel()
	_, e, _ := signed(t, 2)
	begin(t, e, "services")
	r, err := authorities.PlanRenewal(ctx, e, authorities.RenewAsk{Handle: "services",
		Day: time.Now().AddDate(0, 0, 2), Suspicion: "stolen"})
	if err == nil {
		_, _, err = authorities.Renew(ctx, e, r)
	}
	if err != nil {
		t.Fatal(err)
	}
	replaceAll(t, e)
	p := incident(t, e, "I1")
	undone(t, p, "hand them over", "revoke", "publish", "prove it")
	for _, a := range p.Affected {
		if a.State != lifecycle.Valid || a.Replacement == "" {
			t.Errorf("%+v", a)
		}
	}
	if change, err := renewals.ChangeOf(ctx, e, "services"); err != nil || len(change.Prepared) != 2 ||
		len(change.Missing) != 0 {
		t.Errorf("%+v, %v", change, err)
	}
}

// A false alarm: what was stopped grants again. A certificate's own key: its holder must send
// another, and no authority stops.
func TestIncidentsThatAreNone(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 2)
	begin(t, e, "services")
	if _, err := incidents.Close(ctx, e, incident(t, e, "I1"), incidents.Ending{Because: "a false alarm",
		FalseAlarm: true}); err != nil {
		t.Fatal(err)
	}
	number := take(t, e, specimen.Request(t, nil, "CN=a.ternbay.example", []string{"a.ternbay.example"}))
	if err := sign(e, sheet(t, e, number)); err != nil {
		t.Error(err)
	}
	again, err := renewals.PlanReissue(ctx, e, renewals.ReissueAsk{Certificate: list[0].SerialHex()})
	if err != nil {
		t.Fatal(err)
	}
	if err := sign(e, again); err != nil {
		t.Fatal(err)
	}
	p := begin(t, e, list[0].SerialHex()) // the same key again is no replacement, and depends on it as well
	if len(p.Affected) != 2 || p.Authority {
		t.Errorf("%+v", p.Affected)
	}
	undone(t, p, "prepare replacements", "hand them over", "revoke", "publish", "prove it")
	if _, err := incidents.Replace(ctx, e, p, nil); err == nil || !strings.Contains(err.Error(), "new key") {
		t.Errorf("a replacement for the same key: %v", err)
	}
	revoke(t, e, revocation.KeyCompromise, list[0].SerialHex())
	undone(t, incident(t, e, "I2"), "prepare replacements", "hand them over", "revoke", "publish", "prove it")
	second := p.Affected[0].Serial
	if second == list[0].SerialHex() {
		second = p.Affected[1].Serial
	}
	revoke(t, e, revocation.KeyCompromise, second)
	publish(t, e, publishing.Ask{}, filepath.Join(t.TempDir(), "public"))
	undone(t, incident(t, e, "I2"), "prepare replacements", "hand them over", "prove it")
	fresh := take(t, e, specimen.Request(t, nil, "CN="+list[0].Title(), []string{list[0].Title()}))
	newest, _, err := e.FindCertificate(ctx, second)
	if err != nil {
		t.Fatal(err)
	}
	if again, err = renewals.PlanReissue(ctx, e, renewals.ReissueAsk{Certificate: newest.SerialHex(),
		Request: fmt.Sprint("R", fresh)}); err != nil {
		t.Fatal(err)
	}
	if err := sign(e, again); err != nil {
		t.Fatal(err)
	}
	undone(t, incident(t, e, "I2"), "hand them over", "prove it") // it stands in the place of both
	if _, err := incidents.Find(ctx, e, "I9"); err == nil {
		t.Error("there is an incident I9")
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Errorf("%v", faults)
	}
}

// A suspected key gets no further certificate, however the request comes, until it is known to
// be a false alarm; nor does one that came under suspicion while the sheet was on screen.
func TestNothingIsSignedForACompromisedKey(t *testing.T) {
	t.Parallel()
	_, e, list := signed(t, 2)
	signer := specimen.Key(t, key.P256)
	host := func(name string) int {
		return take(t, e, specimen.Request(t, signer, "CN="+name, []string{name}))
	}
	first := host("first.ternbay.example")
	if err := sign(e, sheet(t, e, first)); err != nil {
		t.Fatal(err)
	}
	c, _, err := e.FindCertificate(ctx, "first.ternbay.example")
	if err != nil {
		t.Fatal(err)
	}
	second := host("second.ternbay.example")
	onScreen := sheet(t, e, second)
	compromised := func(s *signing.Sheet, code finding.Code) {
		t.Helper()
		if err := sign(e, onScreen); !errors.Is(err, fault.Changed) {
			t.Errorf("%s: what was on screen: %v", code, err)
		}
		var refused *issue.Refused
		if err := sign(e, s); !errors.As(err, &refused) || !s.Plan.Findings.Has(code) {
			t.Errorf("%s: %v, %v", code, s.Plan.Findings, err)
		}
	}
	begin(t, e, c.SerialHex())
	compromised(sheet(t, e, second), "key-suspected")
	again, err := renewals.PlanReissue(ctx, e, renewals.ReissueAsk{Certificate: c.SerialHex()})
	if err != nil {
		t.Fatal(err)
	}
	compromised(again, "key-suspected")
	begin(t, e, list[0].SerialHex()) // another one keeps nobody from going on
	if _, err := incidents.Close(ctx, e, incident(t, e, "I1"), incidents.Ending{Because: "a false alarm",
		FalseAlarm: true}); err != nil {
		t.Fatal(err)
	}
	if s := sheet(t, e, second); s.Plan.Findings.Has("key-suspected") {
		t.Error("it is suspected after the end")
	}
	revoke(t, e, revocation.KeyCompromise, c.SerialHex())
	compromised(sheet(t, e, second), "key-lost")
}

// What was revoked is revoked in a rehearsal too, where an incident can be practised.
func TestIncidentsAreRehearsed(t *testing.T) {
	t.Parallel()
	_, e, _ := signed(t, 1)
	r, err := authorities.PlanRenewal(ctx, e, authorities.RenewAsk{Handle: "services"})
	if err == nil {
		_, _, err = authorities.Renew(ctx, e, r)
	}
	if err != nil {
		t.Fatal(err)
	}
	revoke(t, e, revocation.Superseded, "services.g1")
	dir := filepath.Join(t.TempDir(), "rehearsal")
	copied, err := backup.Rehearse(ctx, e, dir, e.Now())
	if err != nil {
		t.Fatal(err)
	}
	defer copied.Close()
	h, err := copied.Hierarchy(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for name, revoked := range map[string]bool{"services.g1": true, "services.g2": false, "root.g1": false} {
		t.Run(name, func(t *testing.T) {
			if g := h.Generation(name); g == nil || g.Revoked.IsZero() == revoked {
				t.Errorf("%s: %+v", name, g)
			}
		})
	}
	begin(t, copied, "services")
	publish(t, copied, publishing.Ask{}, filepath.Join(t.TempDir(), "public"))
	if faults := checked(t, dir); len(faults) > 0 {
		t.Errorf("%v", faults)
	}
}
