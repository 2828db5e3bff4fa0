package ocsp

import (
	"crypto"
	"io"
	"time"

	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/cert"
	"ironseal/pki/revocation"
)

// Batch makes many responses about certificates of one issuer, each of one certificate and
// without a nonce, to be handed out as they are (RFC 5019). What they have in common is
// encoded once. It is safe for several at once, and so must be the signer.
type Batch struct {
	*Signer
	name, key []byte // of the issuer, in identifiers
	at, next  []byte
}

// NewBatch begins responses of a responder about an issuer's certificates, dated at, with
// newer ones there by next. Identifiers are made with SHA-1: every client that was seen asks
// with those.
func NewBatch(issuer, responder *cert.Certificate, at, next time.Time, signer crypto.Signer) (*Batch, error) {
	id, err := IDOf(crypto.SHA1, issuer, cert.Serial{})
	if err != nil {
		return nil, err
	}
	by, err := NewSigner(responder, signer)
	if err != nil {
		return nil, err
	}
	return &Batch{Signer: by, name: id.Name, key: id.Key, at: generalized(at),
		next: tlv(nil, explicit0, generalized(next))}, nil
}

// Sign signs the response about one certificate.
func (b *Batch) Sign(serial cert.Serial, status Status, at time.Time, reason revocation.Reason,
	random io.Reader) ([]byte, error) {
	return b.one(serial, status, at, reason, false, random)
}

// SignVerified is Sign, whose signature is verified before it is returned: a faulty computation is
// found out by trying some of a batch.
func (b *Batch) SignVerified(serial cert.Serial, status Status, at time.Time, reason revocation.Reason,
	random io.Reader) ([]byte, error) {
	return b.one(serial, status, at, reason, true, random)
}

func (b *Batch) one(serial cert.Serial, status Status, at time.Time, reason revocation.Reason, verified bool,
	random io.Reader) ([]byte, error) {
	id := tlv(nil, casn1.SEQUENCE, sha1ID, tlv(nil, casn1.OCTET_STRING, b.name), tlv(nil, casn1.OCTET_STRING, b.key),
		tlv(nil, casn1.INTEGER, integer(serial)))
	tbs := responseData(b.responder, b.at, singleResponse(id, told(status, at, reason), b.at, b.next, nil), nil)
	signature, err := b.sign(tbs, verified, random)
	if err != nil {
		return nil, err
	}
	return response(tbs, b.algorithm, signature, b.attached), nil
}
