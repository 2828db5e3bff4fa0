package key

import (
	"crypto"
	_ "crypto/md5"  // only to tell that a request was signed with it
	_ "crypto/sha1" // only to verify what others signed with it
	_ "crypto/sha256"
	_ "crypto/sha512"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
)

// Algorithm is a signature algorithm as an AlgorithmIdentifier names it.
type Algorithm struct {
	Name   string      // "SHA-256 with RSA", or the dotted identifier when unknown
	Hash   crypto.Hash // 0 for Ed25519 and for unknown algorithms
	family string
	pss    bool
	salt   int
	known  bool
}

// Weak reports whether the algorithm uses MD5, SHA-1 or SHA-224.
func (a Algorithm) Weak() bool {
	return a.Hash == crypto.MD5 || a.Hash == crypto.SHA1 || a.Hash == crypto.SHA224
}

// Known reports whether signatures of this algorithm can be checked here.
func (a Algorithm) Known() bool { return a.known }

var (
	oidPSS   = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 10}
	hashOIDs = map[string]crypto.Hash{"1.3.14.3.2.26": crypto.SHA1, "2.16.840.1.101.3.4.2.1": crypto.SHA256,
		"2.16.840.1.101.3.4.2.2": crypto.SHA384, "2.16.840.1.101.3.4.2.3": crypto.SHA512}
	hashNames = map[crypto.Hash]string{crypto.SHA1: "SHA-1", crypto.SHA256: "SHA-256", crypto.SHA384: "SHA-384",
		crypto.SHA512: "SHA-512"}
)

// ReadAlgorithm reads an AlgorithmIdentifier, given whole. An algorithm that is
// not known is no error; its Name is its identifier.
func ReadAlgorithm(der []byte) (Algorithm, error) {
	in := cryptobyte.String(der)
	var seq cryptobyte.String
	var oid asn1.ObjectIdentifier
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !seq.ReadASN1ObjectIdentifier(&oid) {
		return Algorithm{}, errors.New("signature algorithm: it is not an AlgorithmIdentifier")
	}
	for _, scheme := range schemes {
		for _, a := range scheme.algorithms {
			if a.oid.Equal(oid) {
				return Algorithm{Name: a.name, Hash: a.hash, family: scheme.family, known: true}, nil
			}
		}
	}
	if oid.Equal(oidPSS) {
		return readPSS(seq), nil
	}
	return Algorithm{Name: oid.String()}, nil
}

// readPSS reads RSASSA-PSS parameters (RFC 4055 section 3.1), as far as one
// hash serves both purposes, which is all that real software makes.
func readPSS(seq cryptobyte.String) Algorithm {
	a := Algorithm{Name: "RSA-PSS", Hash: crypto.SHA1, family: "rsa", pss: true, salt: 20, known: true}
	var params, field, hash cryptobyte.String
	if !seq.ReadASN1(&params, casn1.SEQUENCE) {
		return a
	}
	for i := range 4 {
		var there bool
		if !params.ReadOptionalASN1(&field, &there, casn1.Tag(i).ContextSpecific().Constructed()) {
			return Algorithm{Name: "RSA-PSS with parameters that cannot be parsed"}
		}
		var oid asn1.ObjectIdentifier
		switch {
		case there && i == 0:
			if !field.ReadASN1(&hash, casn1.SEQUENCE) || !hash.ReadASN1ObjectIdentifier(&oid) ||
				hashOIDs[oid.String()] == 0 {
				return Algorithm{Name: "RSA-PSS with an unknown hash"}
			}
			a.Hash = hashOIDs[oid.String()]
		case there && i == 2:
			if !field.ReadASN1Integer(&a.salt) || a.salt < 0 || a.salt > 512 {
				return Algorithm{Name: "RSA-PSS with an impossible salt"}
			}
		}
	}
	a.Name = "RSA-PSS with " + hashNames[a.Hash]
	return a
}

// ErrSignature says that a signature does not hold.
var ErrSignature = errors.New("the signature does not match the content and the key")

// Verify checks a signature over message. It answers nil, ErrSignature, or an
// error that says why the signature cannot be checked at all.
func (p Public) Verify(a Algorithm, message, signature []byte) error {
	if p.Key == nil {
		return fmt.Errorf("the key cannot verify: %s", p.Fault)
	}
	if !a.known {
		return fmt.Errorf("the signature algorithm %s is not known here", a.Name)
	}
	if a.family != p.Kind.Family() {
		return fmt.Errorf("the signature algorithm %s does not go with a key of kind %s", a.Name, p.Kind)
	}
	if !p.Kind.scheme().verify(p, a, digested(a.Hash, message), signature) {
		return ErrSignature
	}
	return nil
}

// digested is a message's digest; the message itself where there is no hash.
func digested(hash crypto.Hash, message []byte) []byte {
	if hash == 0 {
		return message
	}
	h := hash.New()
	h.Write(message)
	return h.Sum(nil)
}

// SigningAlgorithm gives the AlgorithmIdentifier with which a key of this kind
// signs: a hash as strong as the key, never below SHA-256. It must not be changed.
func (p Public) SigningAlgorithm() (der []byte, hash crypto.Hash, err error) {
	a, ok := p.Kind.signing()
	if !ok {
		return nil, 0, fmt.Errorf("a key of kind %q cannot sign here", p.Kind)
	}
	return identifiers()[a.name], a.hash, nil
}

// SignMessage signs a message by the key's SigningAlgorithm. The signature is verified
// before it counts: a faulty computation can give away an RSA key.
func SignMessage(message []byte, signer crypto.Signer, random io.Reader) (algorithm, signature []byte, err error) {
	pub, err := Of(signer)
	if err != nil {
		return nil, nil, err
	}
	algorithm, hash, err := pub.SigningAlgorithm()
	if err != nil {
		return nil, nil, err
	}
	digest := digested(hash, message)
	if whole, ok := signer.(crypto.MessageSigner); ok { // a holder that takes the message itself, and hashes it
		signature, err = whole.SignMessage(random, message, hash)
	} else {
		signature, err = signer.Sign(random, digest, hash)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("signing with key %x: %w", pub.Identifier()[:4], err)
	}
	alg, err := ReadAlgorithm(algorithm)
	if err != nil {
		return nil, nil, err
	}
	if !pub.Kind.scheme().verify(pub, alg, digest, signature) {
		return nil, nil, fmt.Errorf("signing with key %x: the new signature does not verify: %w",
			pub.Identifier()[:4], ErrSignature)
	}
	return algorithm, signature, nil
}

// SignedObject signs tbs and wraps it the way requests, certificates and lists
// are wrapped: the content, the algorithm, the signature. The algorithm given
// must be the key's SigningAlgorithm.
func SignedObject(tbs []byte, signer crypto.Signer, random io.Reader) ([]byte, error) {
	algorithm, signature, err := SignMessage(tbs, signer, random)
	if err != nil {
		return nil, err
	}
	b := cryptobyte.NewBuilder(make([]byte, 0, len(tbs)+len(signature)+64))
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddBytes(tbs)
		b.AddBytes(algorithm)
		b.AddASN1BitString(signature)
	})
	return b.Bytes()
}
