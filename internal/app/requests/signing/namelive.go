package signing

import (
	"context"
	"fmt"
	"strings"

	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/san"
)

// nameLive tells of names that another certificate serves already, for another key: since when, and who has
// it. Where somebody else sent that request it needs a waiver: one of the two may not be who they say.
func (p *Planning) nameLive(ctx context.Context, e *estate.Estate, s *Sheet, replaces int64) (finding.List, error) {
	p.asking.Lock()
	list, err := e.Records.ServingByNames(ctx, values(s.Plan.Names), s.Request.Key.Fingerprint(), p.now, replaces)
	p.asking.Unlock()
	if err != nil {
		return nil, err
	}
	var out finding.List
	for _, l := range list {
		c, err := cert.Read(l.DER)
		if err != nil {
			return nil, fmt.Errorf("certificate %s on record cannot be parsed: %w", l.Title, err)
		}
		who := "nobody that is known"
		if l.Sender != "" {
			who = l.Sender
		}
		code := finding.NameLive
		if l.Sender != "" && s.Record.Sender != "" && !strings.EqualFold(l.Sender, s.Record.Sender) {
			code = finding.NameOfOther
		}
		out = append(out, finding.New(code, "%s has a valid certificate for another key: serial %s, since %s, sent "+
			"by %s.",
			l.Name, c.Serial.Short(), c.NotBefore.Format("2006-01-02"), who).
			WithNext(advice.To("if it takes its place", advice.RenewCertificate, "certificate", c.Serial.Short(),
				"request",
				fmt.Sprintf("R%d", s.Record.Number))))
	}
	return out, nil
}

// values are the names of hosts, addresses and people.
func values(names []san.Name) (out []string) {
	for _, n := range names {
		out = append(out, strings.ToLower(n.Value()))
	}
	return out
}

// stillAlone asks again, inside the act, whether another certificate for one of the names came meanwhile. Those
// that are signed by the same act are on the same sheet.
func stillAlone(ctx context.Context, e *estate.Estate, tx store.Tx, list []SignResult) error {
	for _, r := range list {
		now, err := tx.Reads().ServingByNames(ctx, values(r.Certificate.Names), r.Certificate.Key.Fingerprint(), e.
			Now(),
			r.Sheet.Replaces)
		if err != nil {
			return err
		}
		for _, l := range now {
			if l.ID > r.Sheet.newest && !r.Sheet.together[l.Request] {
				return fault.New(fault.Changed, "the record changed while the sheet was on screen: another "+
					"certificate for %s was signed", l.Name)
			}
		}
	}
	return nil
}
