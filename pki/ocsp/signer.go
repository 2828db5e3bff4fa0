package ocsp

import (
	"crypto"
	"fmt"
	"io"

	"ironseal/pki/cert"
	"ironseal/pki/key"
)

// Signer signs responses with one responder's key. What they have in common is computed once. It is safe for several
// at once, and so must be the key.
type Signer struct {
	responder []byte // by its key
	attached  []byte
	algorithm []byte
	hash      crypto.Hash
	signer    crypto.Signer
	public    key.Public
	alg       key.Algorithm
}

// NewSigner makes one. The key must be that of the responder's certificate.
func NewSigner(responder *cert.Certificate, signer crypto.Signer) (*Signer, error) {
	own, err := keyBits(responder.Key)
	if err != nil {
		return nil, err
	}
	pub, err := key.Of(signer)
	if err != nil {
		return nil, err
	}
	if !key.Same(pub, responder.Key) {
		return nil, fmt.Errorf("OCSP: the key that was opened is not that of %s", responder.Title())
	}
	s := &Signer{signer: signer, public: pub, responder: responderID(own), attached: attached(responder)}
	if s.algorithm, s.hash, err = pub.SigningAlgorithm(); err != nil {
		return nil, err
	}
	s.alg, err = key.ReadAlgorithm(s.algorithm)
	return s, err
}

// sign signs what is to be signed of a response. Where verified, the signature is verified before it is returned: a
// faulty computation is found out.
func (s *Signer) sign(tbs []byte, verified bool, random io.Reader) ([]byte, error) {
	digest := tbs
	if s.hash != 0 {
		h := s.hash.New()
		h.Write(tbs)
		digest = h.Sum(nil)
	}
	var signature []byte
	var err error
	if held, elsewhere := s.signer.(crypto.MessageSigner); elsewhere { // it is unknown what its holder signs
		verified = true
		signature, err = held.SignMessage(random, tbs, s.hash)
	} else {
		signature, err = s.signer.Sign(random, digest, s.hash)
	}
	if err != nil {
		return nil, fmt.Errorf("OCSP: %w", err)
	}
	if verified {
		if err := s.public.Verify(s.alg, tbs, signature); err != nil {
			return nil, fmt.Errorf("OCSP: the new signature does not verify: %w", err)
		}
	}
	return signature, nil
}
