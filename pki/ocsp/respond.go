package ocsp

import (
	"crypto"
	"crypto/sha1"
	"errors"
	"fmt"
	"io"
	"math/big"
	"time"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/revocation"
)

type bigInt struct{ big.Int }

// Status is what is known of a certificate.
type Status int

// What is known.
const (
	Good Status = iota
	Revoked
	Unknown // nothing of that serial was ever issued here
)

var statusWords = []string{"good", "revoked", "unknown"}

// String is the status in a word of the standard.
func (s Status) String() string { return statusWords[s] }

// Single is what an answer says of one certificate.
type Single struct {
	ID     ID
	Status Status
	At     time.Time // when it was revoked
	Reason revocation.Reason
	This   time.Time // when this was known to be so
	Next   time.Time // when there is newer knowledge at the latest; zero: at any time
	Cutoff time.Time // of certificates that ended after this, it is still known (section 4.4.4); zero: not told
}

// Draft is an answer before it is signed.
type Draft struct {
	Responder *cert.Certificate // whose key signs
	Attach    bool              // the responder's certificate goes along, as it must for a delegated one
	At        time.Time
	Singles   []Single
	Nonce     []byte    // echoed; nil for none
	Cutoff    time.Time // of all its parts; zero for none
}

// Sign encodes the answer and signs it.
func (d Draft) Sign(signer crypto.Signer, random io.Reader) ([]byte, error) {
	if len(d.Singles) == 0 {
		return nil, errors.New("OCSP: an answer about nothing")
	}
	pub, err := key.Of(signer)
	if err != nil {
		return nil, err
	}
	if !key.Same(pub, d.Responder.Key) {
		return nil, fmt.Errorf("OCSP: the key that was opened is not that of %s", d.Responder.Title())
	}
	tbs, err := d.tbs()
	if err != nil {
		return nil, err
	}
	algorithm, signature, err := key.SignMessage(tbs, signer, random)
	if err != nil {
		return nil, fmt.Errorf("OCSP: %w", err)
	}
	return wrap(func(b *cryptobyte.Builder) {
		b.AddBytes(tbs)
		b.AddBytes(algorithm)
		b.AddASN1BitString(signature)
		if d.Attach {
			b.AddASN1(explicit0, func(b *cryptobyte.Builder) {
				b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) { b.AddBytes(d.Responder.Raw) })
			})
		}
	})
}

// wrap puts a basic answer into a successful response.
func wrap(basic func(*cryptobyte.Builder)) ([]byte, error) {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1Enum(int64(Successful))
		b.AddASN1(explicit0, func(b *cryptobyte.Builder) {
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1ObjectIdentifier(oidBasic)
				b.AddASN1(casn1.OCTET_STRING, func(b *cryptobyte.Builder) { b.AddASN1(casn1.SEQUENCE, basic) })
			})
		})
	})
	return b.Bytes()
}

func (d Draft) tbs() ([]byte, error) {
	bits, err := keyBits(d.Responder.Key)
	if err != nil {
		return nil, err
	}
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(explicit2, func(b *cryptobyte.Builder) { // the responder, by its key: shorter than by its name
			id := sha1.Sum(bits)
			b.AddASN1OctetString(id[:])
		})
		b.AddASN1GeneralizedTime(whole(d.At))
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			for _, s := range d.Singles {
				s.add(b)
			}
		})
		if d.Nonce != nil {
			b.AddASN1(explicit1, func(b *cryptobyte.Builder) { ext.Set{nonce(d.Nonce)}.Add(b) })
		}
	})
	return b.Bytes()
}

func whole(t time.Time) time.Time { return t.UTC().Truncate(time.Second) }

func (s Single) add(b *cryptobyte.Builder) {
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		s.ID.add(b)
		switch s.Status {
		case Good:
			b.AddASN1(tag0, func(*cryptobyte.Builder) {})
		case Revoked:
			b.AddASN1(explicit1, func(b *cryptobyte.Builder) {
				b.AddASN1GeneralizedTime(whole(s.At))
				if s.Reason != revocation.Unspecified {
					b.AddASN1(explicit0, func(b *cryptobyte.Builder) { b.AddASN1Enum(int64(s.Reason)) })
				}
			})
		default:
			b.AddASN1(tag2, func(*cryptobyte.Builder) {})
		}
		b.AddASN1GeneralizedTime(whole(s.This))
		if !s.Next.IsZero() {
			b.AddASN1(explicit0, func(b *cryptobyte.Builder) { b.AddASN1GeneralizedTime(whole(s.Next)) })
		}
		if !s.Cutoff.IsZero() {
			b.AddASN1(explicit1, func(b *cryptobyte.Builder) {
				var v cryptobyte.Builder
				v.AddASN1GeneralizedTime(whole(s.Cutoff))
				ext.Set{{ID: oidCutoff, Value: v.BytesOrPanic()}}.Add(b)
			})
		}
	})
}

// Outcome is the outcome of a question (RFC 6960 section 4.2.1).
type Outcome int

// What became of it.
const (
	Successful       Outcome = 0
	MalformedRequest Outcome = 1
	InternalError    Outcome = 2
	TryLater         Outcome = 3
	SigRequired      Outcome = 5
	Unauthorized     Outcome = 6 // the responder knows nothing of that issuer (RFC 5019 section 2.2.3)
)

var outcomeWords = map[Outcome]string{Successful: "successful", MalformedRequest: "malformed request",
	InternalError: "internal error", TryLater: "try later", SigRequired: "signature required",
	Unauthorized: "unauthorized"}

// String is the outcome in words of the standard.
func (o Outcome) String() string {
	if w, ok := outcomeWords[o]; ok {
		return w
	}
	return fmt.Sprintf("outcome %d", int(o))
}

// Refuse encodes an answer that is none. It carries no signature.
func Refuse(o Outcome) []byte {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) { b.AddASN1Enum(int64(o)) })
	return b.BytesOrPanic()
}

// Knowledge is what a responder knows of one issuer's certificates.
type Knowledge interface {
	// Of tells the status of a serial, and when and why it was revoked.
	Of(serial cert.Serial) (s Status, at time.Time, reason revocation.Reason)
}

// Reply answers a question about certificates of one issuer. A certificate of another
// makes the whole question one that this responder is not to answer.
func Reply(q Request, issuer *cert.Certificate, from Knowledge, d Draft, life time.Duration) (Draft, Outcome) {
	d.Nonce, d.Singles = q.Nonce, nil
	for _, id := range q.Asked {
		if !id.Of(issuer) {
			return d, Unauthorized
		}
		s := Single{ID: id, This: d.At, Next: d.At.Add(life), Cutoff: d.Cutoff}
		s.Status, s.At, s.Reason = from.Of(id.Serial)
		d.Singles = append(d.Singles, s)
	}
	return d, Successful
}
