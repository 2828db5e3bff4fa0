// Package match says how things belong together: the certificates, requests and keys
// of a heap, two certificates that should be alike, an answer and what it answers.
package match

import (
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

// Match is one thing that a heap's objects have to do with each other.
type Match struct {
	Good bool   `json:"good"`
	Text string `json:"text"`
}

// mostChecks bounds the signatures that are checked: a heap may hold any number of certificates of one name.
const mostChecks = 2_000

// Find says which key, request and certificate of a heap belong together,
// which certificate issued which, what is missing to complete a chain, and what
// belongs to nothing.
func Find(heap []Thing) []Match {
	linked := make([]bool, len(heap))
	out := sameKeys(heap, linked)
	named := map[string][]int{} // certificates, by their subjects
	for i, t := range heap {
		if t.Certificate != nil {
			name := t.Certificate.Subject.Folded()
			named[name] = append(named[name], i)
		}
	}
	missing, told := map[string]bool{}, map[string]bool{}
	checks := 0
	for i, child := range heap {
		c := child.Certificate
		if c == nil || c.SelfSigned() {
			continue
		}
		found := false
		for _, j := range named[c.Issuer.Folded()] {
			p := heap[j].Certificate
			if checks++; checks > mostChecks {
				return append(out, Match{false, "these are too many certificates of one name: what else belongs " +
					"together is not told; read fewer at once"})
			}
			if i == j || c.VerifiedBy(p.Key) != nil {
				continue
			}
			found, linked[i], linked[j] = true, true, true
			text := fmt.Sprintf("%s was issued by %s (%s, %s)", c.Title(), p.Title(), child.Source, heap[j].Source)
			if !told[c.Title()+p.Title()] {
				told[c.Title()+p.Title()] = true
				out = append(out, Match{true, text})
			}
			break
		}
		if !found && !missing[c.Issuer.String()] {
			missing[c.Issuer.String()] = true
			out = append(out, Match{false, fmt.Sprintf("missing: the issuer of %s: %s", c.Title(), c.Issuer)})
		}
	}
	for i, t := range heap {
		if !linked[i] && len(heap) > 1 {
			out = append(out, Match{false, fmt.Sprintf("%s (%s) belongs to nothing else here", t.Source, t.words())})
		}
	}
	return out
}

// sameKeys says which things have one key, a line a key, and marks them.
func sameKeys(heap []Thing, linked []bool) []Match {
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
	var out []Match
	for _, sum := range order {
		if len(groups[sum]) < 2 {
			continue
		}
		var members []string
		first := map[[32]byte]int{} // certificates
		for _, i := range groups[sum] {
			linked[i] = true
			if c := heap[i].Certificate; c != nil {
				if twin, there := first[c.SHA256()]; there {
					members = append(members, fmt.Sprintf("%s (the same certificate as %s)", heap[i].Source,
						heap[twin].Source))
					continue
				}
				first[c.SHA256()] = i
			}
			members = append(members, fmt.Sprintf("%s (%s)", heap[i].Source, heap[i].words()))
		}
		out = append(out, Match{true, "one key: " + strings.Join(members, ", ")})
	}
	return out
}
