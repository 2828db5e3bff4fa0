package status

import (
	"crypto"
	"crypto/rand"
	"testing"
	"time"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/ocsp"
	"ironseal/pki/path"
	"ironseal/pki/revocation"
	"ironseal/pki/specimen"
)

func answerOf(t testing.TB, by *specimen.Entity, singles ...ocsp.SingleResponse) *ocsp.Response {
	t.Helper()
	der, err := ocsp.Draft{Responder: by.Cert, Attach: true, At: singles[0].This, Responses: singles}.Sign(by.Signer,
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

// A "good" of five years ago that names no successor must not count for ever: Ask.Oldest is there, and nobody sets it.
func TestAnAnswerOfYearsAgoWithoutNextUpdateCounts(t *testing.T) {
	w := specimen.NewLine(t)
	line := []*cert.Certificate{w.Leaf.Cert, w.Mid.Cert, w.Root.Cert}
	id, _ := ocsp.IDOf(crypto.SHA1, w.Mid.Cert, w.Leaf.Cert.Serial)
	old := answerOf(t, w.Mid, ocsp.SingleResponse{ID: id, Status: ocsp.Good, This: specimen.Now.AddDate(-5, 0, 0)})
	j := New(Evidence{Answers: []*ocsp.Response{old}}, path.Question{Now: specimen.Now}, true)
	if s := j.Of(line); s.State == Good {
		t.Errorf("an answer of five years ago counts: %s by %s", s.State, s.By)
	}
}

// A responder without the mark that nobody need ask about it must not vouch for itself.
func TestAResponderVouchesForItself(t *testing.T) {
	w := specimen.NewLine(t)
	line := []*cert.Certificate{w.Leaf.Cert, w.Mid.Cert, w.Root.Cert}
	r := specimen.Make(t, w.Mid, specimen.Plan{Subject: "CN=Answers", Extended: []string{"OCSPSigning"}})
	this := specimen.Now.Add(-time.Minute)
	one := func(c *specimen.Entity) ocsp.SingleResponse {
		id, _ := ocsp.IDOf(crypto.SHA1, w.Mid.Cert, c.Cert.Serial)
		return ocsp.SingleResponse{ID: id, Status: ocsp.Good, This: this, Next: this.Add(time.Hour)}
	}
	a := answerOf(t, r, one(w.Leaf), one(r))
	j := New(Evidence{Answers: []*ocsp.Response{a}}, path.Question{Now: specimen.Now}, true)
	if s := j.Of(line); s.State == Good {
		t.Errorf("the responder's own word about itself counts: %s by %s", s.State, s.By)
	}
}

// A list at hand says that the responder was revoked; its answers must not count, mark or no mark.
func TestARevokedResponderWithTheMarkCounts(t *testing.T) {
	w := specimen.NewLine(t)
	line := []*cert.Certificate{w.Leaf.Cert, w.Mid.Cert, w.Root.Cert}
	r := specimen.Make(t, w.Mid, specimen.Plan{Subject: "CN=Answers", Extended: []string{"OCSPSigning"},
		Extra: ext.Set{ext.NoCheck()}})
	list := listed{by: w.Mid, number: 1, users: true, entries: taken(r, revocation.KeyCompromise)}.list(t)
	q := path.Question{Now: specimen.Now, Anchors: line[2:]}
	j := New(Evidence{Lists: []*revocation.List{list}}, q, true)
	if s := j.Of([]*cert.Certificate{r.Cert, w.Mid.Cert, w.Root.Cert}); s.State != Revoked {
		t.Errorf("a certificate on the list is %s by %s", s.State, s.By)
	}
	id, _ := ocsp.IDOf(crypto.SHA1, w.Mid.Cert, w.Leaf.Cert.Serial)
	this := specimen.Now.Add(-time.Minute)
	a := answerOf(t, r, ocsp.SingleResponse{ID: id, Status: ocsp.Good, This: this, Next: this.Add(time.Hour)})
	j = New(Evidence{Answers: []*ocsp.Response{a}, Lists: []*revocation.List{list}}, q, true)
	if s := j.Of(line); s.By != "" && s.State == Good && s.By[:2] == "an" {
		t.Errorf("the answer of a responder that the list calls stolen decides: %s by %s", s.State, s.By)
	}
}

// A list that is missing its NextUpdate counts for ever.
func TestAListWithoutNextUpdate(t *testing.T) {
	w := specimen.NewLine(t)
	line := []*cert.Certificate{w.Leaf.Cert, w.Mid.Cert, w.Root.Cert}
	pub, err := key.Of(w.Mid.Signer)
	if err != nil {
		t.Fatal(err)
	}
	algorithm, _, err := pub.SigningAlgorithm()
	if err != nil {
		t.Fatal(err)
	}
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddBytes(algorithm)
		b.AddBytes(w.Mid.Cert.Subject.DER())
		b.AddASN1UTCTime(specimen.Now.AddDate(-5, 0, 0)) // five years ago, and no word of the next
	})
	tbs := b.BytesOrPanic()
	alg, sig, err := key.SignMessage(tbs, w.Mid.Signer, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	var o cryptobyte.Builder
	o.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddBytes(tbs)
		b.AddBytes(alg)
		b.AddASN1BitString(sig)
	})
	l, err := revocation.ReadList(o.BytesOrPanic())
	if err != nil {
		t.Fatal(err)
	}
	j := New(Evidence{Lists: []*revocation.List{l}}, path.Question{Now: specimen.Now}, true)
	if s := j.Of(line); s.State == Good {
		t.Errorf("a list of five years ago that names no successor counts: %s by %s", s.State, s.By)
	}
}

// An authority's certificate with the mark for responders and any usage is never asked about.
func TestTheMarkOnAServersCertificate(t *testing.T) {
	w := specimen.NewLine(t)
	s := specimen.Make(t, w.Mid, specimen.Plan{Subject: "CN=www.ternbay.example", Extended: []string{"serverAuth",
		"OCSPSigning"}, Extra: ext.Set{ext.NoCheck()}})
	list := listed{by: w.Mid, number: 1, entries: taken(s, revocation.KeyCompromise)}.list(t)
	roots := listed{by: w.Root, number: 1}.list(t)
	q := path.Question{Now: specimen.Now, Anchors: []*cert.Certificate{w.Root.Cert}}
	q.Status = New(Evidence{Lists: []*revocation.List{list, roots}}, q, true).Ask
	if v := path.Verify(s.Cert, []*cert.Certificate{w.Mid.Cert}, q); v.Valid {
		t.Errorf("a server's certificate that is on the list is accepted: %s", v.Steps[0].Status)
	}
}

// noRevAvail on the leaf, and the list has it.
func TestNoRevAvailAndOnTheList(t *testing.T) {
	w := specimen.NewLine(t)
	s := specimen.Make(t, w.Mid, specimen.Plan{Subject: "CN=www.ternbay.example", Extra: ext.Set{ext.NoRevocation()}})
	list := listed{by: w.Mid, number: 1, entries: taken(s, revocation.KeyCompromise)}.list(t)
	roots := listed{by: w.Root, number: 1}.list(t)
	q := path.Question{Now: specimen.Now, Anchors: []*cert.Certificate{w.Root.Cert}}
	q.Status = New(Evidence{Lists: []*revocation.List{list, roots}}, q, true).Ask
	if v := path.Verify(s.Cert, []*cert.Certificate{w.Mid.Cert}, q); v.Valid {
		t.Errorf("a certificate that is on the list is accepted: %s", v.Steps[0].Status)
	}
}

// Another authority below the same root, which may certify for its own names alone, gives somebody the name of
// Services.
// The list of that one, newer and empty, must not take the place of the list of Services.
func TestAnotherAuthorityUnrevokes(t *testing.T) {
	w := specimen.NewLine(t)
	line := []*cert.Certificate{w.Leaf.Cert, w.Mid.Cert, w.Root.Cert}
	partner := specimen.Make(t, w.Root, specimen.Plan{Subject: "CN=Partner", Authority: true, Zero: true,
		Permit: []string{"dns:partner.example"}})
	// no authority, and without a key usage: a plain certificate that has that subject
	rogue := specimen.Make(t, partner, specimen.Plan{Subject: w.Mid.Cert.Subject.String(), NoUsage: true})
	if !rogue.Cert.Subject.Equal(w.Mid.Cert.Subject) {
		t.Fatal("the names differ")
	}
	e := Evidence{Lists: []*revocation.List{listed{by: w.Mid, number: 1, age: time.Hour, entries: taken(w.Leaf,
		revocation.KeyCompromise)}.list(t),
		listed{by: w.Root, number: 1}.list(t), listed{by: partner, number: 1}.list(t),
		listed{by: rogue, number: 2}.list(t)}, Signers: []*cert.Certificate{rogue.Cert, partner.Cert}}
	j := New(e, path.Question{Now: specimen.Now, Anchors: line[2:]}, true)
	if s := j.Of(line); s.State != Revoked {
		t.Errorf("a certificate that Services revoked is %s, by %s, which a key of Partner's making signed", s.State,
			s.By)
	}
}

// A list that was signed ahead has a later date than an urgent one that was signed after it. The
// number says which is newer.
func TestTheNumberSaysWhichListIsNewer(t *testing.T) {
	w := specimen.NewLine(t)
	line := []*cert.Certificate{w.Leaf.Cert, w.Mid.Cert, w.Root.Cert}
	ahead := listed{by: w.Mid, number: 6, age: time.Hour}.list(t)
	urgent := listed{by: w.Mid, number: 7, age: 5 * time.Hour, entries: taken(w.Leaf, revocation.KeyCompromise)}.list(t)
	for name, lists := range map[string][]*revocation.List{"ahead first": {ahead, urgent}, "urgent first": {urgent,
		ahead}} {
		t.Run(name, func(t *testing.T) {
			j := New(Evidence{Lists: lists}, path.Question{Now: specimen.Now, Anchors: line[2:]}, true)
			if s := j.Of(line); s.State != Revoked {
				t.Errorf("%s, by %s", s.State, s.By)
			}
		})
	}
}

// Responders that vouch for each other, and a row of signers that is longer than anybody follows,
// end in "unknown".
func TestCirclesAndLongRowsOfSignersAreUnknown(t *testing.T) {
	w := specimen.NewLine(t)
	line := []*cert.Certificate{w.Leaf.Cert, w.Mid.Cert, w.Root.Cert}
	this := specimen.Now.Add(-time.Minute)
	about := func(c *specimen.Entity) ocsp.SingleResponse {
		id, err := ocsp.IDOf(crypto.SHA1, w.Mid.Cert, c.Cert.Serial)
		if err != nil {
			t.Fatal(err)
		}
		return ocsp.SingleResponse{ID: id, Status: ocsp.Good, This: this, Next: this.Add(time.Hour)}
	}
	responders := []*specimen.Entity{w.Leaf}
	for i := range 8 {
		responders = append(responders, specimen.Make(t, w.Mid, specimen.Plan{Subject: "CN=Answers " + string(rune('A'+
			i)),
			Extended: []string{"OCSPSigning"}}))
	}
	row := func(n int, closed bool) (e Evidence) {
		for i := range n {
			e.Answers = append(e.Answers, answerOf(t, responders[i+1], about(responders[i])))
		}
		if closed {
			e.Answers = append(e.Answers, answerOf(t, responders[1], about(responders[n])))
		}
		return e
	}
	for name, e := range map[string]Evidence{"a circle": row(2, true), "a long row": row(7, false)} {
		t.Run(name, func(t *testing.T) {
			if s := New(e, path.Question{Now: specimen.Now}, true).Of(line); s.State != Unknown {
				t.Errorf("%s, by %s", s.State, s.By)
			}
		})
	}
}

// The mark counts for a responder that is nothing else: on a server's certificate it silences
// nobody, and does not answer the question either.
func TestTheMarkCountsForRespondersOnly(t *testing.T) {
	w := specimen.NewLine(t)
	for name, x := range map[string]struct {
		usages []string
		want   State
	}{"a responder": {[]string{"OCSPSigning"}, NotNeeded}, "a server too": {[]string{"serverAuth", "OCSPSigning"},
		Unknown},
		"a server": {[]string{"serverAuth"}, Unknown}, "no usage": {nil, Unknown}} {
		t.Run(name, func(t *testing.T) {
			c := specimen.Make(t, w.Mid, specimen.Plan{Subject: "CN=Marked", Extended: x.usages,
				Extra: ext.Set{ext.NoCheck()}})
			s := New(Evidence{}, path.Question{Now: specimen.Now}, true).Of([]*cert.Certificate{c.Cert, w.Mid.Cert,
				w.Root.Cert})
			if s.State != x.want {
				t.Errorf("%s, and it should be %s", s.State, x.want)
			}
		})
	}
}
