package app_test

import (
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/signing"
	"ironseal/pki/bundle"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/renewal"
	"ironseal/pki/span"
	"ironseal/pki/specimen"
)

// Whoever asks when an authority must be renewed gets one date, however the question is
// put, and with the same reason. What was signed for another estate counts: the root
// has to outlive that too.
func TestOneDateForEachAuthority(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	compare := func(when string) map[string]time.Time {
		t.Helper()
		short, err := renewals.Forecast(ctx, e, span.Span{}, "")
		if err != nil {
			t.Fatal(err)
		}
		long, err := renewals.Forecast(ctx, e, span.Span{Years: 40}, "")
		if err != nil {
			t.Fatal(err)
		}
		due, err := renewals.DueWithin(ctx, e, span.Span{Years: 40})
		if err != nil {
			t.Fatal(err)
		}
		first := map[string]renewal.Act{}
		for _, a := range long.Acts {
			if _, ok := first[a.Handle]; !ok {
				first[a.Handle] = a
			}
		}
		days := map[string]time.Time{}
		for _, a := range short.Acts {
			days[a.Handle] = a.Day
			if f := first[a.Handle]; !f.Day.Equal(a.Day) || f.Why != a.Why {
				t.Errorf("%s: %s: %s (%s) at once, %s (%s) with a horizon", when, a.Handle, a.Day, a.Why, f.Day, f.Why)
			}
			found := false
			for _, d := range due {
				found = found || d.Title == a.Handle && d.Day.Equal(a.Day) && strings.HasSuffix(d.What, a.Why)
			}
			if !found {
				t.Errorf("%s: %s: due does not tell %s", when, a.Handle, a.Day)
			}
		}
		if len(short.Acts) == 0 {
			t.Errorf("%s: nothing is to be renewed", when)
		}
		return days
	}
	alone := compare("alone")
	r := specimen.Request(t, specimen.Key(t, key.P256), "CN=Far Services", nil,
		ext.Basic{Authority: true, PathLength: -1}.Extension())
	if _, _, faults := intake.Receive(ctx, e, []intake.Input{{Name: "far", Data: bundle.PEM(bundle.Request, r.Raw)}},
		"the island"); len(faults) > 0 {
		t.Fatal(faults)
	}
	s, err := signing.Plan(ctx, e, signing.SignAsk{Request: "R1", Template: "intermediate-authority", By: "root"})
	if err != nil {
		t.Fatal(err)
	}
	if err := sign(e, s); err != nil {
		t.Fatal(err)
	}
	with := compare("with an authority elsewhere")
	if _, ok := with["Far Services"]; !ok {
		t.Errorf("the authority of another estate is missing: %v", with)
	}
	if with["root"].After(alone["root"]) {
		t.Errorf("the root may wait longer, to %s, than before, %s", with["root"], alone["root"])
	}
	e.Close()
	for _, years := range []int{3, 9, 12} { // and at other times
		e = reopen(t, dir, moved(time.Now().AddDate(years, 0, 0)))
		compare("later")
		e.Close()
	}
}
