package handover

import (
	"bytes"
	"fmt"

	"ironseal/pki/cert"
	"ironseal/pki/key"
	"ironseal/pki/request"
)

// Thing is one object of a heap, with the place where it was found.
type Thing struct {
	Source      string
	Certificate *cert.Certificate
	Request     *request.Request
	Key         *key.Public // the public side of a private key
}

func (t Thing) public() *key.Public {
	switch {
	case t.Certificate != nil:
		return &t.Certificate.Key
	case t.Request != nil:
		return &t.Request.Key
	}
	return t.Key
}

func (t Thing) words() string {
	switch {
	case t.Certificate != nil:
		return "certificate of " + t.Certificate.Title()
	case t.Request != nil:
		return "request for " + t.Request.Title()
	}
	return "private key (" + t.Key.Words() + ")"
}

// Relation is one thing that a heap's objects have to do with each other.
type Relation struct {
	Good bool   `json:"good"`
	Text string `json:"text"`
}

// Relate says which key, request and certificate of a heap belong together,
// which certificate issued which, what is missing to complete a chain, and what
// belongs to nothing.
func Relate(heap []Thing) []Relation {
	var out []Relation
	linked := make([]bool, len(heap))
	for i, a := range heap {
		for j, b := range heap {
			if j <= i || a.public() == nil || b.public() == nil || !key.Same(*a.public(), *b.public()) {
				continue
			}
			linked[i], linked[j] = true, true
			if a.Certificate != nil && b.Certificate != nil && bytes.Equal(a.Certificate.Raw, b.Certificate.Raw) {
				out = append(out, Relation{true, fmt.Sprintf("%s and %s are the same certificate", a.Source, b.Source)})
				continue
			}
			out = append(out, Relation{true, fmt.Sprintf("%s (%s) and %s (%s) have one key", a.Source, a.words(), b.Source, b.words())})
		}
	}
	missing := map[string]bool{}
	for i, child := range heap {
		c := child.Certificate
		if c == nil || c.SelfSigned() {
			continue
		}
		found := false
		for j, parent := range heap {
			p := parent.Certificate
			if p == nil || i == j || !p.Subject.Equal(c.Issuer) || c.VerifiedBy(p.Key) != nil {
				continue
			}
			found, linked[i], linked[j] = true, true, true
			out = append(out, Relation{true, fmt.Sprintf("%s (%s) was issued by %s (%s)", child.Source, c.Title(), parent.Source, p.Title())})
			break
		}
		if !found && !missing[c.Issuer.String()] {
			missing[c.Issuer.String()] = true
			out = append(out, Relation{false, fmt.Sprintf("missing: the issuer of %s: %s", c.Title(), c.Issuer)})
		}
	}
	for i, t := range heap {
		if !linked[i] && len(heap) > 1 {
			out = append(out, Relation{false, fmt.Sprintf("%s (%s) belongs to nothing else here", t.Source, t.words())})
		}
	}
	return out
}
