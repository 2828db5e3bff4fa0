package ocsp

import (
	"bytes"
	"crypto/sha1"
	"crypto/subtle"
	"encoding/asn1"
	"errors"
	"fmt"
	"slices"
	"time"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/revocation"
)

// Response is a response that was read.
type Response struct {
	Status    ResponseStatus
	At        time.Time
	Responses []SingleResponse
	Nonce     []byte
	Signers   []*cert.Certificate // that came with it

	name           dn.Name // of the responder, or:
	keyHash        []byte
	tbs, signature []byte
	algorithm      key.Algorithm
}

var errResponse = errors.New("OCSP answer: it is not the ASN.1 structure of one (RFC 6960 section 4.2.1)")

// ReadResponse reads a response. The bytes may be hostile.
func ReadResponse(der []byte) (*Response, error) {
	in := cryptobyte.String(slices.Clone(der))
	var outer, field, body, octets cryptobyte.String
	var oid asn1.ObjectIdentifier
	outcome := 0
	if len(der) > MostSize || !in.ReadASN1(&outer, casn1.SEQUENCE) || !in.Empty() || !outer.ReadASN1Enum(&outcome) {
		return nil, errResponse
	}
	a := &Response{Status: ResponseStatus(outcome)}
	if a.Status != Successful {
		if !outer.Empty() {
			return nil, errResponse
		}
		return a, nil
	}
	if !outer.ReadASN1(&field, explicit0) || !outer.Empty() || !field.ReadASN1(&body, casn1.SEQUENCE) ||
		!body.ReadASN1ObjectIdentifier(&oid) || !body.ReadASN1(&octets, casn1.OCTET_STRING) || !body.Empty() {
		return nil, errResponse
	}
	if !oid.Equal(oidBasic) {
		return nil, fmt.Errorf("OCSP answer: its kind %s is not known", oid)
	}
	return a, a.readBasic(octets)
}

func (a *Response) readBasic(octets cryptobyte.String) error {
	var basic, tbs, alg, sig, field, list cryptobyte.String
	if !octets.ReadASN1(&basic, casn1.SEQUENCE) || !octets.Empty() || !basic.ReadASN1Element(&tbs, casn1.SEQUENCE) ||
		!basic.ReadASN1Element(&alg, casn1.SEQUENCE) || !basic.ReadASN1(&sig, casn1.BIT_STRING) || len(sig) == 0 ||
		sig[0] != 0 {
		return errResponse
	}
	a.tbs, a.signature = tbs, sig[1:]
	var err error
	if a.algorithm, err = key.ReadAlgorithm(alg); err != nil {
		return fmt.Errorf("OCSP answer: %w", err)
	}
	if !basic.Empty() {
		if !basic.ReadASN1(&field, explicit0) || !basic.Empty() || !field.ReadASN1(&list, casn1.SEQUENCE) {
			return errResponse
		}
		for !list.Empty() {
			var one cryptobyte.String
			if !list.ReadASN1Element(&one, casn1.SEQUENCE) || len(a.Signers) == mostSigners {
				return errResponse
			}
			c, err := cert.Read(one)
			if err != nil {
				return fmt.Errorf("OCSP answer: %w", err)
			}
			a.Signers = append(a.Signers, c)
		}
	}
	return a.readTBS(tbs)
}

func (a *Response) readTBS(tbs cryptobyte.String) error {
	var body, field, list cryptobyte.String
	if !tbs.ReadASN1(&body, casn1.SEQUENCE) || !readVersion(&body) {
		return errResponse
	}
	switch {
	case body.PeekASN1Tag(explicit1):
		if !body.ReadASN1(&field, explicit1) {
			return errResponse
		}
		var err error
		if a.name, err = dn.Read(field); err != nil {
			return errResponse
		}
	case !body.ReadASN1(&field, explicit2) || !field.ReadASN1Bytes(&a.keyHash, casn1.OCTET_STRING) || !field.Empty():
		return errResponse
	}
	if !body.ReadASN1GeneralizedTime(&a.At) || !body.ReadASN1(&list, casn1.SEQUENCE) {
		return errResponse
	}
	for !list.Empty() {
		s, err := readSingle(&list)
		if err != nil {
			return err
		}
		if a.Responses = append(a.Responses, s); len(a.Responses) > MostAsked {
			return errResponse
		}
	}
	if body.Empty() {
		return nil
	}
	if !body.ReadASN1(&field, explicit1) || !body.Empty() {
		return errResponse
	}
	var err error
	a.Nonce, _, err = readExtensions(field)
	return err
}

func readSingle(list *cryptobyte.String) (SingleResponse, error) {
	var one, field cryptobyte.String
	var s SingleResponse
	var ok, there bool
	if !list.ReadASN1(&one, casn1.SEQUENCE) {
		return s, errResponse
	}
	if s.ID, ok = readID(&one); !ok || !s.readStatus(&one) || !one.ReadASN1GeneralizedTime(&s.This) ||
		!one.ReadOptionalASN1(&field, &there, explicit0) ||
		there && (!field.ReadASN1GeneralizedTime(&s.Next) || !field.Empty()) {
		return s, errResponse
	}
	if one.Empty() {
		return s, nil
	}
	if !one.ReadASN1(&field, explicit1) || !one.Empty() {
		return s, errResponse
	}
	_, set, err := readExtensions(field)
	if err != nil {
		return s, err
	}
	if x, ok := set.Find(oidCutoff); ok {
		value := cryptobyte.String(x.Value)
		if !value.ReadASN1GeneralizedTime(&s.Cutoff) || !value.Empty() {
			return s, errResponse
		}
	}
	return s, nil
}

func (s *SingleResponse) readStatus(one *cryptobyte.String) bool {
	var field, why cryptobyte.String
	var there bool
	switch {
	case one.PeekASN1Tag(tag0):
		return one.ReadASN1(&field, tag0) && field.Empty()
	case one.PeekASN1Tag(tag2):
		s.Status = Unknown
		return one.ReadASN1(&field, tag2) && field.Empty()
	}
	s.Status = Revoked
	if !one.ReadASN1(&field, explicit1) || !field.ReadASN1GeneralizedTime(&s.At) ||
		!field.ReadOptionalASN1(&why, &there, explicit0) || !field.Empty() {
		return false
	}
	if there {
		n := 0
		if !why.ReadASN1Enum(&n) || !why.Empty() || !revocation.Reason(n).Known() {
			return false
		}
		s.Reason = revocation.Reason(n)
	}
	return true
}

// Expectation is what a client knows when a response comes.
type Expectation struct {
	Issuer  *cert.Certificate
	Serial  cert.Serial
	Now     time.Time
	Late    time.Duration       // by how much clocks may differ
	Oldest  time.Duration       // how old a response may be that names no successor; 0 for any
	Nonce   []byte              // what was asked with; nil where none was, or the response was stapled
	Signers []*cert.Certificate // that may have signed it, besides those that came with it
}

// Judge says what a response tells of a certificate, and by whom it was signed; or why a
// client is not to believe it (RFC 6960 section 3.2).
func (a *Response) Judge(q Expectation) (SingleResponse, *cert.Certificate, error) {
	if a.Status != Successful {
		return SingleResponse{}, nil, fmt.Errorf("the responder did not answer: %s", a.Status)
	}
	at := slices.IndexFunc(a.Responses, func(s SingleResponse) bool {
		return s.ID.Serial.Hex() == q.Serial.Hex() && s.ID.Of(q.Issuer)
	})
	if at < 0 {
		return SingleResponse{}, nil, fmt.Errorf("the answer is about another certificate: it says nothing of "+
			"serial %s of %s",
			q.Serial.Short(), q.Issuer.Title())
	}
	s := a.Responses[at]
	if q.Nonce != nil && subtle.ConstantTimeCompare(a.Nonce, q.Nonce) != 1 {
		if a.Nonce == nil {
			return s, nil, errors.New("the answer does not carry the nonce that was sent, so it may be an old one: " +
				"ask without a nonce where the responder hands out prepared answers")
		}
		return s, nil, errors.New("the answer carries another nonce than was sent: it is one that was given before")
	}
	signer, err := a.signedBy(q)
	if err != nil {
		return s, nil, err
	}
	return s, signer, s.timely(q)
}

// timely checks the times of a response (RFC 6960 section 4.2.2.1).
func (s SingleResponse) timely(q Expectation) error {
	switch now := q.Now; {
	case now.Add(q.Late).Before(s.This):
		return fmt.Errorf("the answer is dated %s, which is still to come", s.This.Format(time.RFC3339))
	case !s.Next.IsZero() && now.Add(-q.Late).After(s.Next):
		return fmt.Errorf("the answer is stale since %s", s.Next.Format("2006-01-02 15:04 UTC"))
	case s.Next.IsZero() && q.Oldest > 0 && now.Sub(s.This) > q.Oldest:
		return fmt.Errorf("the answer is of %s, too old for one that names no successor",
			s.This.Format("2006-01-02 15:04 UTC"))
	}
	return nil
}

// signedBy finds who signed, and checks that they may: the issuer itself, or one to whom
// that very issuer gave a certificate for it (RFC 6960 section 4.2.2.2).
func (a *Response) signedBy(q Expectation) (*cert.Certificate, error) {
	if a.algorithm.Weak() {
		return nil, fmt.Errorf("the answer is signed with %s", a.algorithm.Name)
	}
	if a.is(q.Issuer) && a.verifiedBy(q.Issuer) {
		return q.Issuer, nil
	}
	for _, c := range append(slices.Clone(a.Signers), q.Signers...) {
		if !a.is(c) || !a.verifiedBy(c) {
			continue
		}
		if key.Same(c.Key, q.Issuer.Key) {
			return c, nil // the issuer itself, with another certificate for its key
		}
		return c, mayAnswer(c, q)
	}
	return nil, fmt.Errorf("the answer was not signed by %s, nor by anybody whom it names", q.Issuer.Title())
}

func mayAnswer(c *cert.Certificate, q Expectation) error {
	usage := slices.ContainsFunc(c.Extended, func(id asn1.ObjectIdentifier) bool { return id.Equal(ext.OCSPUsage) })
	switch {
	case !c.Issuer.Equal(q.Issuer.Subject) || c.VerifiedBy(q.Issuer.Key) != nil:
		return fmt.Errorf("the answer was signed by %s, to whom %s gave no certificate", c.Title(), q.Issuer.Title())
	case len(c.Broken) > 0:
		return fmt.Errorf("the answer was signed by %s, whose certificate cannot be relied on: %s", c.Title(),
			c.Broken[0])
	case !usage:
		return fmt.Errorf("the answer was signed by %s, whose certificate is not for OCSP signing", c.Title())
	case c.HasUsage && c.Usage&ext.DigitalSignature == 0:
		return fmt.Errorf("the answer was signed by %s, whose key is not for signatures", c.Title())
	case q.Now.Before(c.NotBefore) || q.Now.After(c.NotAfter):
		return fmt.Errorf("the answer was signed by %s, whose certificate holds from %s to %s only", c.Title(),
			c.NotBefore.Format("2006-01-02"), c.NotAfter.Format("2006-01-02"))
	}
	return nil
}

// NoCheck reports whether a responder's certificate says that clients need not check it.
func NoCheck(c *cert.Certificate) bool {
	return slices.ContainsFunc(c.Extensions, ext.Extension.IsNoCheck)
}

// is reports whether a certificate is the responder that the response names.
func (a *Response) is(c *cert.Certificate) bool {
	if a.keyHash == nil {
		return a.name.Equal(c.Subject)
	}
	bits, err := keyBits(c.Key)
	if err != nil {
		return false
	}
	own := sha1.Sum(bits)
	return bytes.Equal(own[:], a.keyHash)
}

func (a *Response) verifiedBy(c *cert.Certificate) bool {
	return c.Key.Verify(a.algorithm, a.tbs, a.signature) == nil
}
