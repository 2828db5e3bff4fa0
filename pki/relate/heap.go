// Package relate says how things belong together: the certificates, requests and keys
// of a heap, two certificates that should be alike, an answer and what it answers.
package relate

import (
	"bytes"
	"fmt"
	"strings"

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
	linked := make([]bool, len(heap))
	out := sameKeys(heap, linked)
	missing, told := map[string]bool{}, map[string]bool{}
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
			text := fmt.Sprintf("%s was issued by %s (%s, %s)", c.Title(), p.Title(), child.Source, parent.Source)
			if !told[c.Title()+p.Title()] {
				told[c.Title()+p.Title()] = true
				out = append(out, Relation{true, text})
			}
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

// sameKeys says which things have one key, a line a key, and marks them.
func sameKeys(heap []Thing, linked []bool) []Relation {
	groups := map[[32]byte][]int{}
	var order [][32]byte
	for i, t := range heap {
		if t.public() == nil {
			continue
		}
		sum := t.public().Fingerprint()
		if groups[sum] == nil {
			order = append(order, sum)
		}
		groups[sum] = append(groups[sum], i)
	}
	var out []Relation
	for _, sum := range order {
		if len(groups[sum]) < 2 {
			continue
		}
		var members []string
		for k, i := range groups[sum] {
			linked[i] = true
			twin := -1
			for _, j := range groups[sum][:k] {
				if heap[i].Certificate != nil && heap[j].Certificate != nil && bytes.Equal(heap[i].Certificate.Raw,
					heap[j].Certificate.Raw) {
					twin = j
				}
			}
			if twin >= 0 {
				members = append(members, fmt.Sprintf("%s (the same certificate as %s)", heap[i].Source,
					heap[twin].Source))
				continue
			}
			members = append(members, fmt.Sprintf("%s (%s)", heap[i].Source, heap[i].words()))
		}
		out = append(out, Relation{true, "one key: " + strings.Join(members, ", ")})
	}
	return out
}
