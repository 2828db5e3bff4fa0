package ocsp

import (
	"crypto"
	"fmt"
	"io"
	"time"

	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/cert"
	"ironseal/pki/key"
	"ironseal/pki/revocation"
)

// Batch makes many responses about certificates of one issuer, each of one certificate and
// without a nonce, to be handed out as they are (RFC 5019). What they have in common is
// encoded once. It is safe for several at once, and so must be the signer.
type Batch struct {
	name, key []byte // of the issuer, in identifiers
	responder []byte // by its key
	at, next  []byte
	attached  []byte
	algorithm []byte
	hash      crypto.Hash
	signer    crypto.Signer
	public    key.Public
	alg       key.Algorithm
}

// NewBatch begins responses of a responder about an issuer's certificates, dated at, with
// newer ones there by next. Identifiers are made with SHA-1: every client that was seen asks
// with those.
func NewBatch(issuer, responder *cert.Certificate, at, next time.Time, signer crypto.Signer) (*Batch, error) {
	id, err := IDOf(crypto.SHA1, issuer, cert.Serial{})
	if err != nil {
		return nil, err
	}
	own, err := keyBits(responder.Key)
	if err != nil {
		return nil, err
	}
	pub, err := key.Of(signer)
	if err != nil {
		return nil, err
	}
	if !key.Same(pub, responder.Key) {
		return nil, fmt.Errorf("OCSP: the key is not that of %s", responder.Title())
	}
	b := &Batch{name: id.Name, key: id.Key, signer: signer, public: pub}
	if b.algorithm, b.hash, err = pub.SigningAlgorithm(); err != nil {
		return nil, err
	}
	if b.alg, err = key.ReadAlgorithm(b.algorithm); err != nil {
		return nil, err
	}
	b.responder = responderID(own)
	b.at = generalized(at)
	b.next = tlv(nil, explicit0, generalized(next))
	b.attached = attached(responder)
	return b, nil
}

// Sign signs the response about one certificate.
func (b *Batch) Sign(serial cert.Serial, status Status, at time.Time, reason revocation.Reason,
	random io.Reader) ([]byte, error) {
	der, _, _, err := b.sign(serial, status, at, reason, random)
	return der, err
}

// SignVerified is Sign, whose signature is verified before it is returned: a faulty computation is
// found out by trying some of a batch.
func (b *Batch) SignVerified(serial cert.Serial, status Status, at time.Time, reason revocation.Reason,
	random io.Reader) ([]byte, error) {
	der, tbs, signature, err := b.sign(serial, status, at, reason, random)
	if err != nil {
		return nil, err
	}
	if err := b.public.Verify(b.alg, tbs, signature); err != nil {
		return nil, fmt.Errorf("OCSP: the new signature does not verify: %w", err)
	}
	return der, nil
}

func (b *Batch) sign(serial cert.Serial, status Status, at time.Time, reason revocation.Reason,
	random io.Reader) (der, tbs, signature []byte, err error) {
	id := tlv(nil, casn1.SEQUENCE, sha1ID, tlv(nil, casn1.OCTET_STRING, b.name), tlv(nil, casn1.OCTET_STRING, b.key),
		tlv(nil, casn1.INTEGER, integer(serial)))
	tbs = responseData(b.responder, b.at, singleResponse(id, told(status, at, reason), b.at, b.next, nil), nil)
	digest := tbs
	if b.hash != 0 {
		h := b.hash.New()
		h.Write(tbs)
		digest = h.Sum(nil)
	}
	if signature, err = b.signer.Sign(random, digest, b.hash); err != nil {
		return nil, nil, nil, fmt.Errorf("OCSP: %w", err)
	}
	return response(tbs, b.algorithm, signature, b.attached), tbs, signature, nil
}
