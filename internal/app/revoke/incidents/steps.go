package incidents

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironseal/internal/app/ca/renewals"
	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/estate"
	"ironseal/pki/advice"
	"ironseal/pki/hierarchy"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/revocation"
	"ironseal/pki/span"
	"ironseal/pki/trust"
)

func (p *Progress) stopped(context.Context, *estate.Estate) (Step, error) {
	s := Step{Name: "stop granting", Done: true, Words: "nothing is signed for its key"}
	if g := p.target.Generation; g != nil {
		s.Done = g.Stopped != "" || !g.Revoked.IsZero()
		if s.Words = g.Label() + " is stopped since " + p.Opened.Format("2006-01-02 15:04 UTC"); !s.Done {
			s.Words = g.Label() + " grants again"
		}
	}
	return s, nil
}

func (p *Progress) listed(context.Context, *estate.Estate) (Step, error) {
	words := span.Count(len(p.Affected), "certificate") + "; no holder is on record"
	if n := len(p.Holders); n > 0 {
		words = fmt.Sprintf("%s; %s on record", span.Count(len(p.Affected), "certificate"), span.Count(n, "holder"))
	}
	return Step{Name: "list what is affected", Done: true, Words: words}, nil
}

func (p *Progress) prepared(context.Context, *estate.Estate) (Step, error) {
	done := p.count(func(a Affected) bool { return a.Replacement != "" && a.needs() })
	all := p.count(Affected.needs)
	s := Step{Name: "prepare replacements", Done: done == all, Words: fmt.Sprintf("%d of %d have one", done, all)}
	if n := len(p.Affected) - all; n > 0 {
		s.Words += fmt.Sprintf("; %d revoked or on hold: no replacement needed", n)
	}
	g := p.target.Generation
	switch {
	case g == nil && !s.Done:
		s.Next = advice.To("", advice.RenewCertificate, "certificate", p.target.Serial.Short(), "request", advice.Asked)
		s.Words += "; its holder must send a request with a new key"
	case g != nil && !p.renewed():
		s.Done = false
		s.Words = g.Authority.Handle + " has no generation with another key yet"
		if s.Next = renewals.RenewStep(g.Authority); !p.external() && !g.Authority.External() {
			s.Next.With = append(s.Next.With, advice.Value{Name: "why", Text: "TEXT"})
		}
	case !s.Done:
		s.Next = advice.To("", advice.ReplaceIncident, "incident", p.Name)
	}
	return s, nil
}

// renewed reports whether the authority has a generation with another key, now or prepared.
func (p *Progress) renewed() bool {
	g := p.target.Generation
	list := p.h.Find(g.Authority.Handle).Generations
	last := list[len(list)-1]
	return !hierarchy.SameList(last, g) && last.RevokedAbove() == nil && last.Stopped == ""
}

// external reports whether what is suspected was signed by a key in another estate.
func (p *Progress) external() bool { return p.target.By != nil && p.target.By.Authority.External() }

func (p *Progress) handed(context.Context, *estate.Estate) (Step, error) {
	done := p.count(func(a Affected) bool { return a.needs() && a.Handed })
	all := p.count(Affected.needs)
	s := Step{Name: "hand them over", Done: done == all, Words: fmt.Sprintf("%d of %d replacements are handed over",
		done, all)}
	if len(p.ToHandOver()) > 0 {
		s.Next = advice.To("", advice.HandOverMany, "incident", p.Name, "folder", "DIR")
	}
	return s, nil
}

// toRevoke is a certificate that the incident wants on a list, for the loss of its key.
type toRevoke struct {
	name   string // as it is typed
	by     *hierarchy.Generation
	record estate.CertificateRecord
}

// lost are the certificates for the suspected key that another key signed and that have not ended:
// each must be revoked, since a client that finds one of them accepts what the key signs.
func (p *Progress) lost(ctx context.Context, e *estate.Estate) (out []toRevoke, err error) {
	add := func(name string, by *hierarchy.Generation, record estate.CertificateRecord) {
		if by != nil && record.State != lifecycle.Expired {
			out = append(out, toRevoke{name, by, record})
		}
	}
	for _, l := range p.Links {
		add(l.record.Serial.Short(), l.by, l.record)
	}
	if p.target.Generation == nil {
		for _, a := range p.Affected { // all that have its key
			add(a.record.Serial.Short(), p.h.Generation(a.record.Record.Issuer), a.record)
		}
		return out, nil
	}
	for _, g := range withKey(p.h, p.target.Key) {
		record, _, err := e.OnRecord(ctx, g.Certificate)
		if err != nil {
			return nil, err
		}
		add(g.Name(), g.Issuer, record)
	}
	return out, nil
}

// reason is why the certificates of an incident are revoked.
func (p *Progress) reason() revocation.Reason {
	if p.target.Generation != nil {
		return revocation.CACompromise
	}
	return revocation.KeyCompromise
}

func (p *Progress) revoked(ctx context.Context, e *estate.Estate) (Step, error) {
	s := Step{Name: "revoke"}
	list, err := p.lost(ctx, e)
	if err != nil {
		return s, err
	}
	var here, far, others []string
	for _, x := range list {
		switch {
		case x.record.Record.Reason >= 0 && revocation.Reason(x.record.Record.Reason).Compromise():
			continue
		case x.by.Authority.External():
			far = append(far, x.name+" (signed by "+x.by.Authority.Handle+")")
			continue
		// clients refuse it; the reason is wrong, and the key is not known as lost
		case x.record.State == lifecycle.Revoked:
			others = append(others, fmt.Sprintf("%s is revoked as %s", x.name,
				revocation.Reason(x.record.Record.Reason).Word()))
		}
		here = append(here, x.name)
	}
	root, err := p.rootStays(ctx, e)
	if err != nil {
		return s, err
	}
	s.Done = len(here)+len(far) == 0 && root == ""
	switch {
	case s.Done && p.target.By == nil:
		s.Words = "it is in no trust set any more"
	case s.Done:
		s.Words = "done"
	case len(here) > 0:
		s.Words = "not yet: " + strings.Join(here, ", ")
		if len(others) > 0 {
			s.Words += "; " + strings.Join(others, ", ")
		}
		s.Next = advice.To("", advice.Revoke, "certificate", strings.Join(here, "\n"), "reason", p.reason().Word(),
			"because", advice.Asked)
	case len(far) > 0:
		s.Words = "not yet: " + strings.Join(far, ", ") + ", in another estate: have it revoked there, and take its " +
			"list in"
		s.Next = advice.To("", advice.ImportLists)
	default:
		s.Words = root
		s.Next = advice.To("", advice.ShowChangeOver, "authority", p.target.Generation.Authority.Handle)
	}
	return s, nil
}

// rootStays says why a suspected root is still trusted; "" where it is not, or is no root.
func (p *Progress) rootStays(ctx context.Context, e *estate.Estate) (string, error) {
	if p.target.By != nil {
		return "", nil
	}
	sets, faults := anchors.Sets(ctx, e)
	if err := errors.Join(faults...); err != nil {
		return "", err
	}
	var in []string
	for _, set := range sets {
		if slices.ContainsFunc(set.Anchors, func(a trust.Anchor) bool {
			return key.Same(a.Certificate.Key,
				p.target.Key)
		}) {
			in = append(in, set.Name)
		}
	}
	if len(in) == 0 {
		return "", nil
	}
	return "a root cannot be revoked: those who trust it must learn another and drop it; it is in the trust set " +
		strings.Join(in, ", "), nil
}

// published asks whether a list that tells of every certificate for the key lies in a folder that
// is served.
func (p *Progress) published(ctx context.Context, e *estate.Estate) (Step, error) {
	s := Step{Name: "publish", Next: advice.To("", advice.PublishLists, "folder", "DIR")}
	list, err := p.lost(ctx, e)
	if err != nil {
		return s, err
	}
	if len(list) == 0 && p.target.By == nil {
		s.Done, s.Words, s.Next = true, "a root is in no list: remove it from the trust sets", advice.Step{}
		return s, nil
	}
	have, err := inventory.Known(ctx, e.Records)
	if err != nil {
		return s, err
	}
	told := map[string]bool{}
	for _, x := range list {
		r, found, err := e.Records.RevocationOf(ctx, x.by.Authority.Handle, x.record.SerialHex())
		if err != nil {
			return s, err
		}
		if !found || !r.Released.IsZero() {
			s.Words, s.Next = "nothing is revoked yet", advice.Step{}
			if len(told) > 0 {
				s.Words = x.name + " is not revoked yet"
			}
			return s, nil
		}
		if words := have.Untold(x.by, r.ID); words != "" {
			s.Words = words
			return s, nil
		}
		told[x.by.Label()] = true
	}
	s.Done, s.Words, s.Next = true, "the list of "+strings.Join(slices.Sorted(maps.Keys(told)), ", ")+" includes it",
		advice.Step{}
	if len(told) == 0 {
		s.Words = "no list has to include anything"
	}
	return s, nil
}

func (p *Progress) proven(context.Context, *estate.Estate) (Step, error) {
	old := p.count(func(a Affected) bool { return a.Seen == "old" })
	done := p.count(func(a Affected) bool { return a.Seen == "replacement" })
	ends := p.count(func(a Affected) bool { return !a.Authority })
	s := Step{Name: "prove it", Done: old == 0 && done == ends,
		Words: fmt.Sprintf("%d of %d serve the replacement, %d still serve the old one", done, ends, old)}
	if !s.Done {
		s.Next = advice.To("", advice.ProbeAll, "record", "")
	}
	return s, nil
}
