package evidence

import (
	"context"
	"crypto/rand"
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"ironseal/internal/fetch"
	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/revocation"
	"ironseal/pki/specimen"
)

func local(within time.Duration) fetch.Rules {
	r := fetch.Usual
	r.Local, r.Within = true, within
	return r
}

// A list that nobody has believed yet names deltas; each of them is fetched, however many they are.
func TestAHostileListSendsUsEverywhere(t *testing.T) {
	var asked atomic.Int64
	var list []byte
	mux := http.NewServeMux()
	mux.HandleFunc("/list", func(w http.ResponseWriter, _ *http.Request) { w.Write(list) })
	mux.HandleFunc("/d/", func(w http.ResponseWriter, _ *http.Request) { asked.Add(1); w.WriteHeader(500) })
	s := httptest.NewServer(mux)
	defer s.Close()
	w, stranger := specimen.NewLine(t), specimen.NewLine(t)
	var deltas []string
	for i := range 250 {
		deltas = append(deltas, fmt.Sprintf("%s/d/%d", s.URL, i))
	}
	d := revocation.Draft{Issuer: stranger.Mid.Cert.Subject, KeyID: stranger.Mid.Cert.SubjectKey, Number: 1,
		This: specimen.Now, Next: specimen.Now.Add(time.Hour), Freshest: deltas}
	var err error
	if list, err = d.Sign(nil, stranger.Mid.Signer, rand.Reader, nil); err != nil {
		t.Fatal(err)
	}
	leaf := specimen.Make(t, w.Mid, specimen.Plan{Subject: "CN=b.ternbay.example",
		Extra: ext.Set{ext.ListAddresses([]string{s.URL + "/list"})}})
	Gather(context.Background(), []*cert.Certificate{leaf.Cert, w.Mid.Cert}, Ask{Fetch: true,
		Rules: local(5 * time.Second), Random: rand.Reader, Cache: &Cache{}})
	if n := asked.Load(); n > 0 {
		t.Errorf("a list that nobody of ours signed made us ask %d addresses", n)
	}
	d.Issuer, d.KeyID = w.Mid.Cert.Subject, w.Mid.Cert.SubjectKey
	if list, err = d.Sign(nil, w.Mid.Signer, rand.Reader, nil); err != nil {
		t.Fatal(err)
	}
	Gather(context.Background(), []*cert.Certificate{leaf.Cert, w.Mid.Cert}, Ask{Fetch: true,
		Rules: local(5 * time.Second), Random: rand.Reader, Cache: &Cache{}})
	if n := asked.Load(); n == 0 || n > mostAddresses {
		t.Errorf("one certificate and one list that nobody of ours signed made us ask %d addresses; the bound is %d", n,
			mostAddresses)
	}
}

// One slow address holds up everybody else's: the lock is held while it is fetched.
func TestOneSlowAddressHoldsUpAll(t *testing.T) {
	slow := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-time.After(3 * time.Second):
		case <-r.Context().Done():
		}
	}))
	defer slow.Close()
	quick := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(404) }))
	defer quick.Close()
	var seen Cache
	w := specimen.NewLine(t)
	make := func(at string) []*cert.Certificate {
		return []*cert.Certificate{specimen.Make(t, w.Mid, specimen.Plan{Subject: "CN=b.ternbay.example",
			Extra: ext.Set{ext.ListAddresses([]string{at})}}).Cert, w.Mid.Cert}
	}
	ask := Ask{Fetch: true, Rules: local(2 * time.Second), Random: rand.Reader, Cache: &seen}
	go Gather(context.Background(), make(slow.URL+"/a"), ask)
	time.Sleep(200 * time.Millisecond)
	begin := time.Now()
	Gather(context.Background(), make(quick.URL+"/b"), ask)
	if took := time.Since(begin); took > time.Second {
		t.Errorf("another endpoint's quick list took %s, behind one slow address of a hostile endpoint (64 addresses "+
			"of 20 s each are allowed: 21 minutes)", took)
	}
}
