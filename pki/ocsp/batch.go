package ocsp

import (
	"crypto"
	"crypto/sha1"
	"fmt"
	"io"
	"time"

	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/ber"
	"ironseal/pki/cert"
	"ironseal/pki/key"
	"ironseal/pki/revocation"
)

// Batch makes many answers about certificates of one issuer, each of one certificate and
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

// NewBatch begins answers of a responder about an issuer's certificates, dated at, with
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
	sum := sha1.Sum(own)
	b.responder = tlv(nil, explicit2, tlv(nil, casn1.OCTET_STRING, sum[:]))
	b.at = generalized(at)
	b.next = tlv(nil, explicit0, generalized(next))
	b.attached = tlv(nil, explicit0, tlv(nil, casn1.SEQUENCE, responder.Raw))
	return b, nil
}

func generalized(t time.Time) []byte {
	return tlv(nil, casn1.GeneralizedTime, []byte(whole(t).Format("20060102150405Z")))
}

// tlv appends an element. Answers are encoded by hand since a dozen are made for every one.
func tlv(to []byte, tag casn1.Tag, content ...[]byte) []byte {
	return ber.Append(to, byte(tag), content...)
}

// sha1ID is the AlgorithmIdentifier of SHA-1.
var sha1ID = []byte{0x30, 9, 6, 5, 0x2b, 0x0e, 3, 2, 0x1a, 5, 0}

// basicID is the identifier of basic answers.
var basicID = []byte{6, 9, 0x2b, 6, 1, 5, 5, 7, 0x30, 1, 1}

// Answer signs the answer about one certificate.
func (b *Batch) Answer(serial cert.Serial, status Status, at time.Time, reason revocation.Reason,
	random io.Reader) ([]byte, error) {
	der, _, _, err := b.sign(serial, status, at, reason, random)
	return der, err
}

// Proven is Answer, whose signature is verified before it is returned: a faulty computation is
// found out by trying some of a batch.
func (b *Batch) Proven(serial cert.Serial, status Status, at time.Time, reason revocation.Reason,
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
	var said []byte
	switch status {
	case Good:
		said = []byte{byte(tag0), 0}
	case Revoked:
		why := []byte(nil)
		if reason != revocation.Unspecified {
			why = []byte{byte(explicit0), 3, byte(casn1.ENUM), 1, byte(reason)}
		}
		said = tlv(nil, explicit1, generalized(at), why)
	default:
		said = []byte{byte(tag2), 0}
	}
	single := tlv(nil, casn1.SEQUENCE, id, said, b.at, b.next)
	tbs = tlv(make([]byte, 0, len(single)+64), casn1.SEQUENCE, b.responder, b.at, tlv(nil, casn1.SEQUENCE, single))
	digest := tbs
	if b.hash != 0 {
		h := b.hash.New()
		h.Write(tbs)
		digest = h.Sum(nil)
	}
	if signature, err = b.signer.Sign(random, digest, b.hash); err != nil {
		return nil, nil, nil, fmt.Errorf("OCSP: %w", err)
	}
	basic := tlv(make([]byte, 0, len(tbs)+len(b.attached)+256), casn1.SEQUENCE, tbs, b.algorithm,
		tlv(nil, casn1.BIT_STRING, []byte{0}, signature), b.attached)
	der = tlv(nil, casn1.SEQUENCE, []byte{byte(casn1.ENUM), 1, byte(Successful)},
		tlv(nil, explicit0, tlv(nil, casn1.SEQUENCE, basicID, tlv(nil, casn1.OCTET_STRING, basic))))
	return der, tbs, signature, nil
}

// integer is a serial as an INTEGER holds it.
func integer(s cert.Serial) []byte {
	n := s.Big()
	if n.Sign() < 0 {
		return []byte{0} // no answer is made about such a serial
	}
	raw := n.Bytes()
	if len(raw) == 0 || raw[0]&0x80 != 0 {
		return append([]byte{0}, raw...)
	}
	return raw
}
