package app_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ca/external"
	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/ca/rollover"
	"ironseal/internal/app/parties"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/app/revoke/responding"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/estate"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/issue"
	"ironseal/pki/key"
	"ironseal/pki/kit"
	"ironseal/pki/lifecycle"
	"ironseal/pki/revocation"
	"ironseal/pki/san"
	"ironseal/pki/span"
	"ironseal/pki/specimen"
	"ironseal/pki/trust"
)

// While a sheet is on a screen others go on working. Whatever the plan refuses is asked again inside
// the act, when nobody else can write: each case plans, lets the record change, and says yes.
func TestWhatAPlanRefusesIsAskedAgainInsideTheAct(t *testing.T) {
	t.Parallel()
	day := func() time.Time { return time.Now().AddDate(0, 0, 5) }
	open := func(name string) func(*testing.T, *estate.Estate) {
		return func(t *testing.T, e *estate.Estate) { begin(t, e, name) }
	}
	taken := func(why revocation.Reason, name string) func(*testing.T, *estate.Estate) {
		return func(t *testing.T, e *estate.Estate) { revoke(t, e, why, name) }
	}
	again := func(t *testing.T, e *estate.Estate, ask renewals.ReissueAsk) func() error {
		s, err := renewals.PlanReissue(ctx, e, ask)
		if err != nil {
			t.Fatal(err)
		}
		return func() error { return sign(e, s) }
	}
	renewal := func(t *testing.T, e *estate.Estate, ask authorities.RenewAsk) func() error {
		p, err := authorities.PlanRenewal(ctx, e, ask)
		if err != nil {
			t.Fatal(err)
		}
		return func() error {
			_, _, err := authorities.Renew(ctx, e, p)
			return err
		}
	}
	waiting := func(t *testing.T, e *estate.Estate) func() error { // a request for services to sign
		s := sheet(t, e, 2)
		return func() error { return sign(e, s) }
	}
	renewR1 := func(t *testing.T, e *estate.Estate) func() error {
		return again(t, e, renewals.ReissueAsk{Certificate: "R1"})
	}
	handover := func(t *testing.T, e *estate.Estate) func() error {
		c, _, err := e.FindCertificate(ctx, "R1")
		if err != nil {
			t.Fatal(err)
		}
		nginx, err := e.Receiver("nginx")
		if err != nil {
			t.Fatal(err)
		}
		return func() error {
			_, err := delivery.Handover(ctx, e, delivery.HandoverAsk{Certificate: c, Receiver: nginx, Dir: t.TempDir()})
			return err
		}
	}
	second := func(t *testing.T, e *estate.Estate) { // another root, of another name
		t.Helper()
		name, err := parseName("CN=Another Root,O=Tern Bay Ferries")
		must0(t, err)
		p, err := authorities.PlanNew(ctx, e, authorities.Ask{Handle: "newroot", Key: key.P256, Subject: &name})
		must0(t, err)
		_, _, err = authorities.Create(ctx, e, p)
		must0(t, err)
	}
	crossing := func(t *testing.T, e *estate.Estate) func() error {
		limit, err := san.ParseConstraint("ternbay.example")
		must0(t, err)
		p, err := authorities.PlanCross(ctx, e, authorities.CrossAsk{By: "root", To: "newroot",
			Permit: []san.Constraint{limit}})
		must0(t, err)
		return func() error {
			_, _, err := authorities.Cross(ctx, e, p)
			return err
		}
	}
	for name, c := range map[string]struct {
		first  func(*testing.T, *estate.Estate) // what the record holds before
		plan   func(*testing.T, *estate.Estate) func() error
		change func(*testing.T, *estate.Estate)
	}{
		"sign: the request is declined": {nil, waiting, func(t *testing.T, e *estate.Estate) {
			_, err := intake.Decide(ctx, e, "R2", lifecycle.Declined, "a change of mind", false)
			must0(t, err)
		}},
		"sign: the issuer is revoked": {nil, waiting, taken(revocation.CACompromise, "services")},
		"sign: the issuer is stopped": {nil, waiting, open("services")},
		"sign: the issuer is retired": {nil, waiting, func(t *testing.T, e *estate.Estate) {
			retire(t, e,
				"services")
		}},
		"sign: the issuer is renewed": {nil, waiting, func(t *testing.T, e *estate.Estate) {
			renewed(t, e,
				authorities.RenewAsk{Handle: "services"})
		}},
		"sign: an authority gets its subject": {nil, requestFor("CN=h9.ternbay.example"), func(t *testing.T,
			e *estate.Estate) {
			named(t, e, "CN=h9.ternbay.example")
		}},
		"renew: revoked for the loss of the key": {nil, renewR1, taken(revocation.KeyCompromise, "R1")},
		"renew: superseded":                      {nil, renewR1, taken(revocation.Superseded, "R1")},
		"renew: on hold":                         {nil, renewR1, taken(revocation.CertificateHold, "R1")},
		"renew: privilege withdrawn":             {nil, renewR1, taken(revocation.PrivilegeWithdrawn, "R1")},
		"renew: cessation of operation":          {nil, renewR1, taken(revocation.CessationOfOperation, "R1")},
		"renew: affiliation changed":             {nil, renewR1, taken(revocation.AffiliationChanged, "R1")},
		"renew: unspecified":                     {nil, renewR1, taken(revocation.Unspecified, "R1")},
		"renew: renewed on another screen": {nil, renewR1, func(t *testing.T, e *estate.Estate) {
			must0(t,
				renewR1(t, e)())
		}},
		"renew: an incident about the key":    {nil, renewR1, open("R1")},
		"handover: revoked":                   {nil, handover, taken(revocation.Superseded, "R1")},
		"handover: on hold":                   {nil, handover, taken(revocation.CertificateHold, "R1")},
		"handover: the authority above falls": {nil, handover, taken(revocation.CACompromise, "services")},
		"handover: an incident about the key": {nil, handover, open("R1")},
		"sign: another gets its name": {nil, waiting, func(t *testing.T, e *estate.Estate) {
			host := sheet(t, e, 2).Request.Title()
			number := take(t, e, specimen.Request(t, nil, "CN="+host, []string{host}))
			must0(t, sign(e, sheet(t, e, number)))
		}},
		"cross: the one that signs is stopped":   {second, crossing, open("root")},
		"cross: the other one is in an incident": {second, crossing, open("newroot")},
		"release: an incident about the key":     {taken(revocation.CertificateHold, "R1"), release("R1"), open("R1")},
		"release: revoked for good": {taken(revocation.CertificateHold, "R1"), release("R1"),
			taken(revocation.Superseded, "R1")},
		"authority: the one above is stopped": {nil, newAuthority("CN=Depot"), open("root")},
		"authority: another of its subject": {nil, newAuthority("CN=Depot"), func(t *testing.T,
			e *estate.Estate) {
			named(t, e, "CN=Depot")
		}},
		"authority renewed: an incident, links": {nil, func(t *testing.T, e *estate.Estate) func() error {
			return renewal(t, e, authorities.RenewAsk{Handle: "root"})
		}, open("root")},
		"authority renewed: an incident, its key": {nil, func(t *testing.T, e *estate.Estate) func() error {
			return renewal(t, e, authorities.RenewAsk{Handle: "services", SameKey: true, Lifetime: years(12)})
		}, open("services")},
		"authority renewed: revoked, its key": {nil, func(t *testing.T, e *estate.Estate) func() error {
			return renewal(t, e, authorities.RenewAsk{Handle: "services", SameKey: true, Lifetime: years(12)})
		}, taken(revocation.CACompromise, "services")},
		"authority renewed: retired": {nil, func(t *testing.T, e *estate.Estate) func() error {
			return renewal(t, e, authorities.RenewAsk{Handle: "services"})
		}, func(t *testing.T, e *estate.Estate) { retire(t, e, "services") }},
		"authority renewed: renewed meanwhile": {nil, func(t *testing.T, e *estate.Estate) func() error {
			return renewal(t, e, authorities.RenewAsk{Handle: "services"})
		}, func(t *testing.T, e *estate.Estate) { renewed(t, e, authorities.RenewAsk{Handle: "services"}) }},
		"retire: an incident": {nil, func(t *testing.T, e *estate.Estate) func() error {
			return func() error { return retiring(e, "services") }
		}, open("services")},
		"switch: the prepared one is revoked": {prepared("services", day()), switching("services"),
			taken(revocation.CACompromise, "services.g2")},
		"switch: the prepared one is stopped": {prepared("services", day()), switching("services"),
			open("services.g2")},
		"back: the earlier one is stopped": {func(t *testing.T, e *estate.Estate) {
			renewed(t, e,
				authorities.RenewAsk{Handle: "services"})
		}, back("services", day()), open("services.g1")},
		"back: the earlier one is revoked": {func(t *testing.T, e *estate.Estate) {
			renewed(t, e,
				authorities.RenewAsk{Handle: "services"})
		}, back("services", day()), taken(revocation.CACompromise, "services.g1")},
		"revoke: an incident about the other": {func(t *testing.T, e *estate.Estate) {
			renewed(t, e,
				authorities.RenewAsk{Handle: "services"})
		}, revokes(revocation.CACompromise, "services.g2"), open("services.g1")},
		"revoke: revoked meanwhile": {nil, revokes(revocation.Superseded, "R1"),
			taken(revocation.KeyCompromise, "R1")},
		"import: what signed it is stopped":  {nil, issuedBefore, open("services")},
		"import: what signed it is revoked":  {nil, issuedBefore, taken(revocation.CACompromise, "services")},
		"sets: a party turns out to lack it": {twoSets, switchSets, reported},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir, e := newEstate(t)
			receive(t, e, 2)
			must0(t, sign(e, sheet(t, e, 1)))
			other := reopen(t, dir, world())
			if c.first != nil {
				c.first(t, e)
			}
			do := c.plan(t, e)
			c.change(t, other)
			head, _, err := e.Records.Newest(ctx)
			must0(t, err)
			err = do()
			var refused *issue.Refused
			if err == nil || !errors.Is(err, fault.Changed) && !errors.As(err, &refused) &&
				!strings.Contains(err.Error(), "no longer") && !strings.Contains(err.Error(), "is open") &&
				!strings.Contains(err.Error(), "grants nothing") && !strings.Contains(err.Error(), "not put on hold") {
				t.Errorf("it was done all the same, or fails otherwise: %v", err)
			}
			if now, _, err := e.Records.Newest(ctx); err != nil || now != head {
				t.Errorf("something was recorded: %s, before %s, %v", now, head, err)
			}
			if faults := checked(t, dir); len(faults) > 0 {
				t.Errorf("%v", faults)
			}
		})
	}
}

func must0(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func years(n int) span.Span { return span.Years(n) }

func retiring(e *estate.Estate, handle string) error {
	_, _, err := authorities.Retire(ctx, e, handle, "its work went to another", false)
	return err
}

func retire(t *testing.T, e *estate.Estate, handle string) { must0(t, retiring(e, handle)) }

// requestFor plans the signing of a request with a subject.
func requestFor(subject string) func(*testing.T, *estate.Estate) func() error {
	return func(t *testing.T, e *estate.Estate) func() error {
		_, host, _ := strings.Cut(subject, "=")
		s := sheet(t, e, take(t, e, specimen.Request(t, nil, subject+",O=Tern Bay Ferries", []string{host})))
		return func() error { return sign(e, s) }
	}
}

// named makes an authority with a subject that a certificate of ours would have.
func named(t *testing.T, e *estate.Estate, subject string) {
	must0(t, planned(t, e, subject, "twin")())
}

func planned(t *testing.T, e *estate.Estate, subject, handle string) func() error {
	t.Helper()
	name, err := parseName(subject + ",O=Tern Bay Ferries")
	must0(t, err)
	p, err := authorities.PlanNew(ctx, e, authorities.Ask{Handle: handle, Under: "root", Subject: &name, Key: key.P256})
	must0(t, err)
	return func() error {
		_, _, err := authorities.Create(ctx, e, p)
		return err
	}
}

func newAuthority(subject string) func(*testing.T, *estate.Estate) func() error {
	return func(t *testing.T, e *estate.Estate) func() error { return planned(t, e, subject, "stores") }
}

func release(name string) func(*testing.T, *estate.Estate) func() error {
	return func(_ *testing.T, e *estate.Estate) func() error {
		return func() error {
			_, _, err := revoking.Release(ctx, e, []string{name}, "it was found")
			return err
		}
	}
}

func prepared(handle string, day time.Time) func(*testing.T, *estate.Estate) {
	return func(t *testing.T, e *estate.Estate) { renewed(t, e, authorities.RenewAsk{Handle: handle, Day: day}) }
}

func switching(handle string) func(*testing.T, *estate.Estate) func() error {
	return func(_ *testing.T, e *estate.Estate) func() error {
		return func() error {
			_, _, err := rollover.Switch(ctx, e, handle, true, nil)
			return err
		}
	}
}

func back(handle string, day time.Time) func(*testing.T, *estate.Estate) func() error {
	return func(_ *testing.T, e *estate.Estate) func() error {
		return func() error {
			_, _, err := renewals.SwitchBack(ctx, e, handle, day)
			return err
		}
	}
}

func revokes(why revocation.Reason, name string) func(*testing.T, *estate.Estate) func() error {
	return func(t *testing.T, e *estate.Estate) func() error {
		p, err := revoking.PlanRevoke(ctx, e, revoking.Ask{Names: []string{name}, Reason: why, Because: "trying"})
		must0(t, err)
		return func() error {
			_, err := revoking.Revoke(ctx, e, p)
			return err
		}
	}
}

// issuedBefore imports a certificate that our key signed and that is not on record here, as one is after
// a backup was restored.
func issuedBefore(t *testing.T, e *estate.Estate) func() error {
	elder := reopen(t, copied(t, e.Dir), world())
	must0(t, sign(elder, sheet(t, elder, 2)))
	c, _, err := elder.FindCertificate(ctx, "R2")
	must0(t, err)
	a, err := external.MatchAnswer(ctx, e, external.AnswerAsk{List: []*cert.Certificate{c.Certificate}})
	must0(t, err)
	return func() error {
		_, err := external.Accept(ctx, e, a)
		return err
	}
}

// partner is a root that parties have to learn.
func partner(t testing.TB) *specimen.Entity {
	now := time.Now().UTC().Truncate(time.Second)
	return specimen.Make(t, nil, specimen.Plan{Subject: "CN=Partner Root", Authority: true, From: now.AddDate(-1, 0, 0),
		Until: now.AddDate(9, 0, 0)})
}

func report(t *testing.T, e *estate.Estate, missing bool) {
	t.Helper()
	set, err := anchors.Set(ctx, e, "next")
	must0(t, err)
	sum := fmt.Sprintf("%x", set.Anchors[0].Certificate.SHA256())
	r := kit.Report{Host: "quay", Platform: "debian", Store: "/usr/local/share/ca-certificates", Act: "check",
		SHA256: []string{sum}, Missing: []string{}, When: time.Now().UTC().Truncate(time.Second)}
	if missing {
		r.Missing = r.SHA256
	}
	_, err = anchors.Record(ctx, e, []kit.Report{r})
	must0(t, err)
}

func twoSets(t *testing.T, e *estate.Estate) {
	for _, name := range []string{"old", "next"} {
		_, err := anchors.Create(ctx, e, name, name)
		must0(t, err)
		a, err := anchors.PlanAdd(e, anchors.AddAsk{Set: name, Offered: []anchors.Found{{Source: "a file",
			Certificates: []*cert.Certificate{partner(t).Cert}}}, Purposes: []trust.Purpose{trust.Servers}})
		must0(t, err)
		_, err = anchors.Add(ctx, e, a)
		must0(t, err)
	}
	_, err := parties.Add(ctx, e, []trust.Party{{Name: "quay", Platforms: []string{"debian"}, Sets: []string{"old"}}})
	must0(t, err)
	report(t, e, false)
	_, err = rollover.PlanSets(ctx, e, "old", "next", time.Now().AddDate(0, 0, 9))
	must0(t, err)
}

func switchSets(_ *testing.T, e *estate.Estate) func() error {
	return func() error {
		_, _, err := rollover.SwitchSets(ctx, e, "old", true, nil)
		return err
	}
}

func reported(t *testing.T, e *estate.Estate) { report(t, e, true) }

// Answers are signed for minutes; the authority may fall meanwhile. Then nothing of them is released.
func TestAnswersOfAnAuthorityThatFallsMeanwhile(t *testing.T) {
	t.Parallel()
	for name, change := range map[string]func(*testing.T, *estate.Estate){
		"stopped": func(t *testing.T, e *estate.Estate) { begin(t, e, "services") },
		"revoked": func(t *testing.T, e *estate.Estate) { revoke(t, e, revocation.CACompromise, "services") },
	} {
		t.Run(name, func(t *testing.T) {
			dir, e, _ := signed(t, 2)
			other := reopen(t, dir, world())
			to := filepath.Join(t.TempDir(), "answers")
			done := false
			_, err := responding.Prepare(ctx, e, to, publishing.Ask{}, func(n int) {
				if n > 1 && !done {
					done = true
					change(t, other)
				}
			})
			if !errors.Is(err, fault.Changed) || !done {
				t.Errorf("%v", err)
			}
			if list, err := os.ReadDir(to); err == nil {
				t.Errorf("%d answers were released", len(list))
			}
			if again, err := responding.Prepare(ctx, e, to, publishing.Ask{}, nil); err != nil ||
				len(again.Skipped) == 0 {
				t.Errorf("%+v, %v", again, err)
			}
		})
	}
}
