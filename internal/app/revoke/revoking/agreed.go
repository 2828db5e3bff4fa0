package revoking

import (
	"crypto/sha256"
	"fmt"

	"ironseal/internal/estate"
)

// Needs is how many operators must agree to the revocation: where it is of an authority, as many as the settings say.
func (p Plan) Needs(e *estate.Estate) int {
	for _, t := range p.Targets {
		if t.Generation != nil {
			return e.NeedsToRevoke()
		}
	}
	return 0
}

// Digest covers what a person agrees to: which certificates, why, since when, and what becomes invalid with them.
func (p Plan) Digest() [32]byte {
	h := sha256.New()
	fmt.Fprintf(h, "revoke %d %d %q\n", p.Ask.Reason, p.Ask.Since.Unix(), p.Ask.Because)
	for _, t := range p.Targets {
		fmt.Fprintf(h, "%x\n", t.Certificate.SHA256())
	}
	for _, d := range p.Dependents {
		fmt.Fprintf(h, "below %x\n", d.Certificate.SHA256())
	}
	return [32]byte(h.Sum(nil))
}
