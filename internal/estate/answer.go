package estate

import (
	"context"
	"errors"
	"fmt"

	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/handover"
	"ironseal/pki/hierarchy"
	"ironseal/pki/issue"
	"ironseal/pki/path"
	"ironseal/pki/request"
)

// Answer is a certificate that an outside authority returned, matched to the
// request that it answers.
type Answer struct {
	Record   store.Request
	Leaf     *cert.Certificate
	Chain    []*cert.Certificate // above the leaf, as far as it was given
	Findings finding.List
	issuer   *hierarchy.Generation // on record, where it is
}

// About names what the answer is for: the request, or the certificate where there
// is none on record.
func (a Answer) About() string {
	if a.Record.Number == 0 {
		return a.Leaf.Title()
	}
	return fmt.Sprintf("R%d", a.Record.Number)
}

func allGenerations(h hierarchy.Hierarchy) []*hierarchy.Generation {
	var out []*hierarchy.Generation
	for _, a := range h {
		out = append(out, a.Generations...)
	}
	return out
}

// MatchAnswer finds the waiting request that a returned certificate answers, by
// its key, and checks the one against the other.
func (e *Estate) MatchAnswer(ctx context.Context, list []*cert.Certificate, waivers []finding.Waiver) (Answer, error) {
	var a Answer
	waiting, err := e.records.Requests(ctx, store.Waiting)
	if err != nil {
		return a, err
	}
	sent, err := e.records.Requests(ctx, store.Sent)
	if err != nil {
		return a, err
	}
	waiting = append(waiting, sent...)
	roots, others, err := e.Roots(ctx)
	if err != nil {
		return a, err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return a, err
	}
	for _, rec := range waiting {
		r, err := request.Read(rec.DER)
		if err != nil {
			return a, fmt.Errorf("R%d on record does not read: %w", rec.Number, err)
		}
		for _, c := range list {
			if c.Key.Fingerprint() != r.Key.Fingerprint() {
				continue
			}
			a.Record, a.Leaf = rec, c
			a.Chain = path.Ordered(append([]*cert.Certificate{c}, list...))[1:]
			a.Findings = append(handover.CheckAnswer(r, c, append(others, list...), roots, e.Now()), e.rehearsalFindings([]*cert.Certificate{c})...)
			for _, g := range allGenerations(h) {
				if c.Issuer.Equal(g.Certificate.Subject) && c.VerifiedBy(g.Certificate.Key) == nil {
					a.issuer = g
				}
			}
			a.Findings, err = a.Findings.Waive(rec.Number, waivers)
			return a, err
		}
	}
	if again, ok := e.issuedByUs(h, list); ok {
		again.Findings, err = again.Findings.Waive(0, waivers)
		return again, err
	}
	return a, errors.New("no request that waits here has the key of this certificate: was the request drafted in another estate?")
}

// issuedByUs finds a certificate that an authority of ours signed and that is not
// on record: one that was issued after the backup that was restored.
func (e *Estate) issuedByUs(h hierarchy.Hierarchy, list []*cert.Certificate) (Answer, bool) {
	leaf := path.LeafOf(list)
	for _, g := range allGenerations(h) {
		if leaf.Issuer.Equal(g.Certificate.Subject) && leaf.VerifiedBy(g.Certificate.Key) == nil && generationOf(h, leaf) == nil {
			return Answer{Leaf: leaf, issuer: g, Findings: e.rehearsalFindings([]*cert.Certificate{leaf})}, true
		}
	}
	return Answer{}, false
}

// Accept takes in an answer that a person agreed to.
func (e *Estate) Accept(ctx context.Context, a Answer) (store.Head, error) {
	if r := a.Findings.Refusing(); len(r) > 0 {
		return store.Head{}, &issue.Refused{About: a.About(), Findings: r}
	}
	return e.act(ctx, func(tx *store.Tx) ([]store.Entry, error) {
		if a.Record.Number != 0 {
			if err := tx.Decide(a.Record.Number, store.Signed, "by an outside authority", e.world.Now()); err != nil {
				return nil, err
			}
		}
		var issuer int64
		if a.issuer != nil {
			var err error
			if issuer, err = tx.AnyGenerationID(a.issuer); err != nil {
				return nil, err
			}
			a.Chain = nil // it follows from the record
		}
		id, err := tx.AddCertificate(store.NewCertificate{Certificate: a.Leaf, Issuer: issuer, Request: a.Record.Number, Waived: waived(a.Findings), Actor: e.world.Actor})
		if err != nil {
			return nil, err
		}
		var chain [][]byte
		for _, c := range a.Chain {
			chain = append(chain, c.Raw)
		}
		if err := tx.AddChain(id, chain); err != nil {
			return nil, err
		}
		return []store.Entry{entry("accept", a.About(), "certificate", fmt.Sprintf("%x", a.Leaf.SHA256()), "serial", a.Leaf.SerialHex(),
			"title", a.Leaf.Title(), "issuer", a.Leaf.Issuer.String(), "waived", waivedCodes(a.Findings))}, nil
	})
}
