package path

import (
	"crypto/sha256"
	"sync"

	"ironseal/pki/cert"
)

// Proofs remembers signatures of authorities that were found to hold, for many questions about
// the same hierarchy. It is safe for several at once, holds a bounded number, and remembers
// nothing that does not hold.
type Proofs struct {
	mu    sync.Mutex
	holds map[[32]byte]bool
}

const mostProofs = 10_000

// verified reports whether a child's signature was made by the issuer's key.
func (p *Proofs) verified(child, issuer *cert.Certificate) bool {
	if p == nil || !child.IsAuthority() {
		return child.VerifiedBy(issuer.Key) == nil
	}
	key := issuer.Key.Fingerprint()
	sum := child.SHA256()
	name := sha256.Sum256(append(sum[:], key[:]...))
	p.mu.Lock()
	known := p.holds[name]
	p.mu.Unlock()
	if known {
		return true
	}
	if child.VerifiedBy(issuer.Key) != nil {
		return false
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.holds == nil || len(p.holds) >= mostProofs {
		p.holds = map[[32]byte]bool{}
	}
	p.holds[name] = true
	return true
}
