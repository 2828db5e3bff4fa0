package estate

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/label"
	"ironseal/pki/lifecycle"
	"ironseal/pki/strict"
)

// Filter says which certificates are meant; an empty field matches any.
type Filter struct {
	Text     string          // part of a title or of a name
	State    lifecycle.State // "" for those that serve
	Template string
	By       string // a handle, HANDLE.gN, ItselfSigned or OutsideSigned
	HeldBy   string // who sent the request, or was handed the certificate
	Key      string // first digits of the SHA-256 of the public key, in hex

	After int64 // behind this certificate in the list, by its place on record
	Count int   // at most so many; 0 for all
	Names bool  // the alternative names are needed

	EndsFrom, EndsBefore     time.Time
	SignedFrom, SignedBefore time.Time
}

// ends reports whether a certificate ends when it is meant to.
func (w Filter) ends(at time.Time) bool {
	return (w.EndsFrom.IsZero() || !at.Before(w.EndsFrom)) && (w.EndsBefore.IsZero() || at.Before(w.EndsBefore))
}

// fits reports whether a certificate has the key that is meant, and was signed when it is meant to be.
func (w Filter) fits(h CertificateRecord) bool {
	return strings.HasPrefix(fmt.Sprintf("%x", h.Key.Fingerprint()), w.Key) &&
		(w.SignedFrom.IsZero() || !h.NotBefore.Before(w.SignedFrom)) &&
		(w.SignedBefore.IsZero() || h.NotBefore.Before(w.SignedBefore))
}

// EachCertificate calls fn for the certificates that are meant, soonest end first, and
// counts those that would be as well, but for their state, by state. Those of keys that the machine made for
// one use are left out, unless their template or any state is asked for. No more than a page is in memory.
func (e *Estate) EachCertificate(ctx context.Context, w Filter,
	fn func(CertificateRecord) error) (others map[lifecycle.State]int,
	err error) {
	s := searching{e: e, w: w, fn: fn, others: map[lifecycle.State]int{}}
	if s.down, err = e.RevokedGenerations(ctx); err != nil {
		return nil, err
	}
	if w.HeldBy != "" {
		list, err := e.Records.CertificatesHeldBy(ctx, w.HeldBy)
		if err != nil {
			return nil, err
		}
		s.byHolder = map[int64]bool{}
		for _, r := range list {
			s.byHolder[r.ID] = true
		}
	}
	err = e.Records.EachCertificate(ctx, w.Text, s.record)
	if err == nil {
		err = s.flush()
	}
	return s.others, err
}

// searching is a search under way: what the record tells is judged row by row, the rest a page at a time.
type searching struct {
	e        *Estate
	w        Filter
	fn       func(CertificateRecord) error
	down     RevokedGenerations
	byHolder map[int64]bool // nil where any holder will do
	page     []store.Certificate
	others   map[lifecycle.State]int
}

func (s *searching) record(r store.Certificate) error {
	w, state := s.w, s.e.stateOf(r, s.down)
	handle, _, _ := strings.Cut(r.Issuer, ".")
	switch {
	case s.byHolder != nil && !s.byHolder[r.ID], !w.ends(r.Until), w.Template != "" && w.Template != r.Template,
		w.By != "" && r.Issuer != "" && r.Issuer != w.By && handle != w.By:
		return nil
	case w.State != lifecycle.AnyState && w.State != state && (w.State != "" || !state.Serves()):
		if r.Request != 0 || r.Template == "" { // not one for one use
			s.others[state]++
		}
		return nil
	}
	if s.page = append(s.page, r); len(s.page) < 512 {
		return nil
	}
	return s.flush()
}

// flush reads a page of certificates, and hands on those that are meant.
func (s *searching) flush() error {
	read, faults := make([]CertificateRecord, len(s.page)), make([]error, len(s.page))
	OnAllCores(len(s.page), func(i int) { read[i], faults[i] = s.e.read(s.page[i], s.down) })
	s.page = s.page[:0]
	for i, h := range read {
		if faults[i] != nil {
			return faults[i]
		}
		if !s.means(h) {
			continue
		}
		if err := s.fn(h); err != nil {
			return err
		}
	}
	return nil
}

func (s *searching) means(h CertificateRecord) bool {
	signer := ""
	if s.w.By != "" {
		signer = h.Signer()
	}
	handle, _, _ := strings.Cut(signer, ".")
	return (signer == s.w.By || handle == s.w.By) && s.w.fits(h) &&
		(s.w.Template != "" || s.w.State == lifecycle.AnyState || !h.OneUse())
}

// EachCertificateLine is EachCertificate for lines: nothing is parsed. fn must not keep the line.
func (e *Estate) EachCertificateLine(ctx context.Context, w Filter, fn func(*CertificateLine) error) (
	others map[lifecycle.State]int, err error) {
	held := map[int64]bool{}
	if w.HeldBy != "" {
		list, err := e.Records.CertificatesHeldBy(ctx, w.HeldBy)
		if err != nil {
			return nil, err
		}
		for _, r := range list {
			held[r.ID] = true
		}
	}
	others = map[lifecycle.State]int{}
	left := w.Count
	err = e.EachLine(ctx, store.LineAsk{Text: w.Text, Key: w.Key, After: w.After,
		Names: w.Names}, func(l *CertificateLine) error {
		handle, _, _ := strings.Cut(l.Issuer, ".")
		signer := l.Signer()
		switch {
		case w.HeldBy != "" && !held[l.ID], !w.ends(l.Until), w.Template != "" && w.Template != l.Template,
			w.By != "" && signer != w.By && (l.Issuer == "" || handle != w.By),
			!w.SignedFrom.IsZero() && l.NotBefore.Before(w.SignedFrom),
			!w.SignedBefore.IsZero() && !l.NotBefore.Before(w.SignedBefore):
			return nil
		case w.State != lifecycle.AnyState && w.State != l.State && (w.State != "" || !l.State.Serves()):
			if l.Request != 0 || l.Template == "" { // not one for one use
				others[l.State]++
			}
			return nil
		case w.Template == "" && w.State != lifecycle.AnyState && l.OneUse():
			return nil
		}
		if err := fn(l); err != nil {
			return err
		}
		if left--; left == 0 {
			return errFound
		}
		return nil
	})
	if errors.Is(err, errFound) && w.Count > 0 {
		return nil, nil // how many others there are is not known
	}
	return others, err
}

// CertificatesNamed are those with an alternative name, or else those with a title as the list shows it.
func (e *Estate) CertificatesNamed(ctx context.Context, name string) ([]CertificateRecord, error) {
	list, err := e.ReadCertificates(e.Records.CertificatesByName(ctx, strings.TrimPrefix(name, "dns:")))
	if err != nil || len(list) > 0 {
		return list, err
	}
	return e.ReadCertificates(e.Records.CertificatesByTitle(ctx, name))
}

func (e *Estate) findBySerial(ctx context.Context, name string) (CertificateRecord, string, error) {
	none := e.noCertificate(ctx, name)
	sign := ""
	if strings.HasPrefix(name, "-") { // a serial number below zero, as some have
		sign = "-"
	}
	digits, odd := label.Digits(name)
	if digits == "" || odd != 0 {
		return CertificateRecord{}, "", none
	}
	if n := len(digits); n == 40 || n == 64 {
		if found, err := e.byThumbprint(ctx, digits); err != nil || found.Certificate != nil {
			return found, "", err
		}
	}
	digits = sign + digits
	list, err := e.ReadCertificates(e.Records.CertificatesBySerial(ctx, digits))
	switch {
	case err != nil:
		return CertificateRecord{}, "", err
	case len(list) == 0:
		return CertificateRecord{}, "", none
	case len(list) > 1:
		return CertificateRecord{}, "", fmt.Errorf("certificate %q: the serials of %d certificates begin so: give "+
			"more digits", name,
			len(list))
	}
	return list[0], "", nil
}

// noCertificate says that nothing has this name, and which name is near.
func (e *Estate) noCertificate(ctx context.Context, name string) error {
	var titles []string
	const most = 2000 // beyond it the search would take longer than the person does
	_, err := e.EachCertificateLine(ctx, Filter{}, func(l *CertificateLine) error {
		if titles = append(titles, strings.ToLower(l.Title)); len(titles) > most {
			return errFound
		}
		return nil
	})
	hint := ""
	if near := strict.Near(name, titles, 2); err == nil && near != "" {
		hint = fmt.Sprintf(": did you mean %q?", near)
	}
	return fault.New(fault.NotFound, "no certificate matches %q%s", name, hint).On(fault.Certificate.Named("%s", name)).
		Then(advice.To("see them", advice.ListCertificates))
}

// errFound ends a search.
var errFound = errors.New("found")

// byThumbprint finds a certificate by its SHA-1 or SHA-256, in hex; nothing where none has it. SHA-1 is for
// looking up only.
func (e *Estate) byThumbprint(ctx context.Context, digits string) (found CertificateRecord, err error) {
	var down RevokedGenerations
	if down, err = e.RevokedGenerations(ctx); err != nil {
		return found, err
	}
	err = e.Records.EachCertificate(ctx, "", func(r store.Certificate) error {
		sha256, sha1 := cert.Thumbprints(r.DER)
		if fmt.Sprintf("%x", sha256) != digits && fmt.Sprintf("%x", sha1) != digits {
			return nil
		}
		if found, err = e.read(r, down); err != nil {
			return err
		}
		return errFound
	})
	if errors.Is(err, errFound) {
		err = nil
	}
	return found, err
}
