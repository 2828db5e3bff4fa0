package pkcs

import (
	"crypto"
	"errors"
	"fmt"
	"io"
	"time"

	"ironseal/pki/key"
)

// Detached is a signature that is beside what it signs.
type Detached struct{ Signed }

// SignDetached signs content beside it. chain has the signer's certificate first, then those
// above it. The digest is SHA-256.
func SignDetached(content []byte, signer crypto.Signer, chain [][]byte, when time.Time, random io.Reader) ([]byte,
	error) {
	return Draft{Type: oidData, Content: content, Detached: true, Certificates: chain, When: when}.Sign(signer, random)
}

// ReadDetached reads a signature that is beside what it signs: one signer, signed
// attributes, SHA-256. The certificates are not judged.
func ReadDetached(data []byte) (Detached, error) {
	s, err := ReadSigned(data)
	switch {
	case err != nil:
		return Detached{}, err
	case s.Content != nil:
		return Detached{}, errors.New("signature: it contains the content; it must be detached")
	case !s.contentType.Equal(oidData):
		return Detached{}, errors.New("signature: its attributes cannot be parsed (RFC 5652 section 11)")
	case s.Hash != crypto.SHA256:
		return Detached{}, fmt.Errorf("signature: its digest is %s, and SHA-256 is wanted", s.Hash)
	case len(s.Certificates) == 0:
		return Detached{}, errors.New("PKCS#7: there are no certificates in it")
	}
	return Detached{s}, nil
}

// Verify says whether the key signed the content.
func (d Detached) Verify(content []byte, by key.Public) error { return d.verify(content, by) }
