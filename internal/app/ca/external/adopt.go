package external

import (
	"context"
	"crypto"
	"errors"
	"fmt"
	"slices"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/revoke/evidence"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/keystore"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/key"
	"ironseal/pki/path"
	"ironseal/pki/revocation"
)

// AdoptAsk is an authority that exists elsewhere and is to be known here.
type AdoptAsk struct {
	Handle  string
	List    []*cert.Certificate // its certificate, and what is above it
	Issued  []*cert.Certificate // certificates that it issued
	Signer  crypto.Signer       // its key; nil where that stays elsewhere
	Revoked [][]byte            // revocation lists that it signed
	Anchors []*cert.Certificate // roots given in trust
}

// Adoption is what an adoption would record.
type Adoption struct {
	Ask      AdoptAsk
	Leaf     *cert.Certificate
	Path     []*cert.Certificate
	Issued   []*cert.Certificate // those that it really issued
	Foreign  []*cert.Certificate // those given that it did not issue
	Lists    []*revocation.List
	Findings finding.List
	Link     *hierarchy.Generation // what the certificate vouches for, where it is a link or a cross certificate
	old      *hierarchy.Authority
}

// PlanAdoption checks what a person wants to adopt.
func PlanAdoption(ctx context.Context, e *estate.Estate, ask AdoptAsk) (Adoption, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (Adoption, error) { return planAdoption(ctx, e, ask) })
}

func planAdoption(ctx context.Context, e *estate.Estate, ask AdoptAsk) (Adoption, error) {
	out := Adoption{Ask: ask}
	if err := hierarchy.ValidHandle(ask.Handle); err != nil {
		return out, err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return out, err
	}
	out.Leaf = path.LeafOf(ask.List)
	c := out.Leaf
	if ask.Signer != nil {
		pub, err := key.Of(ask.Signer)
		if err != nil {
			return out, err
		}
		if i := slices.IndexFunc(ask.List, func(c *cert.Certificate) bool { return key.Same(c.Key, pub) }); i >= 0 {
			c, out.Leaf = ask.List[i], ask.List[i]
		} else {
			return out, fmt.Errorf("authority %s: the key is not that of any of the certificates", ask.Handle)
		}
	}
	out.old = h.Find(ask.Handle)
	if out.Link, err = asLink(h, c); err != nil {
		return out, err
	}
	if err := out.fits(h, c); err != nil {
		return out, err
	}
	if !c.IsAuthority() {
		out.Findings = append(out.Findings, finding.New(finding.NotAuthority, "%s is not an authority's certificate.",
			c.Title()))
	}
	roots, others, err := e.Roots(ctx)
	if err != nil {
		return out, err
	}
	anchors := append(roots, ask.Anchors...)
	if c.SelfSigned() {
		anchors = append(anchors, c) // a root is adopted because the person trusts it
	}
	q, err := evidence.Acted(ctx, e, path.Question{Anchors: anchors, Now: e.Now()})
	if err != nil {
		return out, err
	}
	v := path.Verify(c, append(append([]*cert.Certificate{}, ask.List...), others...), q)
	out.Findings = append(out.Findings, v.Reasons()...)
	for _, s := range v.Steps[1:] {
		out.Path = append(out.Path, s.Certificate)
	}
	if err := out.sift(c); err != nil {
		return out, err
	}
	out.Findings = append(out.Findings, e.RehearsalFindings(append([]*cert.Certificate{c}, out.Path...))...)
	out.Findings = out.Findings.Ranked()
	return out, nil
}

// sift tells what an authority issued and revoked from what it did not.
func (a *Adoption) sift(c *cert.Certificate) error {
	for _, i := range a.Ask.Issued {
		if i.Issuer.Equal(c.Subject) && i.VerifiedBy(c.Key) == nil && len(i.Broken) == 0 {
			a.Issued = append(a.Issued, i)
		} else {
			a.Foreign = append(a.Foreign, i)
		}
	}
	for _, der := range a.Ask.Revoked {
		l, err := revocation.ReadList(der)
		if err != nil {
			return err
		}
		if !l.Issuer.Equal(c.Subject) || l.VerifiedBy(c.Key) != nil {
			return fmt.Errorf("authority %s: the revocation list of %s was not signed by it", a.Ask.Handle, l.Issuer)
		}
		if a.Ask.Signer != nil && l.Number != nil && l.Number.BitLen() > mostNumberBits {
			return fmt.Errorf("authority %s: its list has the number %s, and lists that are signed here continue from "+
				"numbers below 2^%d: they would be older than that one: adopt it without its key", a.Ask.Handle,
				l.Number,
				mostNumberBits)
		}
		a.Lists = append(a.Lists, l)
	}
	return nil
}

// mostNumberBits bounds the number of a list from which ours continue (RFC 5280 section 5.2.3 allows 159 bits).
const mostNumberBits = 62

// fits checks that a certificate can be adopted under the handle.
func (a Adoption) fits(h hierarchy.Hierarchy, c *cert.Certificate) error {
	switch old, ask := a.old, a.Ask; {
	case a.Link != nil && a.Link.Authority.Handle != ask.Handle:
		return fmt.Errorf("%s is a certificate by which another authority vouches for %s: adopt it under that handle",
			c.Title(), a.Link.Authority.Handle)
	case a.Link != nil && (ask.Signer != nil || len(ask.Issued)+len(ask.Revoked) > 0):
		return fmt.Errorf("authority %s: a link or cross certificate comes alone, without key, lists or what was "+
			"issued", ask.Handle)
	case a.Link != nil:
		return nil
	case generationOf(h, c) != nil:
		return fmt.Errorf("%s is on record already, as %s", c.Title(), generationOf(h, c).Label())
	case old != nil && !old.External():
		return fault.New(fault.Refused, "authority %s: its key is here", ask.Handle).On(fault.Authority.Named("%s",
			ask.Handle)).
			Then(advice.To("renew it", advice.RenewAuthority, "authority", ask.Handle))
	case old != nil && !old.Current().Certificate.Subject.Equal(c.Subject):
		return fmt.Errorf("authority %s is %s; the certificate is for %s: choose another handle", ask.Handle,
			old.Current().Certificate.Subject, c.Subject)
	case old == nil && h.SubjectTaken(c.Subject, "") != nil:
		return fmt.Errorf("the authority %s has this subject already: adopt it under that handle",
			h.SubjectTaken(c.Subject, "").Handle)
	case old != nil && ask.Signer != nil:
		return fmt.Errorf("authority %s: a further certificate comes without its key; to adopt the key too, choose "+
			"another handle", ask.Handle)
	}
	return nil
}

// Adopt records an authority that was made elsewhere.
func Adopt(ctx context.Context, e *estate.Estate, a Adoption) (*hierarchy.Generation, journal.Head, error) {
	handle := a.Ask.Handle
	if r := a.Findings.Refusing(); len(r) > 0 {
		return nil, journal.Head{}, &issue.Refused{About: "authority " + handle, Findings: r}
	}
	undo, err := keepAdopted(ctx, e, a.Ask)
	if err != nil {
		return nil, journal.Head{}, err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, journal.Head{}, errors.Join(err, undo())
	}
	if a.Link != nil {
		return adoptLink(ctx, e, a, h)
	}
	head, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		now, err := planAdoption(ctx, e.InTx(tx), a.Ask)
		if err := still("authority "+handle, now.Findings, err); err != nil {
			return nil, err
		}
		return a.record(e, tx, h)
	})
	if err != nil {
		failed := fmt.Errorf("authority %s: %w", handle, err)
		if !errors.Is(err, store.ErrUncertain) { // then the key may be on record
			failed = errors.Join(failed, undo())
		}
		return nil, head, failed
	}
	g, err := newestGeneration(ctx, e, handle)
	return g, head, err
}

// Ready has the passphrase of the adopted key chosen, before the authority is shown.
func (a Adoption) Ready(ctx context.Context, e *estate.Estate) error {
	if a.Ask.Signer == nil || len(a.Findings.Refusing()) > 0 {
		return nil
	}
	return e.Keys.ChooseAhead(ctx, a.Ask.Handle)
}

// keepAdopted keeps the key of an authority that is adopted, where it came with it, and
// returns how that is undone.
func keepAdopted(ctx context.Context, e *estate.Estate, ask AdoptAsk) (undo func() error, err error) {
	if ask.Signer == nil {
		return func() error { return nil }, nil
	}
	secret, err := e.Keys.Choose(ctx, ask.Handle)
	if err != nil {
		return nil, err
	}
	defer clear(secret)
	fresh, err := keystore.FreshOf(ask.Signer)
	if err == nil {
		err = e.Keys.Keep(fresh, secret)
	}
	if err != nil {
		return nil, fmt.Errorf("authority %s: %w", ask.Handle, err)
	}
	return func() error { return e.Keys.Remove(fresh) }, nil
}

// record records an adopted authority, all that came with it, and the entry that tells
// of it.
func (a Adoption) record(e *estate.Estate, tx store.Tx, h hierarchy.Hierarchy) ([]event.Record, error) {
	handle := a.Ask.Handle
	if err := authorities.CheckFree(tx, handle, a.Leaf); err != nil {
		return nil, err
	}
	if a.Ask.Signer != nil {
		if err := authorities.CheckKey(e, handle, a.Leaf.Key); err != nil {
			return nil, err
		}
	}
	up := importing{e: e, tx: tx, h: h, given: append(append([]*cert.Certificate{}, a.Ask.List...),
		a.Ask.Anchors...)}
	parent, issuer, err := up.above(a.Path, "")
	if err != nil {
		return nil, err
	}
	id, err := tx.AddCertificate(store.NewCertificate{Certificate: a.Leaf, Issuer: issuer,
		Waived: estate.Waived(a.Findings)})
	if err != nil {
		return nil, err
	}
	var generation int64
	if a.old == nil {
		holder := hierarchy.HeldHere
		if a.Ask.Signer == nil {
			holder = hierarchy.HeldExternally
		}
		generation, err = tx.AddAuthority(store.NewAuthority{Handle: handle, Parent: parent, Holder: holder,
			Certificate: id, Issuer: issuer})
	} else {
		generation, err = tx.AddGeneration(handle, parent, len(a.old.Generations), id, issuer, time.Time{})
	}
	if err != nil {
		return nil, err
	}
	for _, c := range a.Issued {
		if _, err := tx.AddCertificate(store.NewCertificate{Certificate: c, Issuer: generation}); err != nil {
			return nil, fmt.Errorf("%s: %w", c.Title(), err)
		}
	}
	if err := up.links(); err != nil {
		return nil, err
	}
	revoked := 0
	for _, l := range a.Lists {
		if err := addList(tx, handle, l); err != nil {
			return nil, err
		}
		revoked += l.Count
	}
	revocations, number, err := tx.RevocationsDigest(handle)
	if err != nil {
		return nil, err
	}
	sum := a.Leaf.SHA256()
	return []event.Record{event.On(handle, event.AuthorityAdopted{Certificate: fmt.Sprintf("%x", sum),
		Subject: a.Leaf.Subject.String(), KeyHere: a.Ask.Signer != nil, By: parent, Above: up.told,
		Links: estate.Hashes(up.linked), Issued: estate.Hashes(a.Issued), Revocations: revocations, ListNumber: &number,
		Revoked: revoked, NotKnown: "what else it issued and revoked, and by whom its key was held"})}, nil
}

// adoptLink records a certificate by which an authority on record vouches for
// another.
func adoptLink(ctx context.Context, e *estate.Estate, a Adoption, h hierarchy.Hierarchy) (*hierarchy.Generation,
	journal.Head,
	error) {
	head, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		up := importing{e: e, tx: tx, h: h, given: a.Ask.List}
		if err := up.links(); err != nil {
			return nil, err
		}
		return []event.Record{event.On(a.Ask.Handle, event.LinkAdopted{To: a.Link.Name(),
			Links: estate.Hashes(up.linked)})}, nil
	})
	if err != nil {
		return nil, head, fmt.Errorf("authority %s: %w", a.Ask.Handle, err)
	}
	return a.Link, head, nil
}

// addList records the entries of a revocation list of an authority.
func addList(tx store.Tx, handle string, l *revocation.List) error {
	var serials []string
	var at []time.Time
	var reasons []int
	err := l.Each(func(e revocation.Entry) error {
		if e.Reason != revocation.RemoveFromCRL && e.Issuer.IsEmpty() {
			serials, at, reasons = append(serials, e.Serial.Hex()), append(at, e.At), append(reasons, int(e.Reason))
		}
		return nil
	})
	if err != nil {
		return err
	}
	number := int64(0)
	if l.Number != nil && l.Number.IsInt64() {
		number = l.Number.Int64()
	}
	return tx.AddRevocations(handle, number, serials, at, reasons)
}
