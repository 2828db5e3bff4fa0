package httpd_test

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/revoke/incidents"
)

// renewsBy is a machine that asks for its window, and renews once it has come.
func (o office) renewsBy(running context.Context, host string, renewed *atomic.Int32) {
	c := o.registered("quay.ternbay.example")
	d, _ := o.obtains(c, "http-01", host)
	for running.Err() == nil {
		time.Sleep(100 * time.Millisecond)
		leaf := parsed(o.t, d.leaf)
		serial := leaf.SerialNumber.Bytes()
		if serial[0]&0x80 != 0 {
			serial = append([]byte{0}, serial...)
		}
		got, err := c.HTTPClient.Get(o.est.URL + "/acme/gates/renewal-info/" +
			base64.RawURLEncoding.EncodeToString(leaf.AuthorityKeyId) + "." +
			base64.RawURLEncoding.EncodeToString(serial))
		if err != nil {
			return
		}
		var doc struct {
			SuggestedWindow struct{ Start, End time.Time }
		}
		err = json.NewDecoder(got.Body).Decode(&doc)
		got.Body.Close()
		if err != nil || doc.SuggestedWindow.End.IsZero() || doc.SuggestedWindow.End.After(time.Now()) {
			continue
		}
		order := o.proves(c, "http-01", host)
		next := newDevice(o.t, host)
		chain, _, err := c.CreateOrderCert(running, order.FinalizeURL, next.der, true)
		if err != nil {
			continue
		}
		next.leaf = chain[0]
		d = next
		renewed.Add(1)
	}
}

// An incident on the machines' authority replaces their certificates by itself: they learn that they renew at once, and
// get theirs as soon as the prepared successor signs.
func TestAnIncidentReplacesMachinesCertificates(t *testing.T) {
	t.Parallel()
	const machines = 20
	o := newOffice(t, "pace           = 600", "pace           = 0")
	plan, err := authorities.PlanRenewal(ctx, o.e, authorities.RenewAsk{Handle: "services",
		Day: time.Now().AddDate(0, 0, 20)})
	if err == nil {
		_, _, err = authorities.Renew(ctx, o.e, plan)
	}
	if err != nil {
		t.Fatal(err)
	}
	running, stop := context.WithCancel(ctx)
	var all sync.WaitGroup
	var renewed atomic.Int32
	t.Cleanup(func() { stop(); all.Wait() })
	for n := range machines {
		all.Go(func() { o.renewsBy(running, fmt.Sprintf("gate-%d.quay.ternbay.example", n), &renewed) })
	}
	held := func() (n int) {
		h, err := o.e.Hierarchy(ctx)
		if err != nil {
			t.Fatal(err)
		}
		list, err := o.e.ReadCertificates(o.e.Records.CertificatesOf(ctx, "services", h.Find("services").
			Current().Number))
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range list {
			if c.State.Serves() && strings.HasPrefix(c.Title(), "gate-") {
				n++
			}
		}
		return n
	}
	soon(t, "all machines have a certificate", func() bool { return held() == machines })
	i, _, err := incidents.Open(ctx, o.e, "services.g1", "the safe was found open")
	if err != nil {
		t.Fatal(err)
	}
	time.Sleep(500 * time.Millisecond) // some ask before there is anybody who signs
	if renewed.Load() > 0 {
		t.Error("the suspected key signed")
	}
	if _, _, err := renewals.Switch(ctx, o.e, "services", true, nil, nil); err != nil {
		t.Fatal(err)
	}
	within(t, 60*time.Second, "no certificate is left that depends on the key", func() bool {
		p, err := incidents.Of(ctx, o.e, i.Name)
		if err != nil {
			t.Fatal(err)
		}
		left := 0
		for _, a := range p.Affected {
			if a.Replacement == "" || !a.Handed {
				left++
			}
		}
		return len(p.Affected) >= machines && left == 0
	})
	if held() != machines {
		t.Errorf("%d machines have a certificate by the successor", held())
	}
}
