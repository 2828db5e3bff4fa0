package app_test

import (
	"testing"
	"time"

	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/ops/probes"
	"ironseal/internal/app/parties"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/pki/endpoint"
	"ironseal/pki/span"
)

// "Seen to serve the replacement" must be that very certificate, by its SHA-256: a serial is anybody's to copy.
func TestASerialIsTakenForTheCertificate(t *testing.T) {
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
	newest, _, err := e.FindCertificate(ctx, "h0.ternbay.example")
	if err != nil {
		t.Fatal(err)
	}
	w := world()
	w.Now = func() time.Time { return time.Now().AddDate(0, 0, 4) }
	later := reopen(t, dir, w)
	row := endpoint.Row{Endpoint: "192.0.2.66:443", Serial: newest.SerialHex(), SHA256: "00", Trusted: false}
	if _, err := parties.RecordObservations(ctx, e, "own", []probes.Outcome{{Row: row}}); err != nil {
		t.Fatal(err)
	}
	if l, err := revoking.Scheduled(ctx, later); err != nil || len(l) != 1 || l[0].Waits == "" {
		t.Errorf("an untrusted certificate of another make, with the serial of the replacement, makes the one in use "+
			"ready to be revoked: %+v, %v", l, err)
	}
}

// An endpoint that serves the earlier one and is down when it is examined again has not moved.
func TestAnEndpointThatIsDownCountsAsMoved(t *testing.T) {
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
	newest, _, err := e.FindCertificate(ctx, "h0.ternbay.example")
	if err != nil {
		t.Fatal(err)
	}
	w := world()
	w.Now = func() time.Time { return time.Now().AddDate(0, 0, 4) }
	later := reopen(t, dir, w)
	saw(t, e, "192.0.2.7:443", list[0].SerialHex())
	saw(t, e, "192.0.2.8:443", newest.SerialHex())
	saw(t, e, "192.0.2.7:443", "") // as probe --record puts on record what did not answer
	if l, err := revoking.Scheduled(ctx, later); err != nil || len(l) != 1 || l[0].Waits == "" {
		t.Errorf("192.0.2.7:443 served the earlier one when it last answered, and that is ready to be revoked: %+v, %v",
			l, err)
	}
}
