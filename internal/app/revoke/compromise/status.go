package compromise

import (
	"bytes"
	"context"
	"sync"

	"ironseal/internal/estate"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/key"
	"ironseal/pki/path"
)

// Records judges chains by what an estate has on record. It is safe for several at once.
type Records struct {
	e   *estate.Estate
	ctx context.Context
	// Acting says that something is imported or trusted permanently by the answer: then a suspected key
	// refuses. A client that is only asked what it accepts does not know of incidents.
	Acting bool

	mu   sync.Mutex
	said map[[32]byte]finding.List
}

// Known makes a judge by the records of an estate.
func Known(ctx context.Context, e *estate.Estate) *Records {
	return &Records{e: e, ctx: ctx, said: map[[32]byte]finding.List{}}
}

// Into lets a question about chains ask the records as well as whatever it asks already. A question
// that they cannot answer is refused.
func (r *Records) Into(q *path.Question) { r.IntoBut(q, nil) }

// IntoBut does so for all certificates but one, which is judged elsewhere; nil for none.
func (r *Records) IntoBut(q *path.Question, but *cert.Certificate) {
	inner := q.Status
	q.Status = func(line []*cert.Certificate) (found finding.List, words string) {
		if inner != nil {
			found, words = inner(line)
		}
		if but != nil && bytes.Equal(line[0].Raw, but.Raw) || found.Has(finding.Revoked) {
			return found, words
		}
		return append(found, r.of(line[0])...), words
	}
}

// mostSaid bounds how many answers are remembered.
const mostSaid = 10_000

func (r *Records) of(c *cert.Certificate) finding.List {
	sum := c.SHA256()
	r.mu.Lock()
	out, known := r.said[sum]
	r.mu.Unlock()
	if known {
		return out
	}
	out, err := Against(r.ctx, r.e, c)
	if err == nil && c.IsAuthority() {
		out = out.Refusing() // that an authority was renewed speaks against nothing below it
		if r.Acting {
			out, err = r.compromised(c, out)
		}
	}
	if err != nil {
		return finding.List{finding.New(finding.StatusUnknown, "Whether %s stands is not known: the records cannot "+
			"be read: %v.", c.Title(), err).WithNext(advice.To("look what is wrong with them", advice.CheckEstate))}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.said) < mostSaid {
		r.said[sum] = out
	}
	return out
}

func (r *Records) compromised(c *cert.Certificate, out finding.List) (finding.List, error) {
	list, err := Incidents(r.ctx, r.e.Records)
	for _, i := range About(list, c.Key.Fingerprint()) {
		out = append(out, finding.New(finding.SuspectedKey, "%s", i.Since()))
	}
	return out, err
}

// Sound leaves out the anchors whose key is suspected: nothing is imported permanently by them.
func Sound(ctx context.Context, e *estate.Estate, anchors []*cert.Certificate) ([]*cert.Certificate, error) {
	list, err := Incidents(ctx, e.Records)
	if err != nil {
		return nil, err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	var out []*cert.Certificate
	for _, c := range anchors {
		sound := len(About(list, c.Key.Fingerprint())) == 0
		for _, g := range estate.AllGenerations(h) {
			sound = sound && (g.Stopped == "" || !key.Same(g.Certificate.Key, c.Key))
		}
		if sound {
			out = append(out, c)
		}
	}
	return out, nil
}

// Acted lets a question by which something is imported permanently ask the records, and leaves out the
// anchors whose key is suspected.
func Acted(ctx context.Context, e *estate.Estate, q path.Question) (path.Question, error) {
	var err error
	if q.Anchors, err = Sound(ctx, e, q.Anchors); err != nil {
		return q, err
	}
	r := Known(ctx, e)
	r.Acting = true
	r.Into(&q)
	return q, nil
}
