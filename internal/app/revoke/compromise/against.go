package compromise

import (
	"context"

	"ironseal/internal/estate"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/lifecycle"
)

// Against says what the records know against a certificate that a client may
// accept all the same: that another was signed in its place, that it waits, or that a key of ours
// signed it and no one wrote that down.
func Against(ctx context.Context, e *estate.Estate, c *cert.Certificate) (finding.List, error) {
	h, known, err := e.OnRecord(ctx, c)
	if err != nil {
		return nil, err
	}
	if !known {
		return unrecorded(ctx, e, c)
	}
	switch h.State {
	case lifecycle.Revoked, lifecycle.OnHold, lifecycle.IssuerRevoked:
		return finding.List{finding.New(finding.RevokedOnRecord, "On record %s is %s.", c.Title(), h.State)}, nil
	case lifecycle.Replaced, lifecycle.Prepared:
		return finding.List{finding.New(finding.OnRecord, "On record %s is %s.", c.Title(), h.State)}, nil
	}
	return nil, nil
}

// unrecorded says whether a certificate that is not on record was signed by a key of ours. Of an
// authority that was adopted not everything is known: what is older than its record is reported, and
// holds.
func unrecorded(ctx context.Context, e *estate.Estate, c *cert.Certificate) (finding.List, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	for _, g := range estate.AllGenerations(h) {
		if !c.Issuer.Equal(g.Certificate.Subject) || c.VerifiedBy(g.Certificate.Key) != nil {
			continue
		}
		if r, found, err := e.Records.RevocationOf(ctx, g.Authority.Handle, c.SerialHex()); err != nil {
			return nil, err
		} else if found && r.Released.IsZero() {
			return finding.List{finding.New(finding.RevokedOnRecord, "On record serial %s of %s is %s.",
				c.Serial.Short(),
				g.Label(), lifecycle.Revoked)}, nil
		}
		if g.Authority.External() {
			return nil, nil // its records are elsewhere
		}
		f := finding.New(finding.NotOnRecord,
			"%s, serial %s, was signed with the key of %s, and is not on record here.",
			c.Title(), c.Serial.Short(), g.Label())
		first, err := e.Records.CertificateOf(ctx, g.Authority.Handle, g.Number)
		if err != nil {
			return nil, err
		}
		if first.Template == "" { // adopted: what else it issued is not known
			f.Severity = finding.Warn
		}
		return finding.List{f}, nil
	}
	return nil, nil
}
