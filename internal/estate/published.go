package estate

import (
	"ironseal/pki/hierarchy"
	"ironseal/pki/revocation"
	"ironseal/pki/template"
)

// Published are the addresses that what a generation signs names, by the settings: of the
// list, or of the part of it, that the certificate will be on, of the issuer's certificate,
// and of the OCSP responder. A rehearsal names none: clients must not ask there.
func (e *Estate) Published(g *hierarchy.Generation, part int) template.Publish {
	p := e.Settings.Publication
	var out template.Publish
	if g == nil || e.Rehearsal {
		return out
	}
	if p.Address != "" {
		out.Lists = []string{revocation.Address(p.Address, revocation.ListFile(g.ListName(), part))}
		out.Issuers = []string{revocation.Address(p.Address, revocation.IssuerFile(g.Name()))}
	}
	if p.OCSP != "" {
		out.OCSP = []string{p.OCSP}
	}
	return out
}

// NextPart is the part of its issuer's lists that the n-th certificate of an issuer is on;
// 0 where lists have no parts.
func (e *Estate) NextPart(n int) int {
	if p := e.Settings.Publication; p.PartSize > 0 && p.Address != "" && !e.Rehearsal {
		return n/p.PartSize + 1
	}
	return 0
}
