package app_test

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	xocsp "golang.org/x/crypto/ocsp"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/app/revoke/responding"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/estate"
	"ironseal/pki/cert"
	"ironseal/pki/ocsp"
	"ironseal/pki/revocation"
)

func parsed(t testing.TB, c *cert.Certificate) *x509.Certificate {
	t.Helper()
	out, err := x509.ParseCertificate(c.Raw)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// Every certificate has its answer, of every generation, by a key that was made for that.
func TestAnswersAreMadeForAll(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 4)
	to := filepath.Join(t.TempDir(), "answers")
	revoke(t, e, revocation.KeyCompromise, list[0].SerialHex())
	revoke(t, e, revocation.CertificateHold, list[1].SerialHex())
	if _, _, err := revoking.Release(ctx, e, []string{"R2"}, "found"); err != nil {
		t.Fatal(err)
	}
	r, err := authorities.PlanRenewal(ctx, e, authorities.RenewAsk{Handle: "services"})
	if err == nil {
		_, _, err = authorities.Renew(ctx, e, r)
	}
	if err == nil { // an earlier generation, and a retired authority, answer on
		_, _, err = authorities.Retire(ctx, e, "services", "its work is done", false)
	}
	if err != nil {
		t.Fatal(err)
	}
	for range 2 { // the second batch takes the place of the first
		b, err := responding.Prepare(ctx, e, to, publishing.Ask{}, nil)
		if err != nil {
			t.Fatal(err)
		}
		if b.Answers != 6 || len(b.Responders) != 2 || len(b.Skipped) != 0 {
			t.Errorf("%+v", b)
		}
	}
	services, err := e.Generation(ctx, "services.g1")
	if err != nil {
		t.Fatal(err)
	}
	for i, c := range list {
		der, err := os.ReadFile(filepath.Join(to, "services.g1."+c.SerialHex()+".ocsp"))
		if err != nil {
			t.Fatal(err)
		}
		a, err := xocsp.ParseResponseForCert(der, parsed(t, c.Certificate), parsed(t, services.Certificate))
		if err != nil {
			t.Fatal(err)
		}
		want := xocsp.Good
		if i == 0 {
			want = xocsp.Revoked
		}
		if a.Status != want || a.Certificate == nil || !bytes.Equal(a.Certificate.RawIssuer,
			services.Certificate.Subject.DER()) {
			t.Errorf("%d: %+v", i, a)
		}
		if a.Certificate.ExtKeyUsage[0] != x509.ExtKeyUsageOCSPSigning || a.NextUpdate.After(a.Certificate.NotAfter) {
			t.Errorf("%d: signed until %s by %v", i, a.NextUpdate, a.Certificate.NotAfter)
		}
	}
	if files, _ := os.ReadDir(to); len(files) != 6 {
		t.Errorf("%d files", len(files))
	}
	for _, c := range must(e.Certificates(ctx)) {
		if ocsp.NoCheck(c.Certificate) && !c.OneUse() {
			t.Errorf("%s is to be renewed one day", c.Title())
		}
	}
	if faults := checked(t, dir); len(faults) > 0 {
		t.Errorf("%v", faults)
	}
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// A responder answers as things are now: what is revoked and on no list yet is revoked, and
// what was never issued is unknown.
func TestAnswersToQuestions(t *testing.T) {
	t.Parallel()
	_, e, list := signed(t, 3)
	services, err := e.Generation(ctx, "services")
	if err != nil {
		t.Fatal(err)
	}
	r := live(t, e, "")
	if err := r.Keep(ctx, publishing.Ask{Only: []string{"services"}}); err != nil {
		t.Fatal(err)
	}
	revoke(t, e, revocation.KeyCompromise, list[0].SerialHex())
	unseen := issuedUnseen(t, e)
	for i, c := range append(list[:2:2], estate.CertificateRecord{Certificate: unseen}) {
		for _, hash := range []crypto.Hash{crypto.SHA1, crypto.SHA256} {
			asked, err := xocsp.CreateRequest(parsed(t, c.Certificate), parsed(t, services.Certificate),
				&xocsp.RequestOptions{Hash: hash})
			if err != nil {
				t.Fatal(err)
			}
			der := response(t, e, r, asked)
			a, err := xocsp.ParseResponseForCert(der, parsed(t, c.Certificate), parsed(t, services.Certificate))
			if err != nil {
				t.Fatal(err)
			}
			if want := []int{xocsp.Revoked, xocsp.Good, xocsp.Unknown}[i]; a.Status != want {
				t.Errorf("%d: %s", i, fmt.Sprintf("%+v", a))
			}
		}
	}
	root, err := e.Generation(ctx, "root")
	if err != nil {
		t.Fatal(err)
	}
	foreign, err := xocsp.CreateRequest(parsed(t, services.Certificate), parsed(t, root.Certificate), nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		asked []byte
		want  ocsp.ResponseStatus
	}{{foreign, ocsp.Unauthorized}, {[]byte("aboard"), ocsp.MalformedRequest}} {
		der := response(t, e, r, c.asked)
		if a, err := ocsp.ReadResponse(der); err != nil || a.Status != c.want {
			t.Errorf("%v, %v", a, err)
		}
	}
	first := r.Responders()
	if err := r.Keep(ctx, publishing.Ask{}); err != nil {
		t.Fatal(err)
	}
	if again := r.Responders(); len(first) != 1 || len(again) != 2 || again[0] != first[0] {
		t.Errorf("%d responders, and then %d: the one that lasts was made again", len(first), len(again))
	}
	at := first[0].NotAfter.Add(-time.Hour)
	e.Env.Now = func() time.Time { return at }
	if err := r.Keep(ctx, publishing.Ask{Only: []string{"services"}}); err != nil {
		t.Fatal(err)
	}
	if again := r.Responders(); len(again) != 2 || slices.Contains(again, first[0]) {
		t.Error("a responder that is about to end was not made again")
	}
}

// A clock that jumps ages no answer: each is made again that is from the future, or old.
func TestAnswersWhenTheClockJumps(t *testing.T) {
	t.Parallel()
	_, e, list := signed(t, 1)
	services, err := e.Generation(ctx, "services")
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now().UTC().Truncate(time.Second)
	e.Env.Now = func() time.Time { return now }
	r := live(t, e, "")
	if err := r.Keep(ctx, publishing.Ask{Only: []string{"services"}}); err != nil {
		t.Fatal(err)
	}
	asked, err := xocsp.CreateRequest(parsed(t, list[0].Certificate), parsed(t, services.Certificate), nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, by := range []time.Duration{0, 25 * time.Minute, 40 * time.Minute, 48 * time.Hour, -50 * time.Hour,
		time.Minute} {
		now = now.Add(by)
		a, err := ocsp.ReadResponse(response(t, e, r, asked))
		if err != nil || a.Status != ocsp.Successful {
			t.Fatalf("after %v: %+v, %v", by, a, err)
		}
		if one := a.Responses[0]; one.This.After(now) || one.Next.Before(now.Add(29*time.Minute)) {
			t.Errorf("after %v it is %v, and the answer is from %v to %v", by, now, one.This, one.Next)
		}
	}
}

// live makes what answers requests of an estate.
func live(t testing.TB, e *estate.Estate, prepared string) *responding.Live {
	t.Helper()
	return responding.NewLive(e, time.Hour, prepared)
}

// response is the answer of one that has seen the newest entry of the journal.
func response(t testing.TB, e *estate.Estate, l *responding.Live, asked []byte) []byte {
	t.Helper()
	head, _, err := e.Records.Newest(ctx)
	if err == nil {
		err = l.Update(ctx, head.Seq, nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	told, err := l.Answer(ctx, asked)
	if err != nil {
		t.Fatal(err)
	}
	return told.DER
}

// Answers that were prepared are handed out where no key is here, and none that tells otherwise than the records.
func TestPreparedAnswersAreHandedOut(t *testing.T) {
	t.Parallel()
	_, e, list := signed(t, 2)
	services, err := e.Generation(ctx, "services")
	if err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(t.TempDir(), "answers")
	if _, err := responding.Prepare(ctx, e, dir, publishing.Ask{}, nil); err != nil {
		t.Fatal(err)
	}
	r := live(t, e, dir)
	ask := func(i int) *ocsp.Response {
		t.Helper()
		asked, err := xocsp.CreateRequest(parsed(t, list[i].Certificate), parsed(t, services.Certificate), nil)
		if err != nil {
			t.Fatal(err)
		}
		a, err := ocsp.ReadResponse(response(t, e, r, asked))
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	for i := range list {
		if a := ask(i); a.Status != ocsp.Successful || a.Responses[0].Status != ocsp.Good {
			t.Errorf("%d: %+v", i, a)
		}
	}
	revoke(t, e, revocation.KeyCompromise, list[0].SerialHex())
	if a := ask(0); a.Status != ocsp.TryLater {
		t.Errorf("an answer that tells otherwise than the records was handed out: %+v", a)
	}
	if a := ask(1); a.Status != ocsp.Successful {
		t.Errorf("%+v", a)
	}
	if _, err := responding.Prepare(ctx, e, dir, publishing.Ask{}, nil); err != nil {
		t.Fatal(err)
	}
	if a := ask(0); a.Status != ocsp.Successful || a.Responses[0].Status != ocsp.Revoked {
		t.Errorf("%+v", a)
	}
}

// Where no key is at hand nobody can sign an answer. The folder still loses those that tell otherwise than
// the records by now, and keeps the others.
func TestAnswersThatAreWrongGoWhereNoneCanBeSigned(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 2)
	to := filepath.Join(t.TempDir(), "answers")
	must(responding.Prepare(ctx, e, to, publishing.Ask{}, nil))
	revoke(t, e, revocation.KeyCompromise, list[0].SerialHex())
	if err := os.Rename(filepath.Join(dir, "keys"), filepath.Join(t.TempDir(), "keys")); err != nil {
		t.Fatal(err)
	}
	b, err := responding.Prepare(ctx, e, to, publishing.Ask{}, nil)
	if err != nil || len(b.Skipped) != 2 || b.Answers != 0 {
		t.Fatalf("%+v %v", b, err)
	}
	for i, want := range []bool{false, true} {
		_, err := os.Stat(filepath.Join(to, "services.g1."+list[i].SerialHex()+".ocsp"))
		if (err == nil) != want {
			t.Errorf("certificate %d: %v", i, err)
		}
	}
	if _, err := responding.Prepare(ctx, e, to+"-none", publishing.Ask{}, nil); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(to + "-none"); err == nil {
		t.Error("a folder was made for nothing")
	}
}
