package app_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/internal/app/ops/overview"
	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/app/requests/fleet"
	"ironseal/internal/app/requests/machines"
	"ironseal/internal/app/requests/ordering"
	"ironseal/internal/estate"
	"ironseal/pki/acme"
	"ironseal/pki/fault"
	"ironseal/pki/jose"
	"ironseal/pki/span"
	"ironseal/pki/specimen"
	"ironseal/pki/template"
)

// A nonce of one server is taken by another of the same estate, once.
func TestNoncesHoldAcrossServers(t *testing.T) {
	t.Parallel()
	_, e, _ := signed(t, 1)
	var servers []*ordering.Nonces
	for range 2 {
		n, err := ordering.NewNonces(e)
		if err != nil {
			t.Fatal(err)
		}
		servers = append(servers, n)
	}
	one := servers[0].New()
	if err := servers[1].Take(one); err != nil {
		t.Error(err)
	}
	for _, text := range []string{one, "", one[1:], strings.Repeat("A", 54), strings.Repeat("A", 500)} {
		for _, s := range servers {
			var p *acme.Problem
			if err := s.Take(text); !errors.As(err, &p) || p.Kind != acme.BadNonce {
				t.Errorf("%q: %v", text, err)
			}
		}
	}
}

func enrols(t *testing.T, e *estate.Estate, code, host string) enrol.Outcome {
	t.Helper()
	out, err := enrol.Enrol(ctx, e, enrol.Ask{By: template.EST, Label: "gates", Code: code,
		Request:  specimen.Request(t, nil, "CN="+host, []string{host}).Raw,
		Unlocked: func(string) bool { return true }})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// What a machine got is renewed by the machine: nobody is told of it until the machine is late.
func TestMachinesThatAreLate(t *testing.T) {
	t.Parallel()
	dir, e, _ := signed(t, 1)
	text := []byte("based-on = \"web-server\"\ntitle = \"Gate\"\n[unattended]\nby = [\"est\"]\n" +
		"authority = \"services\"\nnames = [\"dns:*.ternbay.example\"]\nlifetime = \"30d\"\nper-day = 10\n")
	if err := os.WriteFile(filepath.Join(dir, "templates", "gates.toml"), text, 0o644); err != nil {
		t.Fatal(err)
	}
	_, code, err := enrol.MakeCode(ctx, e, enrol.CodeAsk{Name: "gates", Template: "gates",
		Names: []string{"ternbay.example"}, Count: 3, Until: e.Now().Add(time.Hour)})
	if err != nil {
		t.Fatal(err)
	}
	out := enrols(t, e, code, "gate-1.ternbay.example")
	if out.Certificate == nil {
		t.Fatalf("%+v", out)
	}
	due := func(e *estate.Estate) (n int) {
		list, err := overview.DueWithin(ctx, e, span.Span{Days: 60})
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range list {
			if d.Title == "gate-1.ternbay.example" {
				n++
			}
		}
		return n
	}
	if n := due(e); n != 0 {
		t.Errorf("it is due, and its machine renews it")
	}
	if how, err := fleet.RenewsOne(ctx, e.Records, *out.Certificate, e.Now()); err != nil || how != fleet.Itself {
		t.Errorf("%q, %v", how, err)
	}
	later := *e
	later.Env.Now = func() time.Time { return out.Certificate.NotAfter.AddDate(0, 0, -2) }
	if n := due(&later); n != 1 {
		t.Errorf("two days before its end it is due %d times", n)
	}
	shown, err := machines.Show(ctx, e, "gates")
	if err != nil || len(shown.Requests) != 1 || shown.Requests[0].Late || shown.Used != 1 {
		t.Errorf("%+v, %v", shown, err)
	}
}

// An account ends with its credential, with its own end, and never by a change of its key.
func TestAccountsEnd(t *testing.T) {
	t.Parallel()
	_, e, _ := signed(t, 1)
	c, _, err := enrol.MakeAccountKey(ctx, e, enrol.CodeAsk{Name: "web", Template: "web-server",
		Names: []string{"ternbay.example"}, Count: 2, Until: e.Now().Add(time.Hour)})
	if err != nil {
		t.Fatal(err)
	}
	keys := []string{`{"kty":"EC","crv":"P-256","x":"f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU",` +
		`"y":"x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0"}`,
		`{"kty":"OKP","crv":"Ed25519","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}`,
		`{"kty":"EC","crv":"P-256","x":"MKBCTNIcKUSDii11ySs3526iDZ8AiTo7Tu6KPAqv7D4",` +
			`"y":"4Etl6SRW2YiLUrN5vfvVHuhp7x8PxltmWWlbbM4IFyM"}`}
	register := func(n int) (ordering.Account, bool, error) {
		k, err := jose.Known([]byte(keys[n]))
		if err != nil {
			t.Fatal(err)
		}
		return ordering.Register(ctx, e, ordering.RegisterAsk{Template: "web-server", Key: k, KeyID: c.KeyID})
	}
	a, created, err := register(0)
	if err != nil || !created || a.Title() != "web/1" || a.Sender() != "acme: web/1" {
		t.Fatalf("%+v, %t, %v", a, created, err)
	}
	if again, created, err := register(0); err != nil || created || again.ID != a.ID {
		t.Errorf("the same key again: %+v, %t, %v", again, created, err)
	}
	b, _, err := register(1)
	if err != nil || b.Title() != "web/2" {
		t.Fatalf("%+v, %v", b, err)
	}
	next, err := jose.Known([]byte(keys[2]))
	if err != nil {
		t.Fatal(err)
	}
	if err := ordering.SetKey(ctx, e, a, b.Key); !errors.Is(err, ordering.ErrKeyTaken) {
		t.Errorf("the key of another: %v", err)
	}
	if err := ordering.SetKey(ctx, e, a, next); err != nil {
		t.Fatal(err)
	}
	if _, err := ordering.ByKey(ctx, e, "web-server", a.Key); err == nil {
		t.Error("the key before finds the account")
	}
	if got, err := ordering.ByKey(ctx, e, "web-server", next); err != nil || got.ID != a.ID || got.Nth != 1 {
		t.Errorf("%+v, %v", got, err)
	}
	if used, err := enrol.Find(ctx, e, "web"); err != nil || used.Used != 2 {
		t.Errorf("a change of a key counts as another account: %+v, %v", used, err)
	}
	if _, err := machines.EndAccount(ctx, e, "web", "web/2", "lost"); err != nil {
		t.Fatal(err)
	}
	if _, err := machines.EndAccount(ctx, e, "web", "web/2", "lost"); !errors.Is(err, fault.Changed) {
		t.Errorf("ended twice: %v", err)
	}
	if _, err := enrol.EndCode(ctx, e, "web", "done"); err != nil { // it was used up, and still ends
		t.Fatal(err)
	}
	for _, id := range []string{a.ID, b.ID} {
		if got, err := ordering.ByID(ctx, e, "web-server", id); err != nil || got.Ended == "" {
			t.Errorf("%+v, %v", got, err)
		}
	}
	if _, err := ordering.New(ctx, e, a, ordering.NewAsk{Names: []acme.Identifier{{Type: "dns",
		Value: "a.ternbay.example"}}}); err == nil {
		t.Error("an account that ended orders")
	}
}
