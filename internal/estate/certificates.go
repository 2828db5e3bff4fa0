package estate

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/kit"
	"ironseal/pki/label"
	"ironseal/pki/lifecycle"
	"ironseal/pki/ocsp"
	"ironseal/pki/revocation"
)

// CertificateRecord is a certificate on record, read, with its state as of now.
type CertificateRecord struct {
	Record store.Certificate
	*cert.Certificate
	State lifecycle.State
}

// CertificateLine is a certificate on record as lists have it, with its state as of now.
type CertificateLine struct {
	store.Line
	State lifecycle.State
}

// Line is the line of a certificate.
func (h CertificateRecord) Line() CertificateLine {
	return CertificateLine{store.Line{ID: h.Record.ID, Serial: h.SerialHex(), Title: h.Title(),
		Request:  h.Record.Request,
		Template: h.Record.Template, Standing: h.Record.Standing, Brief: store.BriefOf(h.Certificate)}, h.State}
}

// Signer is who signed a certificate, as Which.By names it.
func (l *CertificateLine) Signer() string {
	return signer(l.Issuer, l.Traits.Has(store.TraitSelfIssued))
}

func signer(issuer string, itself bool) string {
	switch {
	case issuer != "":
		return issuer
	case itself:
		return ItselfSigned
	}
	return OutsideSigned
}

// OneUse reports whether the certificate's key was made for one use and is gone, as those are
// that sign kits and prepared OCSP answers: it is never renewed.
func (l *CertificateLine) OneUse() bool {
	return l.Template == kit.SigningTemplate || l.Request == 0 && l.Issuer != "" && l.Traits.Has(store.TraitNoCheck)
}

// EachLine calls fn for the lines that are asked for, soonest end first. fn must not keep the line.
func (e *Estate) EachLine(ctx context.Context, ask store.LineAsk, fn func(*CertificateLine) error) error {
	down, err := e.RevokedGenerations(ctx)
	if err != nil {
		return err
	}
	judge := e.judge(down)
	var out CertificateLine
	return e.Records.EachLine(ctx, ask, func(l *store.Line) error {
		out.Line, out.State = *l, judge(&l.Standing)
		return fn(&out)
	})
}

// Ending are the lines of end entities that serve and end between two moments, soonest first.
func (e *Estate) Ending(ctx context.Context, from, to time.Time) (out []CertificateLine, err error) {
	err = e.EachLine(ctx, store.LineAsk{Ends: true, From: from, To: to, Leaves: true, Serving: true},
		func(l *CertificateLine) error {
			out = append(out, *l)
			return nil
		})
	return out, err
}

// Holders tells who is known to hold a certificate.
func (e *Estate) Holders(ctx context.Context, c CertificateRecord) ([]string, error) {
	return e.Records.Holders(ctx, c.Record.ID)
}

func (e *Estate) read(r store.Certificate, down RevokedGenerations) (CertificateRecord, error) {
	c, err := cert.Read(r.DER)
	if err != nil {
		return CertificateRecord{}, fmt.Errorf("certificate %s on record cannot be parsed: %w", r.Title, err)
	}
	return CertificateRecord{r, c, e.stateOf(r, down)}, nil
}

// RevokedGenerations are the generations that were revoked, or are below one that was, by name.
type RevokedGenerations map[string]bool

// RevokedGenerations works out which generations fell.
func (e *Estate) RevokedGenerations(ctx context.Context) (RevokedGenerations, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	out := RevokedGenerations{}
	for _, g := range AllGenerations(h) {
		if g.RevokedAbove() != nil {
			out[g.Name()] = true
		}
	}
	return out, nil
}

// stateOf says what state a certificate on record is in today.
func (e *Estate) stateOf(r store.Certificate, down RevokedGenerations) lifecycle.State {
	return e.judge(down)(&r.Standing)
}

// judge says in what state certificates are today, one after another: the clock is read once.
func (e *Estate) judge(down RevokedGenerations) func(*store.Standing) lifecycle.State {
	until := e.untilToday()
	return func(r *store.Standing) lifecycle.State {
		state := until(r.Until)
		switch {
		case r.Reason == int(revocation.CertificateHold):
			return lifecycle.OnHold
		case r.Reason >= 0:
			return lifecycle.Revoked
		case len(down) > 0 && down[r.Issuer] && state != lifecycle.Expired:
			return lifecycle.IssuerRevoked
		case r.Prepared:
			return lifecycle.Prepared
		case r.Replaced && state != lifecycle.Expired:
			return lifecycle.Replaced
		}
		return state
	}
}

// StateOf says what state a certificate is in today on its own.
func (e *Estate) StateOf(c *cert.Certificate) lifecycle.State { return e.stateUntil(c.NotAfter) }

func (e *Estate) stateUntil(end time.Time) lifecycle.State { return e.untilToday()(end) }

// untilToday says in what state something is that ends at a moment.
func (e *Estate) untilToday() func(end time.Time) lifecycle.State {
	now := e.Now()
	near := e.Settings.ExpiringFrom(now)
	return func(end time.Time) lifecycle.State {
		switch {
		case now.After(end):
			return lifecycle.Expired
		case near.After(end):
			return lifecycle.Expiring
		}
		return lifecycle.Valid
	}
}

// Who else may have signed a certificate, but for our authorities.
const (
	ItselfSigned  = "itself"
	OutsideSigned = "outside"
)

// Signer is who signed a certificate, as Which.By names it.
func (h CertificateRecord) Signer() string { return signer(h.Record.Issuer, h.SelfIssued()) }

// StateOfGeneration says what state a generation is in today: one that has a
// successor continues holding, and is never simply valid.
func (e *Estate) StateOfGeneration(g *hierarchy.Generation) lifecycle.State {
	state := e.StateOf(g.Certificate)
	switch {
	case !g.Revoked.IsZero():
		return lifecycle.Revoked
	case g.RevokedAbove() != nil && state != lifecycle.Expired:
		return lifecycle.IssuerRevoked
	case !g.SwitchDay.IsZero():
		return lifecycle.Prepared
	case state != lifecycle.Expired && g != g.Authority.Current():
		return lifecycle.Replaced
	}
	return state
}

// Certificates lists certificates, in the order in which they were signed.
func (e *Estate) Certificates(ctx context.Context) ([]CertificateRecord, error) {
	list, err := e.Records.Certificates(ctx)
	return e.ReadCertificates(list, err)
}

// ReadCertificates reads certificates on record; an error is passed on.
func (e *Estate) ReadCertificates(list []store.Certificate, err error) ([]CertificateRecord, error) {
	var down RevokedGenerations
	if err == nil {
		down, err = e.RevokedGenerations(context.Background()) // the records are local
	}
	if err != nil {
		return nil, err
	}
	out := make([]CertificateRecord, 0, len(list))
	for _, r := range list {
		h, err := e.read(r, down)
		if err != nil {
			return nil, err
		}
		out = append(out, h)
	}
	return out, nil
}

// wholeSerial is from how many digits in hex a name is looked up as a serial first.
const wholeSerial = 16

// FindCertificate finds a certificate by a unique prefix of its serial, by its
// request, by an authority's handle or by a name. Where a name fits several, the
// newest valid one is taken and note says so.
func (e *Estate) FindCertificate(ctx context.Context, name string) (found CertificateRecord, note string, err error) {
	name = strings.TrimSpace(name)
	if n, numErr := ParseNumber(name); numErr == nil && strings.HasPrefix(strings.ToUpper(name), "R") {
		list, err := e.ReadCertificates(e.Records.CertificatesByRequest(ctx, n))
		if err != nil {
			return found, "", err
		}
		if len(list) > 0 {
			return newest(list, fmt.Sprintf("came from R%d", n))
		}
		if rec, err := e.Records.Request(ctx, n); err == nil {
			return found, "", fault.New(fault.NotFound, "R%d is %s: there is no certificate for it", n, rec.State)
		}
		return found, "", fault.New(fault.NotFound, "R%d: there is no such request", n)
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return found, "", err
	}
	if g := h.Generation(name); g != nil {
		rec, err := e.Records.CertificateOf(ctx, g.Authority.Handle, g.Number)
		if err != nil {
			return found, "", err
		}
		list, err := e.ReadCertificates([]store.Certificate{rec}, nil)
		if err != nil {
			return found, "", err
		}
		return list[0], "", nil
	}
	// before names, which others choose; a serial below zero has a sign, which digits do not tell
	if digits, odd := label.Digits(name); odd == 0 && len(digits) >= wholeSerial && !strings.HasPrefix(name, "-") {
		list, err := e.ReadCertificates(e.Records.CertificatesBySerial(ctx, digits))
		if err != nil || len(list) == 1 {
			return append(list, found)[0], "", err
		}
	}
	list, err := e.CertificatesNamed(ctx, name)
	if err != nil {
		return found, "", err
	}
	if len(list) > 0 {
		return newest(list, "have the name "+name)
	}
	return e.findBySerial(ctx, name)
}

// OnRecord finds the record of just this certificate; false if none exists.
func (e *Estate) OnRecord(ctx context.Context, c *cert.Certificate) (CertificateRecord, bool, error) {
	list, err := e.Records.CertificatesBySerial(ctx, c.SerialHex())
	if err != nil {
		return CertificateRecord{}, false, err
	}
	for _, r := range list {
		if !bytes.Equal(r.DER, c.Raw) {
			continue
		}
		down, err := e.RevokedGenerations(ctx)
		if err != nil {
			return CertificateRecord{}, false, err
		}
		return CertificateRecord{r, c, e.stateOf(r, down)}, true, nil
	}
	return CertificateRecord{}, false, nil
}

// OneUse reports whether the certificate's key was made for one use and is gone, as those are
// that sign kits and prepared OCSP answers: it is never renewed.
func (h CertificateRecord) OneUse() bool {
	return h.Record.Template == kit.SigningTemplate ||
		h.Record.Request == 0 && h.Record.Issuer != "" && ocsp.NoCheck(h.Certificate)
}

// TemplatesSignedBy are the names of the templates that something was signed by.
func (e *Estate) TemplatesSignedBy(ctx context.Context) ([]string, error) {
	var out []string
	err := e.Records.EachTemplate(ctx, func(_ []byte, name string, _ []byte) { out = append(out, name) })
	slices.Sort(out)
	return slices.Compact(out), err
}

// rank is how much a state counts where several certificates fit a name.
var rank = map[lifecycle.State]int{lifecycle.Valid: 3, lifecycle.Expiring: 3, lifecycle.Replaced: 2,
	lifecycle.Prepared: 1}

// newest takes the newest of those that serve; where none does, of those that were
// replaced, then of those that wait, then any. fits says what they have in common.
func newest(list []CertificateRecord, fits string) (CertificateRecord, string, error) {
	best := list[0]
	for _, c := range list[1:] {
		if rank[c.State] >= rank[best.State] {
			best = c
		}
	}
	if len(list) == 1 {
		return best, "", nil
	}
	return best, fmt.Sprintf("%d certificates %s; this is the newest that serves, serial %s", len(list), fits,
		best.Serial.Short()), nil
}

// Line returns the certificates above one, the direct issuer first and the root
// last.
func (e *Estate) Line(ctx context.Context, c CertificateRecord) ([]*cert.Certificate, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	var g *hierarchy.Generation
	if c.Record.Issuer != "" {
		g = h.Generation(c.Record.Issuer)
	}
	var out []*cert.Certificate
	for _, i := range LineOf(g) {
		out = append(out, i.Certificate)
	}
	if c.Record.Issuer != "" || c.Record.ID == 0 {
		return out, nil
	}
	outside, err := e.Records.Chain(ctx, c.Record.ID)
	if err != nil {
		return nil, err
	}
	for _, der := range outside {
		i, err := cert.Read(der)
		if err != nil {
			return nil, fmt.Errorf("the chain of %s on record cannot be parsed: %w", c.Title(), err)
		}
		out = append(out, i)
	}
	return out, nil
}

// Roots returns the certificates of every root of the estate, as anchors, and
// those of the other authorities. What waits for a switch day is neither yet.
func (e *Estate) Roots(ctx context.Context) (roots, others []*cert.Certificate, err error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, a := range h {
		for _, g := range a.Generations {
			switch {
			case g.IsRoot() && g.SwitchDay.IsZero():
				roots = append(roots, g.Certificate)
			case g.SwitchDay.IsZero():
				others = append(others, g.Certificate)
			}
		}
	}
	return roots, others, nil
}

// Journal gives the estate's journal.
func (e *Estate) Journal() store.Store { return e.Records }
