package renewal

import (
	"errors"
	"fmt"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/key"
	"ironseal/pki/span"
)

// Links drafts the two certificates that join an old root and a new one with
// another key (RFC 4210 section 4.4): the new key certified by the old root, for
// clients that hold only the old one, and the old key certified by the new root,
// for clients that hold only the new one. Neither outlives either root. The
// serials are left to the caller.
func Links(old, renewed *cert.Certificate, now time.Time, earlier time.Duration) (newByOld, oldByNew cert.Draft,
	err error) {
	switch {
	case !old.Subject.Equal(renewed.Subject):
		return newByOld, oldByNew, fmt.Errorf("links: the roots have different names, %s and %s", old.Subject,
			renewed.Subject)
	case key.Same(old.Key, renewed.Key):
		return newByOld, oldByNew, errors.New("links: both roots have one key, so that each serves the other's " +
			"chains already")
	}
	until := old.NotAfter
	if renewed.NotAfter.Before(until) {
		until = renewed.NotAfter
	}
	from := now.UTC().Truncate(time.Second).Add(-earlier)
	for _, c := range []*cert.Certificate{old, renewed} {
		if c.NotBefore.After(from) {
			from = c.NotBefore
		}
	}
	link := func(of, by *cert.Certificate) cert.Draft {
		d := cert.Draft{Issuer: by.Subject, Subject: of.Subject, NotBefore: from, NotAfter: until, SPKI: of.Key.SPKI}
		d.Extensions = append(d.Extensions, of.Basic.Extension(), of.Usage.Extension(), ext.KeyID(keyID(of)),
			ext.AuthorityKey(keyID(by)))
		if e, ok := of.Extensions.Find(ext.NameConstraintID); ok {
			d.Extensions = append(d.Extensions, e)
		}
		return d
	}
	return link(renewed, old), link(old, renewed), nil
}

func keyID(c *cert.Certificate) []byte {
	if c.SubjectKey != nil {
		return c.SubjectKey
	}
	return c.Key.Identifier()
}

// LinkFindings says where links would not help: some clients count a
// self-issued certificate against a path length, though RFC 5280 section 4.2.1.9
// says not to.
func LinkFindings(h hierarchy.Hierarchy, old *hierarchy.Generation) finding.List {
	n, depth := old.Certificate.Basic.PathLength, h.Depth(old.Authority)
	if n < 0 || depth+1 <= n {
		return nil
	}
	return finding.List{finding.New(finding.LinkCounted,
		"%s allows %s below it; there are %d, and clients that count the link as one more refuse the chain.",
		old.Label(), span.Count(n, "level"), depth)}
}
