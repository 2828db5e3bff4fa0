package responding

import (
	"context"
	"crypto"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/ocsp"
)

// Told is an answer, and what a server says of it.
type Told struct {
	DER    []byte
	Status ocsp.ResponseStatus
	Of     ocsp.Status // of the first certificate, where Status is successful
	This   time.Time   // zero where Status is not successful
	Next   time.Time
	Once   bool // it repeats a nonce, and is for this asker alone
}

// young reports whether an answer is handed out again: it is not from the future, as after the clock was set back, and
// half of its life is left.
func (t Told) young(now time.Time) bool {
	return !now.Before(t.This) && now.Before(t.This.Add(t.Next.Sub(t.This)/2))
}

// Live answers requests as they come. Answers about one certificate are kept and handed out again while they are
// fresh and the records tell the same. A journal entry of anybody makes it ask the records again.
type Live struct {
	e        *estate.Estate
	life     time.Duration
	prepared string
	about    publishing.Ask // authorities about whose certificates it is to answer
	any      bool           // about counts
	now      atomic.Pointer[known]
	mu       sync.Mutex
	open     []*Responder
	kept     answers
	signed   atomic.Int64 // answers with a nonce
}

// known is what a Live knows at one moment: whom it answers for.
type known struct {
	seq     int64
	issuers map[string]*issuer
}

// issuer is one name and key of an authority.
type issuer struct {
	generation *hierarchy.Generation
	names      []string // of all generations with this name and key
	responder  *Responder
	by         *ocsp.Signer // signs with the responder's key
	behind     bool         // a newer list is served than the records know: they may lack revocations
	expected   bool         // a responder is to be there, and is made again if it is not
}

// NewLive makes one. life is how long an answer is fresh. prepared is a folder of answers that were signed before,
// for issuers without a responder here; it may be empty.
func NewLive(e *estate.Estate, life time.Duration, prepared string) *Live {
	return &Live{e: e, life: life, prepared: prepared}
}

// Expect says which authorities are to have a responder. While one is missing, the answer to clients is to try later.
func (l *Live) Expect(ask publishing.Ask) { l.about, l.any = ask, true }

// Inherit takes the responders of another, whose estate has the same records.
func (l *Live) Inherit(from *Live) {
	from.mu.Lock()
	defer from.mu.Unlock()
	l.mu.Lock()
	defer l.mu.Unlock()
	l.open = append(l.open, from.open...)
}

// responderLife is how long a responder's certificate lives; another takes its place after two thirds of it.
const responderLife = 7 * 24 * time.Hour

// Keep makes responders for the authorities that are meant, if none exists or the one there ends soon. Their
// keys stay in memory. It opens the authorities' keys for that. The error tells of those that cannot be opened.
func (l *Live) Keep(ctx context.Context, ask publishing.Ask) error {
	all, err := publishing.Signers(ctx, l.e, ask)
	if err != nil {
		return err
	}
	var faults []error
	for _, s := range all {
		if s.Unable != "" || l.lasting(s.Generation) {
			continue
		}
		r, err := Open(ctx, l.e, s.Generation, responderLife)
		if err != nil {
			faults = append(faults, err)
			continue
		}
		l.mu.Lock()
		l.open = append(slices.DeleteFunc(l.open, func(o *Responder) bool {
			return hierarchy.SameList(o.Issuer, r.Issuer)
		}), r)
		l.mu.Unlock()
	}
	return errors.Join(faults...)
}

func (l *Live) lasting(g *hierarchy.Generation) bool {
	r := l.responder(g)
	return r != nil && !r.Ends(l.e.Now())
}

func (l *Live) responder(g *hierarchy.Generation) *Responder {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, r := range l.open {
		if hierarchy.SameList(r.Issuer, g) {
			return r
		}
	}
	return nil
}

// Responders are the certificates of the keys that sign answers here.
func (l *Live) Responders() (out []*cert.Certificate) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, r := range l.open {
		out = append(out, r.Certificate)
	}
	return out
}

// Update reads whom to answer for. seq is the journal's newest entry. back are lists of which the records know an
// older one than is served: nothing is answered about their generations.
func (l *Live) Update(ctx context.Context, seq int64, back []string) error {
	h, err := l.e.Hierarchy(ctx)
	if err != nil {
		return err
	}
	out := &known{seq: seq, issuers: map[string]*issuer{}}
	for _, g := range inventory.Signers(h, l.e.Now()) {
		i := &issuer{generation: g, responder: l.responder(g),
			expected: l.any && (len(l.about.Only) == 0 || slices.Contains(l.about.Only, g.Authority.Handle)),
			behind:   slices.ContainsFunc(back, func(title string) bool { return listOf(title) == g.Name() })}
		if i.responder != nil && (g.RevokedAbove() != nil || g.Stopped != "") {
			i.responder = nil // it must not be believed
		}
		if i.responder != nil {
			if i.by, err = ocsp.NewSigner(i.responder.Certificate, i.responder.Signer); err != nil {
				return err
			}
		}
		for _, o := range g.Authority.Generations {
			if hierarchy.SameList(o, g) {
				i.names = append(i.names, o.Name())
			}
		}
		for _, hash := range []crypto.Hash{crypto.SHA1, crypto.SHA256} {
			id, err := ocsp.IDOf(hash, g.Certificate, cert.Serial{})
			if err != nil {
				return err
			}
			out.issuers[issuerKey(id)] = i
		}
	}
	l.now.Store(out)
	return nil
}

// listOf is the generation of a list, by its title.
func listOf(title string) string { return title[:len(title)-len(filepath.Ext(title))] }

func issuerKey(id ocsp.ID) string { return string(id.Name) + "\x00" + string(id.Key) }

func failed(s ocsp.ResponseStatus) Told { return Told{DER: ocsp.ErrorResponse(s), Status: s} }

// Answer answers a request. It always returns a response; the error is for the log, and tells why the records could
// not be asked.
func (l *Live) Answer(ctx context.Context, asked []byte) (Told, error) {
	q, err := ocsp.ReadRequest(asked)
	if err != nil {
		return failed(ocsp.MalformedRequest), nil
	}
	now := l.now.Load()
	if now == nil {
		return failed(ocsp.TryLater), nil
	}
	i := now.issuers[issuerKey(q.Asked[0])]
	for _, id := range q.Asked {
		if i == nil || now.issuers[issuerKey(id)] != i {
			return failed(ocsp.Unauthorized), nil
		}
	}
	if i.behind {
		return failed(ocsp.TryLater), nil
	}
	if i.responder == nil {
		told, err := l.fromFolder(ctx, now, i, q)
		if told.Status == ocsp.Unauthorized && i.expected {
			told = failed(ocsp.TryLater)
		}
		return told, err
	}
	// The answer that is kept tells what the records say.
	if q.Nonce != nil && len(q.Asked) == 1 && l.learnt(now, q) == nil {
		if _, err := l.again(ctx, now, i, ocsp.Request{Asked: q.Asked}); err != nil {
			return failed(ocsp.TryLater), err
		}
	}
	if q.Nonce != nil || len(q.Asked) > 1 {
		return l.sign(ctx, now, i, q)
	}
	return l.again(ctx, now, i, q)
}

// knowledge is what the records tell of certificates of an issuer.
func (l *Live) knowledge(ctx context.Context, i *issuer) *Knowledge {
	return &Knowledge{ctx: ctx, e: l.e, g: i.generation, names: i.names}
}

func (l *Live) sign(ctx context.Context, now *known, i *issuer, q ocsp.Request) (Told, error) {
	at := l.e.Now()
	k := l.knowledge(ctx, i)
	k.learnt = l.learnt(now, q)
	life := min(l.life, i.responder.Certificate.NotAfter.Sub(at))
	if life <= 0 {
		return failed(ocsp.TryLater), nil
	}
	draft, outcome := ocsp.Respond(q, i.generation.Certificate, k, ocsp.Draft{Responder: i.responder.Certificate,
		Attach: true, At: at, Cutoff: i.generation.Certificate.NotBefore}, life)
	switch {
	case outcome != ocsp.Successful:
		return failed(outcome), nil
	case k.err != nil:
		return failed(ocsp.TryLater), k.err
	}
	// An answer that is kept goes to many, and is verified. Of those with a nonce, some are.
	verified := q.Nonce == nil || l.signed.Add(1)%provenEach == 0
	der, err := draft.SignBy(i.by, verified, l.e.Env.Random)
	if errors.Is(err, fault.Unavailable) { // the agent that holds the key may come back
		return failed(ocsp.TryLater), err
	}
	if err != nil {
		return failed(ocsp.InternalError), err
	}
	return Told{DER: der, Of: draft.Responses[0].Status, This: at, Next: at.Add(life), Once: q.Nonce != nil}, nil
}

// learnt is what the records tell of the certificate in a request, where an answer is kept that is as new as they are;
// nil where it has to be asked.
func (l *Live) learnt(now *known, q ocsp.Request) *status {
	if len(q.Asked) != 1 {
		return nil
	}
	if a, ok := l.kept.find(answerKey(q)); ok && a.seq == now.seq {
		return &a.status
	}
	return nil
}

// again hands out the answer that is kept, and signs another where it is old or the records tell otherwise.
func (l *Live) again(ctx context.Context, now *known, i *issuer, q ocsp.Request) (Told, error) {
	name := answerKey(q)
	a, ok := l.kept.find(name)
	if ok && a.by == i.responder && a.told.young(l.e.Now()) {
		if a.seq == now.seq {
			return a.told, nil
		}
		k := l.knowledge(ctx, i)
		if s := statusOf(k, q.Asked[0].Serial); k.err == nil && s == a.status {
			a.seq = now.seq
			l.kept.keep(name, a)
			return a.told, nil
		}
	}
	k := l.knowledge(ctx, i)
	s := statusOf(k, q.Asked[0].Serial)
	told, err := l.sign(ctx, now, i, q)
	if told.Status != ocsp.Successful || k.err != nil {
		return told, errors.Join(err, k.err)
	}
	if s.status == told.Of { // nothing changed between the two
		l.kept.keep(name, answer{told: told, by: i.responder, seq: now.seq, status: s})
	}
	return told, err
}

// fromFolder hands out an answer that was signed before, unless it is old or tells otherwise than the records.
func (l *Live) fromFolder(ctx context.Context, now *known, i *issuer, q ocsp.Request) (Told, error) {
	if l.prepared == "" || len(q.Asked) != 1 {
		return failed(ocsp.Unauthorized), nil
	}
	at := l.e.Now()
	name := answerKey(q)
	if a, ok := l.kept.find(name); ok && a.by == nil && a.seq == now.seq && at.Before(a.told.Next) {
		return a.told, nil
	}
	serial := q.Asked[0].Serial
	file := answerFile(i.generation, serial)
	data, err := disk.ReadRegular(filepath.Join(l.prepared, file), ocsp.MostSize)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return failed(ocsp.Unauthorized), nil
	case err != nil:
		return failed(ocsp.TryLater), err
	}
	r, err := ocsp.ReadResponse(data)
	if err != nil || len(r.Responses) != 1 {
		return failed(ocsp.TryLater), err
	}
	if !r.Responses[0].ID.Same(q.Asked[0]) { // asked by another hash: the client would not know the answer as its own
		return failed(ocsp.Unauthorized), nil
	}
	k := l.knowledge(ctx, i)
	s := statusOf(k, serial)
	one := r.Responses[0]
	if k.err != nil || !tells(r, subject{serial: serial, status: s.status}) || !one.Next.IsZero() && at.
		After(one.Next) {
		return failed(ocsp.TryLater), k.err
	}
	told := Told{DER: data, Of: one.Status, This: one.This, Next: one.Next}
	l.kept.keep(name, answer{told: told, seq: now.seq, status: s})
	return told, nil
}
