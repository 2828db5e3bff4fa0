package intake

import (
	"context"

	"ironseal/internal/estate"
	"ironseal/pki/advice"
	"ironseal/pki/finding"
	"ironseal/pki/request"
)

// Related says what the records know about a request: whether it renews a
// certificate, and whether its key was seen elsewhere.
func Related(ctx context.Context, e *estate.Estate, r *request.Request) (finding.List, error) {
	var out finding.List
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	if a := h.KeyTaken(r.Key); a != nil {
		return finding.List{finding.New(finding.AuthorityKey, "The key is the key of the authority %s.", a.Handle)}, nil
	}
	list, err := e.ReadCertificates(e.Records.CertificatesByKey(ctx, r.Key.Fingerprint(), 10))
	if err != nil {
		return nil, err
	}
	for _, c := range list {
		if c.Subject.Equal(r.Subject) {
			return append(out, finding.New(finding.Renews,
				"It has the same key as the certificate %s of %s, which ends on %s.", c.Serial.Short(), c.Title(),
				c.NotAfter.Format("2006-01-02"))), nil
		}
	}
	if len(list) > 0 {
		return append(out, finding.New(finding.KeyReused, "The key was seen before, for %s (certificate %s).",
			list[0].Subject, list[0].Serial.Short())), nil
	}
	for _, n := range r.Names {
		same, err := e.ReadCertificates(e.Records.CertificatesByName(ctx, n.Fresh().Value()))
		if err != nil {
			return nil, err
		}
		if len(same) > 0 {
			c := same[len(same)-1]
			return append(out, finding.New(finding.Renews,
				"%s is in the certificate %s already, which ends on %s; this is a new key for it.", n.Value(),
				c.Serial.Short(), c.NotAfter.Format("2006-01-02")).
				WithNext(advice.To("see how the two differ", advice.CompareCertificate, "certificate", c.Serial.
					Short()))), nil
		}
	}
	return out, nil
}
