package signing

import (
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/request"
	"ironseal/pki/san"
)

// nameLive tells of names that another certificate serves already, for another key: since when, and who has
// it. Where someone else sent that request it needs a waiver: one of the two may not be who they say.
func (p *Planning) nameLive(ctx context.Context, e *estate.Estate, s *Sheet, replaces int64) (finding.List, error) {
	list, err := p.serving(ctx, e, values(s.Plan.Names), s.Request.Key.Fingerprint(), replaces)
	if err != nil {
		return nil, err
	}
	var out finding.List
	for _, l := range store.OnePerCertificate(list) {
		serial := cert.ShortSerial(l.Serial)
		who := "an unknown sender"
		if l.Sender != "" {
			who = l.Sender
		}
		code := finding.NameLive
		if l.Sender != "" && s.Record.Sender != "" && !strings.EqualFold(l.Sender, s.Record.Sender) {
			code = finding.NameOfOther
		}
		out = append(out, finding.New(code, "%s has a valid certificate for another key: serial %s, since %s, sent "+
			"by %s.",
			l.Name, serial, l.NotBefore.Format("2006-01-02"), who).
			WithNext(advice.To("if it takes its place", advice.RenewCertificate, "certificate", serial,
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
// that are signed by the same act are on the same sheet. All names are asked for by few questions: others wait.
func stillAlone(ctx context.Context, e *estate.Estate, tx store.Tx, list []SignResult) error {
	behind := int64(math.MaxInt64)
	asked := map[string]bool{}
	for _, r := range list {
		behind = min(behind, r.Sheet.newest)
		for _, n := range values(r.Certificate.Names) {
			asked[n] = true
		}
	}
	came, all, err := tx.Reads().ServingOfNames(ctx, slices.Sorted(maps.Keys(asked)), e.Now(), behind)
	if err == nil && !all {
		err = fault.New(fault.Changed, "the record changed while the sheet was on screen: very many certificates for "+
			"these names were signed")
	}
	if err != nil || len(came) == 0 {
		return err
	}
	by := servedBy(came)
	for _, r := range list {
		for _, l := range theirs(by, values(r.Certificate.Names), r.Certificate.Key.Fingerprint(), r.Sheet.Replaces) {
			if l.ID > r.Sheet.newest && !r.Sheet.together[l.Request] {
				return fault.New(fault.Changed, "the record changed while the sheet was on screen: another "+
					"certificate for %s was signed", l.Name)
			}
		}
	}
	return nil
}

// servedBy are certificates by the names that they serve.
func servedBy(list []store.ServingCertificate) map[string][]store.ServingCertificate {
	out := map[string][]store.ServingCertificate{}
	for _, l := range list {
		out[l.Name] = append(out[l.Name], l)
	}
	return out
}

// theirs are those of some names that are for another key, and are not the one that is replaced.
func theirs(by map[string][]store.ServingCertificate, names []string, key [32]byte,
	but int64) (out []store.ServingCertificate) {
	for _, n := range names {
		for _, l := range by[n] {
			if l.Key != key && l.ID != but {
				out = append(out, l)
			}
		}
	}
	return out
}

// ahead asks what serves the names of several requests, at once. What was asked is forgotten by done.
func (p *Planning) ahead(ctx context.Context, e *estate.Estate, list []*request.Request) (done func(), err error) {
	asked := map[string]bool{}
	for _, r := range list {
		if r == nil {
			continue
		}
		for _, n := range values(r.Names) {
			asked[n] = true
		}
	}
	names := slices.Sorted(maps.Keys(asked))
	p.asking.Lock()
	defer p.asking.Unlock()
	served, all, err := e.Records.ServingOfNames(ctx, names, p.now, 0)
	if err != nil || !all { // then each is asked alone
		return func() {}, err
	}
	by := servedBy(served)
	for _, n := range names {
		p.served[n] = by[n]
	}
	return func() {
		p.asking.Lock()
		defer p.asking.Unlock()
		for _, n := range names {
			delete(p.served, n)
		}
	}, nil
}

// serving are the certificates that serve names for another key, as they were asked ahead, or are asked now.
func (p *Planning) serving(ctx context.Context, e *estate.Estate, names []string, key [32]byte,
	but int64) ([]store.ServingCertificate, error) {
	p.asking.Lock()
	defer p.asking.Unlock()
	for _, n := range names {
		if _, known := p.served[n]; !known {
			return e.Records.ServingByNames(ctx, names, key, p.now, but)
		}
	}
	return theirs(p.served, names, key, but), nil
}
