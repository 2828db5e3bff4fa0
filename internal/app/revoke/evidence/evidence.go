// Package evidence gathers evidence of certificates' revocation status: what was given, what
// the estate published, and the answers of the addresses in the certificates. Whether any of
// it is believed is decided in pki/status.
package evidence

import (
	"context"
	"crypto"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/estate"
	"ironseal/internal/fetch"
	"ironseal/pki/cert"
	"ironseal/pki/distpoint"
	"ironseal/pki/ext"
	"ironseal/pki/fault"
	"ironseal/pki/ocsp"
	"ironseal/pki/revocation"
	"ironseal/pki/status"
)

// Ask says where to look.
type Ask struct {
	Fetch  bool        // at the addresses in the certificates
	Rules  fetch.Rules // by which it is fetched
	Random io.Reader   // for nonces
	Cache  *Cache      // what was fetched before, by many questions; nil to fetch everything again
}

// Cache remembers the lists that were fetched, within one run. It is safe for several at once.
type Cache struct {
	flights singleflight.Group
	mu      sync.Mutex
	lists   map[string]fetched
	size    int64 // octets of all lists
}

// mostSeen bounds the octets of all lists of one run: strangers name their addresses.
const mostSeen = 512 << 20

// fetched is the answer of an address: a list, or why it gave none.
type fetched struct {
	list *revocation.List
	err  error
}

// get fetches a list, once: many endpoints name the same one. Whoever asks for another address is not
// held up by one that is slow.
func (s *Cache) get(ctx context.Context, address string, r fetch.Rules) (*revocation.List, error) {
	if s == nil {
		return getList(ctx, address, r)
	}
	if f, known := s.known(address); known {
		return f.list, f.err
	}
	flight := s.flights.DoChan(address, func() (any, error) {
		if f, known := s.known(address); known { // another flight has just landed
			return f.list, f.err
		}
		list, err := getList(ctx, address, r)
		s.keep(address, fetched{list, err})
		return list, err
	})
	select {
	case done := <-flight:
		list, _ := done.Val.(*revocation.List)
		return list, done.Err
	case <-ctx.Done():
		return nil, fmt.Errorf("%q: %w", address, ctx.Err())
	}
}

// known is what came from an address before. An address that was not asked is refused once too much was fetched.
func (s *Cache) known(address string) (fetched, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f, known := s.lists[address]
	if !known && s.size > mostSeen {
		return fetched{err: fault.New(fault.Unavailable, "%q: more than %d MB of lists were fetched: look at fewer "+
			"endpoints at once", address, mostSeen>>20)}, true
	}
	return f, known
}

func (s *Cache) keep(address string, f fetched) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.lists == nil {
		s.lists = map[string]fetched{}
	}
	s.lists[address] = f
	if f.err == nil {
		s.size += int64(len(f.list.Raw))
	}
}

func getList(ctx context.Context, address string, r fetch.Rules) (*revocation.List, error) {
	data, err := fetch.Get(ctx, address, r)
	if err != nil {
		return nil, err
	}
	l, err := revocation.ReadList(data)
	if err != nil {
		return nil, fmt.Errorf("%q: %w", address, err)
	}
	return l, nil
}

// Add joins what was found elsewhere.
func (g *Gathered) Add(o Gathered) {
	g.Lists, g.Answers = append(g.Lists, o.Lists...), append(g.Answers, o.Answers...)
	g.Signers, g.From, g.Failed = append(g.Signers, o.Signers...), append(g.From, o.From...), append(g.Failed,
		o.Failed...)
}

// Gathered is what was found, and what was not.
type Gathered struct {
	status.Evidence
	From   []string // where it came from, in words
	Failed []error  // addresses from which nothing came, each with why
}

// mostAddresses bounds how many addresses are asked for one question, those of delta lists among
// them; mostWait bounds how long all of them may take.
const (
	mostAddresses = 64
	mostWait      = 60 * time.Second
)

// asking is one look for evidence, with what it has asked.
type asking struct {
	*Gathered
	Ask
	asked map[string]bool
}

// first reports whether an address is asked for the first time, and may be.
func (a *asking) first(what string) bool {
	if a.asked[what] || len(a.asked) >= mostAddresses {
		return false
	}
	a.asked[what] = true
	return true
}

// Gather looks for what tells of certificates, which may be issuers of each other.
func Gather(ctx context.Context, list []*cert.Certificate, ask Ask) Gathered {
	var g Gathered
	if !ask.Fetch {
		return g
	}
	ctx, cancel := context.WithTimeout(ctx, mostWait)
	defer cancel()
	a := asking{&g, ask, map[string]bool{}}
	for _, c := range list {
		if c.SelfSigned() {
			continue
		}
		issuer := issuerAmong(list, c)
		for _, u := range ListAddresses(c) {
			if a.first(u) {
				a.list(ctx, u, issuer)
			}
		}
		for _, u := range ResponderAddresses(c) {
			if issuer != nil && a.first(u+" "+c.SerialHex()) {
				g.answer(ctx, u, issuer, c, ask)
			}
		}
	}
	return g
}

func issuerAmong(list []*cert.Certificate, c *cert.Certificate) *cert.Certificate {
	for _, o := range list {
		if o.Subject.Equal(c.Issuer) && c.VerifiedBy(o.Key) == nil {
			return o
		}
	}
	return nil
}

// ListAddresses are the plain http addresses of lists in a certificate, those of deltas too.
func ListAddresses(c *cert.Certificate) (out []string) {
	for _, x := range c.Extensions {
		if !x.ID.Equal(ext.CRLPoints) && !x.ID.Equal(ext.FreshestID) {
			continue
		}
		points, err := distpoint.Read(x.Value, c.Issuer)
		if err != nil {
			continue
		}
		for _, p := range points {
			for _, u := range distpoint.Addresses(p.Names) {
				if strings.HasPrefix(u, "http://") {
					out = append(out, u)
					break // the others are of the same list
				}
			}
		}
	}
	return out
}

// ResponderAddresses are where OCSP is spoken, by a certificate.
func ResponderAddresses(c *cert.Certificate) []string {
	x, there := c.Extensions.Find(ext.InfoAccess)
	if !there {
		return nil
	}
	return distpoint.Responders(x.Value)
}

// list fetches a list, and the deltas that it names where the issuer really signed it: no one else
// may send us anywhere.
func (a *asking) list(ctx context.Context, address string, issuer *cert.Certificate) {
	l, err := a.Cache.get(ctx, address, a.Rules)
	if err != nil {
		a.Failed = append(a.Failed, err)
		return
	}
	a.Lists, a.From = append(a.Lists, l), append(a.From, address)
	if issuer == nil || !l.Issuer.Equal(issuer.Subject) || l.VerifiedBy(issuer.Key) != nil {
		return
	}
	for _, p := range l.Freshest {
		for _, u := range distpoint.Addresses(p.Names) {
			if !a.first(u) {
				continue
			}
			d, err := a.Cache.get(ctx, u, a.Rules)
			if err != nil {
				a.Failed = append(a.Failed, err)
				continue
			}
			a.Lists, a.From = append(a.Lists, d), append(a.From, u)
		}
	}
}

// answer asks a responder: with a nonce, and, where it does not answer that, without. An
// answer that was prepared carries none, and is bounded by its own times.
func (g *Gathered) answer(ctx context.Context, address string, issuer, c *cert.Certificate, ask Ask) {
	nonce := make([]byte, ocsp.FreshNonce)
	if _, err := io.ReadFull(ask.Random, nonce); err != nil {
		g.Failed = append(g.Failed, err)
		return
	}
	a, err := exchange(ctx, address, issuer, c, nonce, ask.Rules)
	if err != nil || a.Status != ocsp.Successful {
		if b, again := exchange(ctx, address, issuer, c, nil, ask.Rules); again == nil {
			a, err = b, nil
		}
	}
	switch {
	case err != nil:
		g.Failed = append(g.Failed, fmt.Errorf("%q: %w", address, err))
	case a.Status != ocsp.Successful:
		g.Failed = append(g.Failed, fmt.Errorf("%q: the responder answers: %s", address, a.Status))
	case a.Nonce != nil && subtle.ConstantTimeCompare(a.Nonce, nonce) != 1:
		g.Failed = append(g.Failed, fmt.Errorf("%q: the answer carries another nonce than was sent: it was given "+
			"before",
			address))
	default:
		g.Answers, g.From = append(g.Answers, a), append(g.From, address)
	}
}

// shortest is how long a question may be to be asked by GET (RFC 5019 section 5).
const shortest = 255

func exchange(ctx context.Context, address string, issuer, c *cert.Certificate, nonce []byte,
	r fetch.Rules) (*ocsp.Response, error) {
	id, err := ocsp.IDOf(crypto.SHA1, issuer, c.Serial)
	if err != nil {
		return nil, err
	}
	der, err := ocsp.Request{Asked: []ocsp.ID{id}, Nonce: nonce}.DER()
	if err != nil {
		return nil, err
	}
	r.Most = ocsp.MostSize
	var data []byte
	typed := url.QueryEscape(base64.StdEncoding.EncodeToString(der))
	if nonce == nil && len(typed) <= shortest {
		data, err = fetch.Get(ctx, strings.TrimSuffix(address, "/")+"/"+typed, r)
	} else {
		data, err = fetch.Post(ctx, address, "application/ocsp-request", der, r)
	}
	if err != nil {
		return nil, err
	}
	return ocsp.ReadResponse(data)
}

// OfEstate adds what an estate published to evidence, and the certificates of its generations,
// whose keys signed it.
func (g *Gathered) OfEstate(ctx context.Context, e *estate.Estate) error {
	lists, err := inventory.Current(ctx, e)
	if err != nil || len(lists) == 0 {
		return err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return err
	}
	g.Lists, g.From = append(g.Lists, lists...), append(g.From, "the estate")
	for _, o := range estate.AllGenerations(h) {
		if !slices.Contains(g.Signers, o.Certificate) {
			g.Signers = append(g.Signers, o.Certificate)
		}
	}
	return nil
}
