package revoking

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"ironseal/internal/app/parties"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/distpoint"
	"ironseal/pki/ext"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/lifecycle"
	"ironseal/pki/revocation"
)

// Target is one certificate that is to be revoked, or released.
type Target struct {
	estate.CertificateRecord
	By         *hierarchy.Generation // that signed it
	Generation *hierarchy.Generation // whose certificate it is; nil where it is no authority of ours
	Was        *store.Revocation     // what is on record of it; nil for nothing
	Part       int                   // of the lists
}

// mostNamed is how many certificates a sheet is about at most.
const mostNamed = 100_000

// named finds the certificates that a person means by one name: a serial or its beginning, a
// request, a handle, a fingerprint, a name, or a file.
func named(ctx context.Context, e *estate.Estate, h hierarchy.Hierarchy, name string) (estate.CertificateRecord,
	error) {
	name = strings.TrimSpace(name)
	if c, err := inFile(name); err != nil || c != nil {
		if err != nil {
			return estate.CertificateRecord{}, err
		}
		return onRecord(ctx, e, h, c)
	}
	if h.Generation(name) != nil { // a handle comes before a name that someone chose
		found, _, err := e.FindCertificate(ctx, name)
		return found, err
	}
	if list, err := e.CertificatesNamed(ctx, name); err != nil {
		return estate.CertificateRecord{}, err
	} else if len(list) > 0 {
		return only(list, name, e)
	}
	if n, err := estate.ParseNumber(name); err == nil && strings.HasPrefix(strings.ToUpper(name), "R") {
		if list, err := e.ReadCertificates(e.Records.CertificatesByRequest(ctx, n)); err == nil && len(list) > 1 {
			return only(list, name, e)
		}
	}
	found, _, err := e.FindCertificate(ctx, name)
	return found, err
}

// only refuses a name that fits several that still hold, and lists them.
func only(list []estate.CertificateRecord, name string, e *estate.Estate) (estate.CertificateRecord, error) {
	holding := slices.DeleteFunc(slices.Clone(list), func(c estate.CertificateRecord) bool {
		return c.State == lifecycle.Expired || c.State == lifecycle.Revoked
	})
	if len(holding) == 1 || len(holding) == 0 && len(list) == 1 {
		return append(holding, list...)[0], nil
	}
	var b strings.Builder
	for _, c := range list {
		fmt.Fprintf(&b, "\n  %s  %s, until %s", c.Serial.Short(), c.State, c.NotAfter.Format("2006-01-02"))
	}
	return estate.CertificateRecord{}, fmt.Errorf("certificate %q: %d certificates have this name; say which, by "+
		"its serial:%s",
		name,
		len(list), b.String())
}

// inFile reads the certificate of a file; nil where the name is none of a file.
func inFile(name string) (*cert.Certificate, error) {
	if info, err := os.Stat(name); err != nil || info.IsDir() {
		return nil, nil
	}
	data, err := disk.Read(name, bundle.MostBytes)
	if err != nil {
		return nil, err
	}
	c, err := bundle.Read(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	for _, o := range c.Of(bundle.Certificate) { // the first is the one that is meant; what follows are its issuers
		return cert.Read(o.DER)
	}
	return nil, fmt.Errorf("%s: there is no certificate in it", name)
}

// onRecord finds a certificate that came in a file; one that is not ours is refused, and it
// is said who issued it.
func onRecord(ctx context.Context, e *estate.Estate, h hierarchy.Hierarchy,
	c *cert.Certificate) (estate.CertificateRecord, error) {
	list, err := e.ReadCertificates(e.Records.CertificatesByKey(ctx, c.Key.Fingerprint(), 1000))
	if err != nil {
		return estate.CertificateRecord{}, err
	}
	for _, records := range list {
		if bytes.Equal(records.Raw, c.Raw) {
			return records, nil
		}
	}
	for _, a := range h {
		for _, g := range a.Generations {
			if c.Issuer.Equal(g.Certificate.Subject) && c.VerifiedBy(g.Certificate.Key) == nil {
				return estate.CertificateRecord{}, fault.New(fault.NotFound, "%s, serial %s, was signed by %s, and "+
					"is not on record",
					c.Title(), c.Serial.Short(), g.Label()).
					On(fault.Certificate.Named("%s", c.SerialHex())).
					Then(advice.To("import it first", advice.AdoptAuthority, "authority", a.Handle, "issued", "FILE"))
			}
		}
	}
	return estate.CertificateRecord{}, fmt.Errorf("%s was not issued here, but by %s: only they can take it back", c.
		Title(),
		c.Issuer)
}

// errExternal says that a certificate cannot be revoked here, but where its issuer's key is.
var errExternal = errors.New("its key is in another estate")

// Find finds the one certificate that a person means, an authority's or another. A root is
// found too, and what was signed elsewhere: they cannot be revoked here, and there may be
// something to do about them.
func Find(ctx context.Context, e *estate.Estate, name string) (Target, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return Target{}, err
	}
	c, err := named(ctx, e, h, name)
	if err != nil {
		return Target{}, err
	}
	t, err := target(ctx, e, h, c)
	if errors.Is(err, errExternal) || err != nil && c.SelfIssued() && t.Generation != nil {
		err = nil
	}
	return t, err
}

// FindToEnd is Find for an act that ends something. A handle alone names no certificate there
// while several generations stand: the newest may be the healthy one.
func FindToEnd(ctx context.Context, e *estate.Estate, name string) (Target, error) {
	h, err := e.Hierarchy(ctx)
	if err == nil {
		err = oneStands(e, h, name)
	}
	if err != nil {
		return Target{}, err
	}
	return Find(ctx, e, name)
}

// eachStands refuses those of names that are the handle of an authority of which several
// generations stand.
func eachStands(ctx context.Context, e *estate.Estate, names []string) error {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return err
	}
	var faults []error
	for _, n := range names {
		faults = append(faults, oneStands(e, h, n))
	}
	return errors.Join(faults...)
}

// oneStands refuses the handle of an authority of which several generations stand.
func oneStands(e *estate.Estate, h hierarchy.Hierarchy, name string) error {
	a := h.Find(strings.TrimSpace(name))
	if a == nil {
		return nil
	}
	var stand []string
	for _, g := range a.Generations {
		if g.Revoked.IsZero() && !e.Now().After(g.Certificate.NotAfter) {
			mark := ""
			if m := g.Mark(); m != "" {
				mark = ", " + m
			}
			stand = append(stand, fmt.Sprintf("\n  %s  until %s%s", g.Name(),
				g.Certificate.NotAfter.Format("2006-01-02"),
				mark))
		}
	}
	if len(stand) < 2 {
		return nil
	}
	return fault.New(fault.Ambiguous, "authority %s: %d of its generations stand; say which:%s", a.Handle,
		len(stand), strings.Join(stand, ""))
}

// Label names a target: a generation by its name too.
func (t Target) Label() string {
	if t.Generation != nil {
		return t.Generation.Name() + ", " + t.Title()
	}
	return t.Title()
}

// Is reports whether a certificate is the target's.
func (t Target) Is(c *cert.Certificate) bool { return bytes.Equal(c.Raw, t.Raw) }

// targets finds all that is meant, each once.
func targets(ctx context.Context, e *estate.Estate, names, holders []string) ([]Target, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	var list []estate.CertificateRecord
	var faults []error
	for _, n := range names {
		c, err := named(ctx, e, h, n)
		if err != nil {
			faults = append(faults, err)
			continue
		}
		list = append(list, c)
	}
	for _, p := range holders {
		if _, err := parties.Find(ctx, e, p); err != nil {
			return nil, err
		}
		records, err := e.ReadCertificates(e.Records.CertificatesHeldBy(ctx, p))
		if err != nil {
			return nil, err
		}
		for _, c := range records {
			if c.State != lifecycle.Expired && c.State != lifecycle.Revoked && c.Record.Issuer != "" {
				list = append(list, c)
			}
		}
	}
	if len(list) > mostNamed {
		return nil, fmt.Errorf("%d certificates at once; the most is %d", len(list), mostNamed)
	}
	var out []Target
	seen := map[int64]bool{}
	for _, c := range list {
		if seen[c.Record.ID] {
			continue
		}
		seen[c.Record.ID] = true
		t, err := target(ctx, e, h, c)
		if err != nil {
			faults = append(faults, err)
			continue
		}
		out = append(out, t)
	}
	return out, together(faults)
}

// mostFaults is how many faults of one sheet are reported.
const mostFaults = 20

// together reports all faults at once, so that a long file can be corrected in one go.
func together(faults []error) error {
	if more := len(faults) - mostFaults; more > 0 {
		faults = append(faults[:mostFaults:mostFaults], fmt.Errorf("and %d more like these", more))
	}
	return errors.Join(faults...)
}

// target checks that a certificate is ours to take back.
func target(ctx context.Context, e *estate.Estate, h hierarchy.Hierarchy, c estate.CertificateRecord) (Target, error) {
	t := Target{CertificateRecord: c}
	for _, g := range estate.AllGenerations(h) {
		if t.Is(g.Certificate) {
			t.Generation = g
		}
	}
	about := fmt.Sprintf("%s, serial %s", c.Title(), c.Serial.Short())
	if c.Record.Issuer == "" {
		if c.SelfIssued() {
			return t, fault.New(fault.Refused, "%s, signs itself: no list of its own can revoke it with effect", about).
				Then(advice.To("remove it from the trust sets", advice.PlanChangeOver))
		}
		return t, fmt.Errorf("%s, was not issued here, but by %s: only they can take it back", about, c.Issuer)
	}
	if t.By = h.Generation(c.Record.Issuer); t.By == nil {
		return t, fmt.Errorf("%s: the authority %s is not on record", about, c.Record.Issuer)
	}
	if r, found, err := e.Records.RevocationOf(ctx, t.By.Authority.Handle, c.SerialHex()); err != nil {
		return t, err
	} else if found {
		t.Was = &r
	}
	if t.By.Authority.External() {
		return t, fault.New(fault.Refused, "%s, was signed by %s: %w: revoke it there", about, t.By.Authority.Handle,
			errExternal).
			Then(advice.To("then import the list here", advice.ImportLists))
	}
	t.Part = c.Record.Part
	return t, nil
}

// namesStatus reports whether a certificate names a revocation list or an OCSP responder.
func namesStatus(c *cert.Certificate) bool {
	if x, there := c.Extensions.Find(ext.CRLPoints); there {
		if points, err := distpoint.Read(x.Value, c.Issuer); err == nil && len(points) > 0 {
			return true
		}
	}
	x, there := c.Extensions.Find(ext.InfoAccess)
	return there && len(distpoint.Responders(x.Value)) > 0
}

// PartOf is the part of its issuer's lists that a certificate is on, by the addresses in
// it; 0 where it names none.
func PartOf(c *cert.Certificate, by *hierarchy.Generation) int {
	x, there := c.Extensions.Find(ext.CRLPoints)
	if !there || by == nil {
		return 0
	}
	points, err := distpoint.Read(x.Value, c.Issuer)
	if err != nil {
		return 0
	}
	for _, p := range points {
		for _, u := range distpoint.Addresses(p.Names) {
			if n := revocation.PartAt(u, by.ListName()); n > 0 {
				return n
			}
		}
	}
	return 0
}
