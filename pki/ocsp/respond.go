package ocsp

import (
	"crypto"
	"errors"
	"fmt"
	"io"
	"math/big"
	"time"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/revocation"
)

type bigInt struct{ big.Int }

// Status is CertStatus (RFC 6960 section 4.2.1).
type Status int

// Values of CertStatus.
const (
	Good Status = iota
	Revoked
	Unknown // nothing of that serial was ever issued here
)

var statusWords = []string{"good", "revoked", "unknown"}

// String is the status in a word of the standard.
func (s Status) String() string { return statusWords[s] }

// SingleResponse is what a response says of one certificate.
type SingleResponse struct {
	ID     ID
	Status Status
	At     time.Time // when it was revoked
	Reason revocation.Reason
	This   time.Time // when this was known to be so
	Next   time.Time // when there is newer knowledge at the latest; zero: at any time
	Cutoff time.Time // of certificates that ended after this, it is still known (section 4.4.4); zero: not told
}

// Draft is a response before it is signed.
type Draft struct {
	Responder *cert.Certificate // whose key signs
	Attach    bool              // the responder's certificate goes along, as it must for a delegated one
	At        time.Time
	Responses []SingleResponse
	Nonce     []byte    // echoed; nil for none
	Cutoff    time.Time // of all its parts; zero for none
}

// Sign encodes the response and signs it. The signature is verified before it counts.
func (d Draft) Sign(signer crypto.Signer, random io.Reader) ([]byte, error) {
	by, err := NewSigner(d.Responder, signer)
	if err != nil {
		return nil, err
	}
	return d.SignBy(by, true, random)
}

// SignBy is Sign by a signer that was made before. Where verified is false, the signature is not verified: whoever
// signs many verifies some of them.
func (d Draft) SignBy(by *Signer, verified bool, random io.Reader) ([]byte, error) {
	if len(d.Responses) == 0 {
		return nil, errors.New("OCSP: an answer about nothing")
	}
	tbs, err := d.tbs(by)
	if err != nil {
		return nil, err
	}
	signature, err := by.sign(tbs, verified, random)
	if err != nil {
		return nil, err
	}
	var certs []byte
	if d.Attach {
		certs = by.attached
	}
	return response(tbs, by.algorithm, signature, certs), nil
}

func (d Draft) tbs(by *Signer) ([]byte, error) {
	var singles, extensions []byte
	for _, one := range d.Responses {
		der, err := one.der()
		if err != nil {
			return nil, err
		}
		singles = append(singles, der...)
	}
	if d.Nonce != nil {
		extensions = extensionsField(nonce(d.Nonce))
	}
	return responseData(by.responder, generalized(d.At), singles, extensions), nil
}

func (s SingleResponse) der() ([]byte, error) {
	id, err := s.ID.der()
	if err != nil {
		return nil, err
	}
	var next, extensions []byte
	if !s.Next.IsZero() {
		next = tlv(nil, explicit0, generalized(s.Next))
	}
	if !s.Cutoff.IsZero() {
		extensions = extensionsField(ext.Extension{ID: oidCutoff, Value: generalized(s.Cutoff)})
	}
	return singleResponse(id, told(s.Status, s.At, s.Reason), generalized(s.This), next, extensions), nil
}

// extensionsField is a field with one extension, in the tag that requests and responses have for it.
func extensionsField(e ext.Extension) []byte {
	var b cryptobyte.Builder
	ext.Set{e}.Add(&b)
	return tlv(nil, explicit1, b.BytesOrPanic())
}

// ResponseStatus is OCSPResponseStatus (RFC 6960 section 4.2.1).
type ResponseStatus int

// Values of OCSPResponseStatus.
const (
	Successful       ResponseStatus = 0
	MalformedRequest ResponseStatus = 1
	InternalError    ResponseStatus = 2
	TryLater         ResponseStatus = 3
	SigRequired      ResponseStatus = 5
	Unauthorized     ResponseStatus = 6 // the responder knows nothing of that issuer (RFC 5019 section 2.2.3)
)

var responseStatusWords = map[ResponseStatus]string{Successful: "successful", MalformedRequest: "malformed request",
	InternalError: "internal error", TryLater: "try later", SigRequired: "signature required",
	Unauthorized: "unauthorized"}

// String is the outcome in words of the standard.
func (o ResponseStatus) String() string {
	if w, ok := responseStatusWords[o]; ok {
		return w
	}
	return fmt.Sprintf("outcome %d", int(o))
}

// ErrorResponse encodes a response that holds only a status. It has no signature.
func ErrorResponse(o ResponseStatus) []byte {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) { b.AddASN1Enum(int64(o)) })
	return b.BytesOrPanic()
}

// Knowledge is what a responder knows of one issuer's certificates.
type Knowledge interface {
	// Of tells the status of a serial, and when and why it was revoked.
	Of(serial cert.Serial) (s Status, at time.Time, reason revocation.Reason)
}

// Respond answers a request about certificates of one issuer. A certificate of another
// makes the response unauthorized as a whole.
func Respond(q Request, issuer *cert.Certificate, from Knowledge, d Draft, life time.Duration) (Draft, ResponseStatus) {
	d.Nonce, d.Responses = q.Nonce, nil
	for _, id := range q.Asked {
		if !id.Of(issuer) {
			return d, Unauthorized
		}
		s := SingleResponse{ID: id, This: d.At, Next: d.At.Add(life), Cutoff: d.Cutoff}
		s.Status, s.At, s.Reason = from.Of(id.Serial)
		d.Responses = append(d.Responses, s)
	}
	return d, Successful
}
