package status

import (
	"bytes"
	"fmt"
	"slices"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/distpoint"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/key"
	"ironseal/pki/path"
	"ironseal/pki/revocation"
)

// looking is the state of one look through lists (RFC 5280 section 6.3.2).
type looking struct {
	*Judge
	c        *cert.Certificate
	line     []*cert.Certificate
	covered  distpoint.Reasons
	out      Status
	rejected map[*revocation.List]bool
	unread   string // why the distribution points of the certificate cannot be read; "" where they can
}

func (j *Judge) byLists(c *cert.Certificate, line []*cert.Certificate) Status {
	l := &looking{Judge: j, c: c, line: line, out: Status{State: Unknown}, rejected: map[*revocation.List]bool{}}
	implicit := distpoint.Point{Names: []distpoint.Name{{Directory: c.Issuer}}, Reasons: distpoint.AllReasons}
	var points []distpoint.Point
	if x, there := c.Extensions.Find(ext.CRLPoints); there {
		var err error
		if points, err = distpoint.Read(x.Value, c.Issuer); err != nil {
			l.unread = err.Error()
			l.out.Rejected = append(l.out.Rejected, l.unread)
		}
	}
	for _, one := range append(points, implicit) {
		p := asked{one, distpoint.NamesOf(one.Names)}
		if len(one.Names) == 0 {
			p.names = distpoint.NamesOf(one.Issuers)
		}
		for _, list := range j.Lists {
			if l.covered == distpoint.AllReasons || l.out.State == Revoked || l.out.State == OnHold {
				break
			}
			if list.Base == nil {
				l.ask(p, list)
			}
		}
	}
	switch {
	case l.out.State != Good:
	case l.unread != "": // it is unknown whether they are the lists that the certificate names
		l.out.State = Unknown
	case l.covered != distpoint.AllReasons:
		l.out.State = Unknown
		l.out.Rejected = append(l.out.Rejected, "the lists that were given tell for some reasons only")
	}
	return l.out
}

// asked is a point that lists are compared with, with the names that it goes by.
type asked struct {
	distpoint.Point
	names distpoint.Names
}

// ask asks one complete list, with its delta where there is one (section 6.3.3).
func (l *looking) ask(p asked, list *revocation.List) {
	if !l.about(p, list) {
		return
	}
	interim := p.Reasons
	if list.Scoped {
		interim &= list.Scope.Reasons
	}
	if interim&^l.covered == 0 {
		return
	}
	signer, why := l.signer(list)
	if why == "" {
		why = l.fresh(list)
	}
	if why != "" {
		l.reject(list, why)
		return
	}
	by := words(list)
	e, found := revocation.Entry{}, false
	until := list.NextUpdate
	if d := l.delta(list, signer); d != nil {
		by += ", with its delta"
		until = d.NextUpdate
		if e, found = d.Find(l.c.Serial, l.c.Issuer); found && e.Reason == revocation.RemoveFromCRL {
			l.pass(interim, by, until)
			return
		}
	}
	if !found {
		e, found = list.Find(l.c.Serial, l.c.Issuer)
	}
	if found && e.Reason != revocation.RemoveFromCRL {
		l.out.State, l.out.Reason, l.out.At, l.out.By, l.out.Until = stateOf(e.Reason), e.Reason, e.At, by, until
		return
	}
	l.pass(interim, by, until)
}

// fresh says why a list is not to be believed today, or "". One that is dated within the
// difference of clocks is taken; one that is stale is stale. One that does not say until when it
// holds could be of any age (RFC 5280 section 5.1.2.5 demands that it does).
func (l *looking) fresh(list *revocation.List) string {
	if list.NextUpdate.IsZero() {
		return "it does not say when the next one is due, so it is unknown whether it is still valid"
	}
	why := list.Fresh(l.q.Now)
	if why != "" && list.Fresh(l.q.Now.Add(l.Late)) == "" {
		return ""
	}
	return why
}

func (l *looking) pass(reasons distpoint.Reasons, by string, until time.Time) {
	l.covered |= reasons
	l.out.State, l.out.By = Good, by
	if l.out.Until.IsZero() || until.Before(l.out.Until) {
		l.out.Until = until
	}
}

func words(l *revocation.List) string {
	number := ""
	if l.Number != nil {
		number = " " + l.Number.String()
	}
	return fmt.Sprintf("the list%s of %s of %s", number, common(l.Issuer), l.ThisUpdate.Format("2006-01-02 15:04 UTC"))
}

func common(n dn.Name) string {
	if cn := n.CommonName(); cn != "" {
		return cn
	}
	return n.String()
}

func (l *looking) reject(list *revocation.List, why string) {
	if !l.rejected[list] {
		l.rejected[list] = true
		l.out.Rejected = append(l.out.Rejected, words(list)+": "+why)
	}
}

// about reports whether a list speaks for a point of the certificate (section 6.3.3 b).
func (l *looking) about(p asked, list *revocation.List) bool {
	if len(p.Issuers) > 0 {
		if !list.Scope.Indirect || !slices.ContainsFunc(p.Issuers, distpoint.Name{Directory: list.Issuer}.Same) {
			return false
		}
	} else if !list.Issuer.Equal(l.c.Issuer) {
		return false
	}
	s := list.Scope
	if list.Scoped && (s.OnlyAttributes || s.OnlyUsers && l.c.IsAuthority() || s.OnlyAuthorities &&
		!l.c.IsAuthority()) {
		return false
	}
	if len(s.Names) == 0 {
		return true
	}
	scope, known := l.scopes[list]
	if !known {
		scope = distpoint.NamesOf(s.Names)
		l.scopes[list] = scope
	}
	return scope.Meets(p.names)
}

// delta finds the newest delta that may be used with a list (section 6.3.3 c).
func (l *looking) delta(list *revocation.List, signer *cert.Certificate) *revocation.List {
	if list.Number == nil {
		return nil
	}
	for _, d := range l.Lists {
		if d.Base == nil || d.Number == nil || !d.SameScope(list) || d.Base.Cmp(list.Number) > 0 ||
			d.Number.Cmp(list.Number) <= 0 {
			continue
		}
		why := l.fresh(d)
		if why == "" && !l.verified(d, signer) {
			why = "it was not signed by the key of the list that it adds to"
		}
		if why == "" {
			return d
		}
		l.reject(d, why)
	}
	return nil
}

// signer finds whose key signed a list, and whether it may (section 6.3.3 f and g); else
// why not.
func (l *looking) signer(list *revocation.List) (*cert.Certificate, string) {
	if list.Weak() {
		return nil, "it is signed with a hash that can be forged"
	}
	why := "it was not signed by " + common(list.Issuer) + ", or by a key of it that is not known"
	for i, group := range [][]*cert.Certificate{l.line[1:], l.Signers} {
		for _, c := range group {
			if !c.Subject.Equal(list.Issuer) || !l.verified(list, c) {
				continue
			}
			if c.HasUsage && c.Usage&ext.CRLSign == 0 {
				why = c.Title() + " signed it, and its key usage is only " + c.Usage.String()
				continue
			}
			if i == 0 || containsCert(l.line[1:], c) {
				return c, ""
			}
			if not := l.mayNot(c); not != "" {
				why = not
				continue
			}
			return c, ""
		}
	}
	return nil, why
}

func containsCert(list []*cert.Certificate, c *cert.Certificate) bool {
	return slices.ContainsFunc(list, func(o *cert.Certificate) bool { return bytes.Equal(o.Raw, c.Raw) })
}

// mayNot says why a signer that is no part of the chain may not sign its lists, or "". A name
// alone gives no one that right: any authority below the same anchor could give it away. The
// certificate must say so itself, it must be valid below the anchor of this chain, and the
// authority whose certificates the list tells of, or the one above it, must have issued it.
func (l *looking) mayNot(c *cert.Certificate) string {
	if !c.HasUsage || c.Usage&ext.CRLSign == 0 {
		return c.Title() + " signed it, is no part of this chain, and its key usage does not name the signing of lists"
	}
	anchor := l.line[len(l.line)-1]
	k := trustedKey{c.SHA256(), anchor.SHA256(), l.line[1].SHA256()}
	if why, known := l.trusted[k]; known {
		return why
	}
	q := path.Question{Anchors: []*cert.Certificate{anchor}, Now: l.q.Now, Proofs: l.q.Proofs, Status: l.askSigner}
	v := path.Verify(c, append(slices.Clone(l.line), l.Signers...), q)
	why := ""
	switch {
	case !v.Valid:
		why = c.Title() + " signed it, and is not trusted by the anchor of this chain"
	case !l.appointed(v):
		why = c.Title() + " signed it, and was issued neither by " + l.line[1].Title() + " nor by the authority " +
			"above it"
	}
	if len(l.busy) <= 1 {
		l.trusted[k] = why
	}
	return why
}

// askSigner is Ask for the signer of a list. Lists of a key of their own tell of that key's
// certificate themselves: that circle is how RFC 5280 section 6.3.3 f is meant.
func (l *looking) askSigner(line []*cert.Certificate) (finding.List, string) {
	s := l.Of(line)
	if s.circular {
		return nil, s.Words(l.q.Now)
	}
	return l.findings(line, s), s.Words(l.q.Now)
}

// appointed reports whether the signer of a list, which a chain leads to, was issued by the
// authority that the list is about or by the one above. Either may have another key by now: a
// certificate that it gave itself counts as its own.
func (l *looking) appointed(v path.Verdict) bool {
	may := l.line[1:min(3, len(l.line))]
	for _, st := range v.Steps[1:] {
		c := st.Certificate
		for _, a := range may {
			if c.Subject.Equal(a.Subject) && key.Same(c.Key, a.Key) {
				return true
			}
		}
		if !c.SelfIssued() {
			return false
		}
	}
	return false
}
