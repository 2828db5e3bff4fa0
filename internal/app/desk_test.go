package app_test

import (
	"path/filepath"
	"slices"
	"testing"
	"time"

	"ironseal/internal/app/requests/desk"
	"ironseal/internal/app/transfer"
	"ironseal/internal/estate"
	"ironseal/pki/bundle"
	"ironseal/pki/specimen"
)

// handedIn hands a request in at the desk.
func handedIn(t testing.TB, e *estate.Estate, host string, more desk.Submission) desk.Receipt {
	t.Helper()
	more.Data = bundle.PEM(bundle.Request, specimen.Request(t, nil, "CN="+host, []string{host}).Raw)
	if more.From == "" {
		more.From = "Ana Tide"
	}
	got, err := desk.HandIn(ctx, e, more)
	if err != nil {
		t.Fatal(err)
	}
	return got
}

// What a sender types beside a request goes along to another estate, which signs it.
func TestNamesBesideARequestAreCarried(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	got := handedIn(t, e, "gate.ternbay.example", desk.Submission{Names: "192.0.2.7 gate-7.ternbay.example"})
	stick := filepath.Join(t.TempDir(), "stick")
	if _, _, err := transfer.Pack(ctx, e, transfer.PackAsk{Dir: stick, Requests: []string{got.Number}}); err != nil {
		t.Fatal(err)
	}
	_, safe := newEstate(t)
	folder, err := transfer.ReadFolder(stick)
	if err != nil {
		t.Fatal(err)
	}
	o, err := transfer.OpenFolder(ctx, safe, folder, nil)
	if err != nil || len(o.Received) != 1 {
		t.Fatalf("%+v %v", o, err)
	}
	want := []string{"ip:192.0.2.7", "dns:gate-7.ternbay.example"}
	if names := o.Errand.Beside(o.Received[0].Request); !slices.Equal(names, want) {
		t.Errorf("%v", names)
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Errorf("%v", faults)
	}
	held, err := desk.Find(ctx, e, got.Secret)
	if err != nil || held.Record.State != "sent" {
		t.Errorf("%+v %v", held.Record, err)
	}
}

// Two people use one invitation at once: it allows no more than it says.
func TestAnInvitationIsNotOverdrawn(t *testing.T) {
	t.Parallel()
	dir, e := newEstate(t)
	_, secret, err := desk.Invite(ctx, e, desk.InviteAsk{Name: "Ana Tide", Count: 3, Until: e.Now().Add(time.Hour)})
	if err != nil {
		t.Fatal(err)
	}
	taken := make(chan error)
	for range 8 {
		x := reopen(t, dir, world())
		der := specimen.Request(t, nil, "CN=h.ternbay.example", []string{"h.ternbay.example"}).Raw
		go func() {
			_, err := desk.HandIn(ctx, x, desk.Submission{Data: bundle.PEM(bundle.Request, der), From: "Ana",
				Invitation: secret})
			taken <- err
		}()
	}
	good := 0
	for range 8 {
		if <-taken == nil {
			good++
		}
	}
	if good != 3 {
		t.Errorf("%d requests were handed in by an invitation for 3", good)
	}
	if n, err := desk.Expire(ctx, e); err != nil || n != 0 {
		t.Errorf("%d ended, %v", n, err)
	}
	e.Env.Now = func() time.Time { return time.Now().Add(2 * time.Hour) }
	if n, err := desk.Expire(ctx, e); err != nil || n != 1 {
		t.Errorf("%d ended, %v", n, err)
	}
	if n, err := desk.Expire(ctx, e); err != nil || n != 0 {
		t.Errorf("%d ended again, %v", n, err)
	}
}
