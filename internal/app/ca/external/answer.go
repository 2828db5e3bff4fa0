package external

import (
	"context"
	"errors"
	"fmt"

	"ironseal/internal/app/revoke/evidence"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/match"
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
	ask      AnswerAsk
}

// About names what the answer is for: the request, or the certificate where there
// is none on record.
func (a Answer) About() string {
	if a.Record.Number == 0 {
		return a.Leaf.Title()
	}
	return fmt.Sprintf("R%d", a.Record.Number)
}

// AnswerAsk is a certificate that came back, with what it came with.
type AnswerAsk struct {
	List    []*cert.Certificate
	Anchors []*cert.Certificate // roots that the person gives in trust; those on record are trusted already
	// the request that it answers, "R7", where that was not recorded as sent; "" to find the one that was
	Request string
	Waivers []finding.Waiver
}

// ErrKnown says that a certificate is on record already.
var ErrKnown = errors.New("it is on record already")

// MatchAnswer finds the request that a returned certificate answers, by its key, and
// checks the one against the other. Only what was sent, or is said to have been, is
// answered: a certificate that no one asked for closes no request.
func MatchAnswer(ctx context.Context, e *estate.Estate, ask AnswerAsk) (Answer, error) {
	a, err := estate.Snapshot(ctx, e, func(e *estate.Estate) (Answer, error) { return matchAnswer(ctx, e, ask) })
	a.ask = ask
	return a, err
}

func matchAnswer(ctx context.Context, e *estate.Estate, ask AnswerAsk) (Answer, error) {
	var a Answer
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return a, err
	}
	for _, c := range ask.List {
		o, err := answerable(ctx, e, ask.Request, c)
		if err != nil {
			return a, err
		}
		if o != nil {
			return matched(ctx, e, h, ask, *o, c)
		}
	}
	if again, ok := issuedByUs(e, h, ask.List); ok {
		if err := unknown(ctx, e, again.Leaf); err != nil {
			return again, err
		}
		again.Findings, err = again.Findings.Waive(0, ask.Waivers)
		return again, err
	}
	return a, unanswerable(ctx, e, ask.List)
}

// answered is a request that may be answered.
type answered struct {
	record  store.Request
	request *request.Request
}

// answerable finds what was sent and has the key of a certificate, or the one request that
// is said to have been; nil where that has another key.
func answerable(ctx context.Context, e *estate.Estate, said string, c *cert.Certificate) (*answered, error) {
	if said != "" {
		rec, r, err := e.Request(ctx, said)
		switch {
		case err != nil:
			return nil, err
		case rec.State != lifecycle.Waiting && rec.State != lifecycle.Sent:
			return nil, fmt.Errorf("R%d is %s since %s, and takes no answer", rec.Number, rec.State,
				rec.Decided.Format("2006-01-02"))
		case !key.Same(c.Key, r.Key):
			return nil, nil
		}
		return &answered{rec, r}, nil
	}
	list, err := e.Records.RequestsByKey(ctx, lifecycle.Sent, c.Key.Fingerprint())
	if err != nil || len(list) == 0 {
		return nil, err
	}
	r, err := request.Read(list[0].DER)
	if err != nil {
		return nil, fmt.Errorf("R%d on record cannot be parsed: %w", list[0].Number, err)
	}
	return &answered{list[0], r}, nil
}

func matched(ctx context.Context, e *estate.Estate, h hierarchy.Hierarchy, ask AnswerAsk, o answered,
	c *cert.Certificate) (Answer, error) {
	a := Answer{Record: o.record, Leaf: c}
	if err := unknown(ctx, e, c); err != nil {
		return a, err
	}
	roots, others, err := e.Roots(ctx)
	if err != nil {
		return a, err
	}
	a.Chain = path.Ordered(append([]*cert.Certificate{c}, ask.List...))[1:]
	pool := append(append(append([]*cert.Certificate{}, others...), ask.List...), ask.Anchors...)
	q, err := evidence.Acted(ctx, e, path.Question{Anchors: append(roots, ask.Anchors...), Now: e.Now()})
	if err != nil {
		return a, err
	}
	a.Findings = append(match.CheckAnswer(o.request, c, pool, q),
		e.RehearsalFindings([]*cert.Certificate{c})...)
	for _, g := range estate.AllGenerations(h) {
		if c.Issuer.Equal(g.Certificate.Subject) && c.VerifiedBy(g.Certificate.Key) == nil {
			a.issuer = g
		}
	}
	a.Findings, err = a.Findings.Waive(o.record.Number, ask.Waivers)
	return a, err
}

// still refuses what was fit when someone agreed to it, and is not any more.
func still(about string, now finding.List, err error) error {
	if err != nil {
		return err
	}
	if bad := now.Refusing(); len(bad) > 0 {
		return fault.New(fault.Changed, "the record changed while the sheet was on screen: %w",
			&issue.Refused{About: about, Findings: bad})
	}
	return nil
}

// unknown refuses a certificate that is on record.
func unknown(ctx context.Context, e *estate.Estate, c *cert.Certificate) error {
	_, known, err := e.OnRecord(ctx, c)
	if err == nil && known {
		err = fault.New(fault.Refused, "%s, serial %s: %w", c.Title(), c.Serial.Short(), ErrKnown).
			On(fault.Certificate.Named("%s", c.SerialHex())).
			Then(advice.To("see it", advice.ShowCertificate, "certificate", c.SerialHex()))
	}
	return err
}

// unanswerable says why nothing here takes the certificate.
func unanswerable(ctx context.Context, e *estate.Estate, list []*cert.Certificate) error {
	for _, c := range list {
		if err := unknown(ctx, e, c); err != nil && !c.IsAuthority() {
			return err
		}
	}
	for _, c := range list {
		waiting, err := e.Records.RequestsByKey(ctx, lifecycle.Waiting, c.Key.Fingerprint())
		if err != nil {
			return err
		}
		if len(waiting) > 0 {
			return fault.New(fault.Refused, "R%d has the key of this certificate, waits here, and was never recorded "+
				"as sent",
				waiting[0].Number).Then(advice.To("if you sent it to that authority, say so", advice.GiveRequest,
				"request", fmt.Sprintf("R%d", waiting[0].Number)))
		}
	}
	return errors.New("no request that was sent from here has the key of this certificate: was the request drafted " +
		"in another estate?")
}

// issuedByUs finds a certificate that an authority of ours signed and that is not
// on record: one that was issued after the backup that was restored.
func issuedByUs(e *estate.Estate, h hierarchy.Hierarchy, list []*cert.Certificate) (Answer, bool) {
	leaf := path.LeafOf(list)
	for _, g := range estate.AllGenerations(h) {
		if leaf.Issuer.Equal(g.Certificate.Subject) && leaf.VerifiedBy(g.Certificate.Key) == nil &&
			generationOf(h, leaf) == nil {
			out := Answer{Leaf: leaf, issuer: g, Findings: e.RehearsalFindings([]*cert.Certificate{leaf})}
			switch up := g.RevokedAbove(); { // a thief signs with it too
			case up != nil:
				out.Findings = append(out.Findings, finding.New(finding.IssuerRevoked, "%s was revoked on %s.",
					up.Label(),
					up.Revoked.Format("2006-01-02")))
			case g.Stopped != "":
				out.Findings = append(out.Findings, finding.New(finding.Stopped, "%s grants nothing for now: %s.",
					g.Label(), g.Stopped))
			}
			return out, true
		}
	}
	return Answer{}, false
}

// Accept imports an answer that a person agreed to.
func Accept(ctx context.Context, e *estate.Estate, a Answer) (journal.Head, error) {
	if r := a.Findings.Refusing(); len(r) > 0 {
		return journal.Head{}, &issue.Refused{About: a.About(), Findings: r}
	}
	if a.issuer != nil {
		a.Chain = nil // it follows from the record
	}
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		now, err := matchAnswer(ctx, e.InTx(tx), a.ask) // an authority above may have been revoked meanwhile
		if err := still(a.About(), now.Findings, err); err != nil {
			return nil, err
		}
		if a.Record.Number != 0 {
			if err := tx.SetState(a.Record.Number, lifecycle.Signed, "by an outside authority"); err != nil {
				return nil, err
			}
		}
		var issuer int64
		if a.issuer != nil {
			if issuer, err = tx.AnyGenerationID(a.issuer); err != nil {
				return nil, err
			}
		}
		id, err := tx.AddCertificate(store.NewCertificate{Certificate: a.Leaf, Issuer: issuer,
			Request: a.Record.Number,
			Waived:  estate.Waived(a.Findings)})
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
		return []event.Record{event.On(a.About(), event.CertificateImported{By: new(estate.NameOf(a.issuer)),
			Chain: estate.Hashes(a.Chain), Certificate: fmt.Sprintf("%x", a.Leaf.SHA256()), Serial: a.Leaf.SerialHex(),
			Title: a.Leaf.Title(), Issuer: a.Leaf.Issuer.String(), Waived: estate.WaivedCodes(a.Findings)})}, nil
	})
}
