package status

import (
	"crypto"
	"crypto/rand"
	"fmt"
	"math/big"
	"strings"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/distpoint"
	"ironseal/pki/ext"
	"ironseal/pki/ocsp"
	"ironseal/pki/path"
	"ironseal/pki/revocation"
	"ironseal/pki/specimen"
)

// listed says what a list of a test holds.
type listed struct {
	by      *specimen.Entity
	number  int64
	base    int64
	age     time.Duration // how long ago it was dated
	life    time.Duration // a week where it is zero
	entries []revocation.Entry
	at      string // the address that it is about; "" for all
	users   bool
}

func (x listed) list(t testing.TB) *revocation.List {
	t.Helper()
	if x.life == 0 {
		x.life = 7 * 24 * time.Hour
	}
	this := specimen.Now.Add(-x.age)
	d := revocation.Draft{Issuer: x.by.Cert.Subject, KeyID: x.by.Cert.SubjectKey, Number: x.number, Base: x.base,
		This: this,
		Next: this.Add(x.life)}
	if x.at != "" || x.users {
		s := distpoint.Scope{Names: []distpoint.Name{{URI: x.at}}, Reasons: distpoint.AllReasons}
		if x.at == "" {
			s.Names = nil
		}
		s.OnlyUsers = x.users
		d.Scope = &s
	}
	var entries []byte
	for _, e := range x.entries {
		var err error
		if entries, err = revocation.AppendEntry(entries, e); err != nil {
			t.Fatal(err)
		}
	}
	der, err := d.Sign([][]byte{entries}, x.by.Signer, rand.Reader, nil)
	if err != nil {
		t.Fatal(err)
	}
	l, err := revocation.ReadList(der)
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func taken(c *specimen.Entity, why revocation.Reason) []revocation.Entry {
	return []revocation.Entry{{Serial: c.Cert.Serial, At: specimen.Now.Add(-time.Hour), Reason: why}}
}

// answered is an OCSP answer about a certificate.
func answered(t testing.TB, issuer, by, about *specimen.Entity, s ocsp.SingleResponse) *ocsp.Response {
	t.Helper()
	var err error
	if s.ID, err = ocsp.IDOf(crypto.SHA1, issuer.Cert, about.Cert.Serial); err != nil {
		t.Fatal(err)
	}
	if s.This.IsZero() {
		s.This = specimen.Now.Add(-time.Minute)
	}
	s.Next = s.This.Add(time.Hour)
	der, err := ocsp.Draft{Responder: by.Cert, Attach: true, At: s.This, Responses: []ocsp.SingleResponse{s}}.
		Sign(by.Signer,
			rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	a, err := ocsp.ReadResponse(der)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func TestEvidenceIsExaminedBeforeItIsAsked(t *testing.T) {
	w := specimen.NewLine(t)
	line := []*cert.Certificate{w.Leaf.Cert, w.Mid.Cert, w.Root.Cert}
	hour := time.Hour
	other := specimen.NewLine(t)
	noCheck := ext.Set{ext.NoCheck()}
	responder := func(x ext.Set) *specimen.Entity {
		return specimen.Make(t, w.Mid, specimen.Plan{Subject: "CN=Answers", Extended: []string{"OCSPSigning"},
			Extra: x})
	}
	good, unmarked := responder(noCheck), responder(nil)
	key := revocation.KeyCompromise
	lists := func(l ...listed) Evidence {
		var e Evidence
		for _, x := range l {
			e.Lists = append(e.Lists, x.list(t))
		}
		return e
	}
	for what, c := range map[string]struct {
		e     Evidence
		state State
		says  string
	}{
		"nothing":     {Evidence{}, Unknown, ""},
		"a list":      {lists(listed{by: w.Mid, number: 1}), Good, "the list 1 of Services"},
		"it is on it": {lists(listed{by: w.Mid, number: 1, entries: taken(w.Leaf, key)}), Revoked, "the list 1"},
		"it is on hold": {lists(listed{by: w.Mid, number: 1, entries: taken(w.Leaf, revocation.CertificateHold)}),
			OnHold,
			""},
		"another's list": {lists(listed{by: w.Root, number: 1, entries: taken(w.Leaf, key)}), Unknown, ""},
		"of the same name": {lists(listed{by: other.Mid, number: 1, entries: taken(w.Leaf, key)}), Unknown,
			"was not signed by Services"},
		"a stale list": {lists(listed{by: w.Mid, number: 1, age: 200 * hour, entries: taken(w.Leaf, key)}), Unknown,
			"stale"},
		"one to come": {lists(listed{by: w.Mid, number: 1, age: -hour}), Unknown, "still to come"},
		"the newer list decides": {lists(listed{by: w.Mid, number: 1, age: hour, entries: taken(w.Leaf, key)},
			listed{by: w.Mid, number: 2}), Good, "the list 2"},
		"the newer one has it": {lists(listed{by: w.Mid, number: 2, entries: taken(w.Leaf, key)},
			listed{by: w.Mid, number: 1, age: hour}), Revoked, "the list 2"},
		"a delta alone": {lists(listed{by: w.Mid, number: 2, base: 1, entries: taken(w.Leaf, key)}), Unknown, ""},
		"with its base": {lists(listed{by: w.Mid, number: 2, base: 1, entries: taken(w.Leaf, key)},
			listed{by: w.Mid, number: 1, age: hour}), Revoked, "with its delta"},
		"released by a delta": {lists(listed{by: w.Mid, number: 2, base: 1, entries: taken(w.Leaf,
			revocation.RemoveFromCRL)},
			listed{by: w.Mid, number: 1, age: hour, entries: taken(w.Leaf, revocation.CertificateHold)}), Good,
			"with its delta"},
		"a delta to a newer base": {lists(listed{by: w.Mid, number: 9, base: 5, entries: taken(w.Leaf, key)},
			listed{by: w.Mid, number: 1, age: hour}), Good, "the list 1"},
		"about another address": {lists(listed{by: w.Mid, number: 1, at: "http://pki.ternbay.example/x"}), Unknown, ""},
		"about users":           {lists(listed{by: w.Mid, number: 1, users: true}), Good, ""},
		"an answer": {Evidence{Answers: []*ocsp.Response{answered(t, w.Mid, good, w.Leaf, ocsp.SingleResponse{})}},
			Good, "OCSP"},
		"an answer that has it": {Evidence{Answers: []*ocsp.Response{answered(t, w.Mid, good, w.Leaf,
			ocsp.SingleResponse{Status: ocsp.Revoked, At: specimen.Now.Add(-hour), Reason: key})}}, Revoked, "OCSP"},
		"an answer that knows nothing": {Evidence{Answers: []*ocsp.Response{answered(t, w.Mid, good, w.Leaf,
			ocsp.SingleResponse{Status: ocsp.Unknown})}}, Unknown, "never issued it"},
		"an old answer": {Evidence{Answers: []*ocsp.Response{answered(t, w.Mid, good, w.Leaf,
			ocsp.SingleResponse{This: specimen.Now.Add(-9 * hour)})}}, Unknown, "stale"},
		"without the mark": {Evidence{Answers: []*ocsp.Response{answered(t, w.Mid, unmarked, w.Leaf,
			ocsp.SingleResponse{})}},
			Unknown,
			"lacks the mark"},
		"without the mark, and the list is there": {Evidence{Lists: lists(listed{by: w.Mid, number: 1}).Lists,
			Answers: []*ocsp.Response{answered(t, w.Mid, unmarked, w.Leaf, ocsp.SingleResponse{})}}, Good, "OCSP"},
		"without the mark, and revoked": {Evidence{Lists: lists(listed{by: w.Mid, number: 1,
			entries: taken(unmarked, key)}).Lists,
			Answers: []*ocsp.Response{answered(t, w.Mid, unmarked, w.Leaf, ocsp.SingleResponse{Status: ocsp.Revoked,
				At: specimen.Now})}},
			Good, "the list"},
		"the answer is older than the list": {Evidence{Lists: lists(listed{by: w.Mid, number: 1,
			entries: taken(w.Leaf, key)}).Lists,
			Answers: []*ocsp.Response{answered(t, w.Mid, good, w.Leaf, ocsp.SingleResponse{})}}, Revoked, "the list"},
	} {
		t.Run(what, func(t *testing.T) {
			j := New(c.e, path.Question{Now: specimen.Now, Anchors: line[2:]}, true)
			s := j.Of(line)
			if s.State != c.state {
				t.Errorf("%s: it is %s, and it should be %s: %v", what, s.State, c.state, s.Rejected)
			}
			if all := s.By + strings.Join(s.Rejected, "; "); !strings.Contains(all, c.says) {
				t.Errorf("%s: it says %q, and it should say %q", what, all, c.says)
			}
			found, words := j.Ask(line)
			if (len(found.Refusing()) > 0) == (c.state == Good) || words == "" {
				t.Errorf("%s: %v, %q", what, found, words)
			}
			tell := New(c.e, path.Question{Now: specimen.Now, Anchors: line[2:]}, false)
			if found, _ := tell.Ask(line); len(found.Refusing()) > 0 != (c.state == Revoked || c.state == OnHold) {
				t.Errorf("%s, told only: %v", what, found)
			}
		})
	}
}

// Parts of lists are asked by the addresses in the certificate.
func TestPartsOfListsAreAskedByAddress(t *testing.T) {
	w := specimen.NewLine(t)
	at := func(n int) string { return fmt.Sprintf("http://pki.ternbay.example/services.g1-%d.crl", n) }
	leaf := specimen.Make(t, w.Mid, specimen.Plan{Subject: "CN=b.ternbay.example",
		Extra: ext.Set{ext.ListAddresses([]string{at(2)})}})
	line := []*cert.Certificate{leaf.Cert, w.Mid.Cert, w.Root.Cert}
	for n, want := range map[int]State{1: Unknown, 2: Revoked} {
		l := listed{by: w.Mid, number: 1, at: at(n), entries: taken(leaf, revocation.Superseded)}.list(t)
		j := New(Evidence{Lists: []*revocation.List{l}}, path.Question{Now: specimen.Now}, true)
		if s := j.Of(line); s.State != want {
			t.Errorf("part %d: it is %s", n, s.State)
		}
	}
}

// What says itself that nobody tells needs nobody to.
func TestWhoNeedsNoAnswer(t *testing.T) {
	w := specimen.NewLine(t)
	for what, extra := range map[string]ext.Set{"no revocation": {ext.NoRevocation()}, "nothing": nil} {
		leaf := specimen.Make(t, w.Mid, specimen.Plan{Subject: "CN=short.ternbay.example", Extra: extra})
		j := New(Evidence{}, path.Question{Now: specimen.Now}, true)
		s := j.Of([]*cert.Certificate{leaf.Cert, w.Mid.Cert, w.Root.Cert})
		if (s.State == NotNeeded) != (extra != nil) {
			t.Errorf("%s: it is %s", what, s.State)
		}
	}
}

// A chain that is revoked somewhere is passed over where another holds.
func TestAnotherWayIsTakenWhereOneIsRevoked(t *testing.T) {
	w := specimen.NewLine(t)
	pub := w.Mid.Cert.Key
	again := specimen.Make(t, w.Root, specimen.Plan{Subject: "CN=Services", Authority: true, Public: &pub})
	lists := []*revocation.List{listed{by: w.Mid, number: 1}.list(t),
		listed{by: w.Root, number: 1, entries: taken(w.Mid, revocation.Superseded)}.list(t)}
	q := path.Question{Now: specimen.Now, Anchors: []*cert.Certificate{w.Root.Cert}}
	q.Status = New(Evidence{Lists: lists}, q, true).Ask
	for _, c := range []struct {
		others []*cert.Certificate
		valid  bool
	}{{[]*cert.Certificate{w.Mid.Cert}, false}, {[]*cert.Certificate{w.Mid.Cert, again.Cert}, true}} {
		if v := path.Verify(w.Leaf.Cert, c.others, q); v.Valid != c.valid {
			t.Errorf("with %d others: %v, %v", len(c.others), v.Valid, v.Reasons())
		}
	}
}

func BenchmarkJudgingByAMillion(b *testing.B) {
	w := specimen.NewLine(b)
	entries := make([]revocation.Entry, 1_000_000)
	for i := range entries {
		entries[i] = revocation.Entry{Serial: cert.SerialOf(new(big.Int).Add(new(big.Int).Lsh(big.NewInt(1), 120),
			big.NewInt(int64(i)))), At: specimen.Now, Reason: revocation.Superseded}
	}
	der := listed{by: w.Mid, number: 1, entries: entries}.list(b).Raw
	entries = nil
	line := []*cert.Certificate{w.Leaf.Cert, w.Mid.Cert, w.Root.Cert}
	b.ReportAllocs()
	b.SetBytes(int64(len(der)))
	for b.Loop() {
		l, err := revocation.ReadList(der)
		if err != nil {
			b.Fatal(err)
		}
		j := New(Evidence{Lists: []*revocation.List{l}}, path.Question{Now: specimen.Now}, true)
		if s := j.Of(line); s.State != Good {
			b.Fatal(s)
		}
	}
}

// What was signed while the question was asked is dated after it, and is believed within the
// difference of clocks; what is dated later, or is stale, is not.
func TestClocksMayDiffer(t *testing.T) {
	w := specimen.NewLine(t)
	line := []*cert.Certificate{w.Leaf.Cert, w.Mid.Cert, w.Root.Cert}
	for what, c := range map[string]struct {
		ahead, late time.Duration
		state       State
	}{
		"a second ahead":        {time.Second, ClocksDiffer, Good},
		"with clocks alike":     {time.Second, 0, Unknown},
		"further ahead":         {ClocksDiffer + time.Minute, ClocksDiffer, Unknown},
		"stale for some time":   {-7*24*time.Hour - 10*time.Minute, ClocksDiffer, Unknown},
		"fresh, signed earlier": {-time.Minute, ClocksDiffer, Good},
	} {
		t.Run(what, func(t *testing.T) {
			list := Evidence{Late: c.late, Lists: []*revocation.List{listed{by: w.Mid, number: 1,
				age: -c.ahead}.list(t)}}
			answer := Evidence{Late: c.late, Answers: []*ocsp.Response{answered(t, w.Mid, w.Mid, w.Leaf,
				ocsp.SingleResponse{Status: ocsp.Good, This: specimen.Now.Add(c.ahead)})}}
			for kind, e := range map[string]Evidence{"list": list, "answer": answer} {
				if s := New(e, path.Question{Now: specimen.Now}, true).Of(line); s.State != c.state {
					t.Errorf("%s, %s: %s, and it should be %s: %v", what, kind, s.State, c.state, s.Rejected)
				}
			}
		})
	}
	stale := listed{by: w.Mid, number: 1, age: 7*24*time.Hour + time.Minute}.list(t)
	e := Evidence{Late: ClocksDiffer, Lists: []*revocation.List{stale}}
	if s := New(e, path.Question{Now: specimen.Now}, true).Of(line); s.State != Unknown {
		t.Errorf("a list that has been stale for a minute: %s", s.State)
	}
}
