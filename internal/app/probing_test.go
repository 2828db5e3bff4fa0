package app_test

import (
	"crypto/tls"
	"fmt"
	"net"
	"testing"
	"time"

	"ironseal/internal/app/ops/probes"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/probe"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/revocation"
	"ironseal/pki/specimen"
)

// servedByName serves certificates by the name that clients ask for.
func servedByName(t *testing.T, by map[string]*tls.Certificate) string {
	t.Helper()
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{
		GetCertificate: func(h *tls.ClientHelloInfo) (*tls.Certificate, error) { return by[h.ServerName], nil }})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func(c net.Conn) { _ = c.(*tls.Conn).Handshake(); c.Close() }(c)
		}
	}()
	return l.Addr().String()
}

// Many endpoints are looked at together, and each outcome tells of its own certificate: the record, its state, a newer
// one for the name, or that nothing is on record.
func TestManyEndpointsAndTheirRecords(t *testing.T) {
	t.Parallel()
	_, e := newEstate(t)
	const hosts, each = 6, 20
	by := map[string]*tls.Certificate{}
	newest := map[string]int64{}
	for i := range hosts {
		host := fmt.Sprintf("h%d.ternbay.example", i)
		signer := specimen.Key(t, key.P256)
		in := []intake.Input{{Name: host, Data: bundle.PEM(bundle.Request, specimen.Request(t, signer, "CN="+host,
			[]string{host}).Raw)}}
		if _, _, faults := intake.Receive(ctx, e, in, "the yard"); len(faults) > 0 {
			t.Fatal(faults)
		}
		must0(t, sign(e, sheet(t, e, i+1)))
		c, _, err := e.FindCertificate(ctx, fmt.Sprintf("R%d", i+1))
		must0(t, err)
		h, err := e.Hierarchy(ctx)
		must0(t, err)
		by[host] = &tls.Certificate{Certificate: [][]byte{c.Raw, h.Find("services").Current().Certificate.Raw},
			PrivateKey: signer}
		newest[host] = int64(i + 1)
	}
	p, err := revoking.PlanRevoke(ctx, e, revoking.Ask{Names: []string{"R2"}, Reason: revocation.Superseded})
	must0(t, err)
	_, err = revoking.Revoke(ctx, e, p)
	must0(t, err)
	strange := specimen.NewLine(t)
	by["strange.ternbay.example"] = &tls.Certificate{Certificate: [][]byte{strange.Leaf.Cert.Raw},
		PrivateKey: strange.Signer}
	at := servedByName(t, by)
	var list []probe.Target
	for i := range hosts * each {
		target, err := probe.ParseTarget(fmt.Sprintf("h%d.ternbay.example@%s", i%hosts, at))
		must0(t, err)
		list = append(list, target)
	}
	target, err := probe.ParseTarget("strange.ternbay.example@" + at)
	must0(t, err)
	list = append(list, target)
	h, err := e.Hierarchy(ctx)
	must0(t, err)
	look, err := probes.Begin(ctx, e, probes.Ask{Anchors: []*cert.Certificate{h.Find("root").Current().Certificate},
		Set: "own", Now: time.Now(), Clock: time.Now})
	must0(t, err)
	for _, o := range look.All(ctx, list, nil) {
		host, revoked := o.Name, o.Name == "h1.ternbay.example"
		switch {
		case host == "strange.ternbay.example":
			if o.On != nil || o.Trusted {
				t.Errorf("%s: %+v, trusted %v", host, o.On, o.Trusted)
			}
		case o.On == nil || o.On.Request != newest[host]:
			t.Errorf("%s: %+v, and it is R%d", host, o.On, newest[host])
		case revoked != (o.On.State == lifecycle.Revoked) || o.Trusted == revoked:
			t.Errorf("%s: %s, trusted %v", host, o.On.State, o.Trusted)
		case len(o.On.Holders) != 1 || o.On.Holders[0] != "the yard":
			t.Errorf("%s: it is held by %v", host, o.On.Holders)
		}
	}
}
