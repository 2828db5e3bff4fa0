package ocsp

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"math/big"
	"strings"
	"testing"
	"time"

	xocsp "golang.org/x/crypto/ocsp"

	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/revocation"
	"ironseal/pki/specimen"
)

// scene is an authority, one of its certificates, and a responder of its.
type scene struct {
	root, leaf, responder *specimen.Entity
	issuer, theirs        *x509.Certificate
}

func newScene(t testing.TB, kind key.Kind) scene {
	t.Helper()
	s := scene{root: specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root,O=Tern Bay", Authority: true, Key: kind})}
	s.leaf = specimen.Make(t, s.root, specimen.Plan{Subject: "CN=a.ternbay.example",
		Names: []string{"a.ternbay.example"}})
	s.responder = specimen.Make(t, s.root, specimen.Plan{Subject: "CN=Answers", Extended: []string{"OCSPSigning"},
		Extra: ext.Set{ext.NoCheck()}, Key: kind})
	var err error
	if s.issuer, err = x509.ParseCertificate(s.root.Cert.Raw); err != nil {
		t.Fatal(err)
	}
	if s.theirs, err = x509.ParseCertificate(s.leaf.Cert.Raw); err != nil {
		t.Fatal(err)
	}
	return s
}

// known is what the responder of a test knows.
type known map[string]SingleResponse

func (k known) Of(serial cert.Serial) (Status, time.Time, revocation.Reason) {
	s, ok := k[serial.Hex()]
	if !ok {
		return Unknown, time.Time{}, 0
	}
	return s.Status, s.At, s.Reason
}

func (s scene) answer(t testing.TB, q Request, k known, change func(*Draft)) []byte {
	t.Helper()
	d, outcome := Respond(q, s.root.Cert, k, Draft{Responder: s.responder.Cert, Attach: true, At: specimen.Now},
		time.Hour)
	if outcome != Successful {
		t.Fatal(outcome)
	}
	signer := s.responder.Signer
	if change != nil {
		change(&d)
		if d.Responder == s.root.Cert {
			signer = s.root.Signer
		}
	}
	der, err := d.Sign(signer, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return der
}

func (s scene) ask(nonce []byte) Expectation {
	return Expectation{Issuer: s.root.Cert, Serial: s.leaf.Cert.Serial, Now: specimen.Now, Nonce: nonce}
}

// What another library asks is understood, and what we answer is read by it as it was meant.
func TestAnswersAreReadByAnotherLibrary(t *testing.T) {
	for _, kind := range []key.Kind{key.RSA2048, key.P256, key.P384} {
		s := newScene(t, kind)
		for _, hash := range []crypto.Hash{crypto.SHA1, crypto.SHA256} {
			asked, err := xocsp.CreateRequest(s.theirs, s.issuer, &xocsp.RequestOptions{Hash: hash})
			if err != nil {
				t.Fatal(err)
			}
			q, err := ReadRequest(asked)
			if err != nil || len(q.Asked) != 1 || q.Asked[0].Hash != hash || !q.Asked[0].Of(s.root.Cert) {
				t.Fatalf("%v: %+v, %v", hash, q, err)
			}
			own, err := IDOf(hash, s.root.Cert, s.leaf.Cert.Serial)
			if err != nil || !own.Same(q.Asked[0]) {
				t.Errorf("%v: identifiers differ, %v", hash, err)
			}
			if der, err := (Request{Asked: []ID{own}}).DER(); err != nil || !bytes.Equal(der, asked) {
				t.Errorf("%v: what we ask is not what it asks, %v", hash, err)
			}
			for _, want := range []SingleResponse{{Status: Good}, {Status: Unknown},
				{Status: Revoked, At: specimen.Now.Add(-time.Hour), Reason: revocation.KeyCompromise},
				{Status: Revoked, At: specimen.Now.Add(-time.Hour)}} {
				k := known{}
				if want.Status != Unknown {
					k[s.leaf.Cert.SerialHex()] = want
				}
				der := s.answer(t, q, k, nil)
				r, err := xocsp.ParseResponseForCert(der, s.theirs, s.issuer)
				if err != nil {
					t.Fatal(kind, err)
				}
				if r.Status != int(want.Status) || r.RevocationReason != int(want.Reason) ||
					!r.ThisUpdate.Equal(specimen.Now) ||
					!r.NextUpdate.Equal(specimen.Now.Add(time.Hour)) || want.Status == Revoked &&
					!r.RevokedAt.Equal(want.At) {
					t.Errorf("%s %v: %+v", kind, want, r)
				}
				a, err := ReadResponse(der)
				if err != nil {
					t.Fatal(err)
				}
				got, signer, err := a.Judge(s.ask(nil))
				if err != nil || got.Status != want.Status || got.Reason != want.Reason || signer.Title() != "Answers" {
					t.Errorf("%+v, %v", got, err)
				}
			}
		}
	}
}

// What another library answers is read by us as it was meant.
func TestAnswersOfAnotherLibraryAreRead(t *testing.T) {
	s := newScene(t, key.P256)
	signer, err := x509.ParseCertificate(s.responder.Cert.Raw)
	if err != nil {
		t.Fatal(err)
	}
	for _, hash := range []crypto.Hash{crypto.SHA1, crypto.SHA256} {
		der, err := xocsp.CreateResponse(s.issuer, signer, xocsp.Response{Status: xocsp.Revoked,
			SerialNumber: s.theirs.SerialNumber, ThisUpdate: specimen.Now, NextUpdate: specimen.Now.Add(time.Hour),
			RevokedAt: specimen.Now.Add(-time.Minute), RevocationReason: 4, IssuerHash: hash, Certificate: signer},
			s.responder.Signer)
		if err != nil {
			t.Fatal(err)
		}
		a, err := ReadResponse(der)
		if err != nil {
			t.Fatal(err)
		}
		got, _, err := a.Judge(s.ask(nil))
		if err != nil || got.Status != Revoked || got.Reason != revocation.Superseded {
			t.Errorf("%v: %+v, %v", hash, got, err)
		}
		for i := range der {
			if _, err := ReadResponse(der[:i]); err == nil {
				t.Fatalf("cut after %d octets it still reads", i)
			}
		}
	}
}

func TestNoncesAndSeveralAtOnce(t *testing.T) {
	s := newScene(t, key.P256)
	var ids []ID
	for _, n := range []cert.Serial{s.leaf.Cert.Serial, cert.SerialOf(big.NewInt(5))} {
		id, err := IDOf(crypto.SHA1, s.root.Cert, n)
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, id)
	}
	for _, size := range []int{1, 16, 32, 128} {
		nonce := bytes.Repeat([]byte{7}, size)
		der, err := Request{Asked: ids, Nonce: nonce}.DER()
		if err != nil {
			t.Fatal(err)
		}
		q, err := ReadRequest(der)
		if err != nil || !bytes.Equal(q.Nonce, nonce) || len(q.Asked) != 2 {
			t.Fatalf("%d octets: %+v, %v", size, q, err)
		}
		a, err := ReadResponse(s.answer(t, q, known{s.leaf.Cert.SerialHex(): {}}, nil))
		if err != nil || !bytes.Equal(a.Nonce, nonce) || len(a.Responses) != 2 || a.Responses[1].Status != Unknown {
			t.Fatalf("%+v, %v", a, err)
		}
		if _, _, err := a.Judge(s.ask(nonce)); err != nil {
			t.Error(err)
		}
		if _, _, err := a.Judge(s.ask(bytes.Repeat([]byte{8}, size))); err == nil {
			t.Error("an answer with another nonce is believed")
		}
	}
	for _, size := range []int{0, 129} {
		der, err := Request{Asked: ids, Nonce: bytes.Repeat([]byte{7}, size)}.DER()
		if err == nil {
			_, err = ReadRequest(der)
		}
		if err == nil {
			t.Errorf("a nonce of %d octets is taken", size)
		}
	}
}

// Whoever may not answer is not believed, and it is said why.
func TestAnswersThatAreNotBelieved(t *testing.T) {
	s := newScene(t, key.P256)
	stranger := newScene(t, key.P256)
	id, err := IDOf(crypto.SHA1, s.root.Cert, s.leaf.Cert.Serial)
	if err != nil {
		t.Fatal(err)
	}
	q := Request{Asked: []ID{id}}
	k := known{s.leaf.Cert.SerialHex(): {}}
	by := func(p specimen.Plan) scene {
		x := s
		p.Subject = "CN=Answers"
		x.responder = specimen.Make(t, s.root, p)
		return x
	}
	usage := []string{"OCSPSigning"}
	for what, c := range map[string]struct {
		from   scene
		change func(*Draft)
		ask    func(*Expectation)
		says   string
	}{
		"a stranger": {from: scene{root: s.root, leaf: s.leaf, responder: stranger.responder},
			says: "gave no certificate"},
		"another serial": {from: s, ask: func(a *Expectation) { a.Serial = cert.SerialOf(big.NewInt(9)) },
			says: "another certificate"},
		"another issuer": {from: s, ask: func(a *Expectation) { a.Issuer = stranger.root.Cert },
			says: "another certificate"},
		"no usage": {from: by(specimen.Plan{Extended: []string{"serverAuth"}}), says: "not for OCSP signing"},
		"any usage": {from: by(specimen.Plan{Extended: []string{"anyExtendedKeyUsage"}}),
			says: "not for OCSP signing"},
		"expired responder": {from: by(specimen.Plan{Extended: usage, Until: specimen.Now.Add(-time.Hour)}),
			says: "holds from"},
		"no signatures": {from: by(specimen.Plan{Extended: usage, Usage: ext.KeyEncipherment}),
			says: "not for signatures"},
		"too old": {from: s, ask: func(a *Expectation) { a.Now = specimen.Now.Add(2 * time.Hour) }, says: "stale"},
		"to come": {from: s, ask: func(a *Expectation) { a.Now = specimen.Now.Add(-time.Hour) }, says: "still to come"},
		"old, without an end": {from: s, change: func(d *Draft) { d.Responses[0].Next = time.Time{} },
			ask: func(a *Expectation) {
				a.Now, a.Oldest = specimen.Now.Add(25*time.Hour), 24*time.Hour
			}, says: "too old"},
		"no nonce": {from: s, ask: func(a *Expectation) { a.Nonce = []byte("0123456789abcdef") },
			says: "does not carry the nonce"},
		"nobody attached": {from: s, change: func(d *Draft) { d.Attach = false }, says: "was not signed by"},
	} {
		t.Run(what, func(t *testing.T) {
			der := c.from.answer(t, q, k, c.change)
			a, err := ReadResponse(der)
			if err != nil {
				t.Fatal(what, err)
			}
			ask := s.ask(nil)
			if c.ask != nil {
				c.ask(&ask)
			}
			if _, _, err := a.Judge(ask); err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s: %v", what, err)
			}
		})
	}
	whole := s.answer(t, q, k, nil)
	for i := range whole { // a changed octet is refused, or says the same
		bad := bytes.Clone(whole)
		bad[i] ^= 4
		if a, err := ReadResponse(bad); err == nil {
			if got, _, err := a.Judge(s.ask(nil)); err == nil && got.Status != Good {
				t.Fatalf("octet %d: %+v", i, got)
			}
		}
	}
	for _, o := range []ResponseStatus{MalformedRequest, InternalError, TryLater, SigRequired, Unauthorized} {
		a, err := ReadResponse(ErrorResponse(o))
		if err != nil || a.Status != o {
			t.Errorf("%s: %+v, %v", o, a, err)
		}
		if _, err := xocsp.ParseResponse(ErrorResponse(o), nil); err == nil {
			t.Errorf("%s is taken for an answer", o)
		}
	}
	if _, outcome := Respond(Request{Asked: []ID{mustID(t, stranger)}}, s.root.Cert, k, Draft{},
		0); outcome != Unauthorized {
		t.Errorf("a certificate of somebody else's: %s", outcome)
	}
}

func mustID(t testing.TB, s scene) ID {
	id, err := IDOf(crypto.SHA1, s.root.Cert, s.leaf.Cert.Serial)
	if err != nil {
		t.Fatal(err)
	}
	return id
}

// Answers of a batch are octet for octet those that are made one by one, but for the signature.
func TestBatches(t *testing.T) {
	s := newScene(t, key.P256)
	next := specimen.Now.Add(time.Hour)
	b, err := NewBatch(s.root.Cert, s.responder.Cert, specimen.Now, next, s.responder.Signer)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []SingleResponse{{Status: Good}, {Status: Unknown},
		{Status: Revoked, At: specimen.Now.Add(-time.Hour), Reason: revocation.KeyCompromise},
		{Status: Revoked, At: specimen.Now.Add(-time.Hour)}} {
		der, err := b.SignVerified(s.leaf.Cert.Serial, want.Status, want.At, want.Reason, rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		r, err := xocsp.ParseResponseForCert(der, s.theirs, s.issuer)
		if err != nil || r.Status != int(want.Status) || r.RevocationReason != int(want.Reason) {
			t.Errorf("%+v, %v", r, err)
		}
		one, err := Draft{Responder: s.responder.Cert, Attach: true, At: specimen.Now,
			Responses: []SingleResponse{{ID: mustID(t,
				s),
				Status: want.Status, At: want.At, Reason: want.Reason, This: specimen.Now, Next: next}}}.tbs(b.Signer)
		if err != nil || !bytes.Contains(der, one) {
			t.Errorf("%v: it is encoded otherwise, %v", want, err)
		}
	}
	if _, err := NewBatch(s.root.Cert, s.responder.Cert, specimen.Now, next, s.root.Signer); err == nil {
		t.Error("another key signs")
	}
}

func FuzzReadAnswer(f *testing.F) {
	s := newScene(f, key.P256)
	q := Request{Asked: []ID{mustID(f, s)}, Nonce: []byte("0123456789abcdef")}
	f.Add(s.answer(f, q, known{s.leaf.Cert.SerialHex(): {Status: Revoked, At: specimen.Now, Reason: 1}}, nil))
	f.Add(ErrorResponse(TryLater))
	f.Fuzz(func(_ *testing.T, data []byte) {
		if a, err := ReadResponse(data); err == nil {
			_, _, _ = a.Judge(s.ask(nil))
		}
	})
}

func FuzzReadRequest(f *testing.F) {
	s := newScene(f, key.P256)
	der, err := Request{Asked: []ID{mustID(f, s)}, Nonce: []byte("0123456789abcdef")}.DER()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(der)
	signed,
		err := base64.StdEncoding.DecodeString("MEIwQDA+MDwwOjAJBgUrDgMCGgUABBQAAAAAAAAAAAAAAAAAAAAAAAAAAAQUAAAAAAA" +
		"AAAAAAAAAAAAAAAAAAAACAQE=")
	if err == nil {
		f.Add(signed)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		q, err := ReadRequest(data)
		if err != nil {
			return
		}
		if _, err := q.DER(); err != nil {
			t.Errorf("what was read cannot be written: %v", err)
		}
		Respond(q, s.root.Cert, known{}, Draft{At: specimen.Now}, time.Hour)
	})
}

// The rate beside bare signatures of the same key.
func BenchmarkBatch(b *testing.B) {
	s := newScene(b, key.P256)
	batch, err := NewBatch(s.root.Cert, s.responder.Cert, specimen.Now, specimen.Now.Add(time.Hour), s.responder.Signer)
	if err != nil {
		b.Fatal(err)
	}
	digest := make([]byte, 32)
	b.Run("bare signatures", func(b *testing.B) {
		b.RunParallel(func(p *testing.PB) {
			for p.Next() {
				if _, err := s.responder.Signer.Sign(rand.Reader, digest, crypto.SHA256); err != nil {
					b.Fatal(err)
				}
			}
		})
	})
	b.Run("answers", func(b *testing.B) {
		b.RunParallel(func(p *testing.PB) {
			for p.Next() {
				if _, err := batch.Sign(s.leaf.Cert.Serial, Good, time.Time{}, 0, rand.Reader); err != nil {
					b.Fatal(err)
				}
			}
		})
	})
}
