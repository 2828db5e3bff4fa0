// Package pair judges two machines that must trust each other. Each presents a chain, and
// each has to hold what is above the other's. Both directions count: whoever connects is
// a client, and whoever answers is a server; where both authenticate, four things must hold.
//
// A side may be a request that no one has signed yet. It is judged by what would be signed.
package pair

import (
	"crypto/sha256"
	"encoding/asn1"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/path"
	"ironseal/pki/san"
	"ironseal/pki/trust"
)

// Peer is one of the two.
type Peer struct {
	Title   string
	Host    string              // how the other reaches it, a name or an address; "" leaves names out
	Chain   []*cert.Certificate // what it presents, the leaf first; of a request what will is above it
	Planned *Planned            // what a request would become; nil for a certificate
	Known   []*cert.Certificate // authorities that may be above, beyond those in the chain
	Roots   trust.Set           // roots that may, with the names for which they are trusted
	Remarks finding.List        // what the records know of it
}

// Planned is what a request would become.
type Planned struct {
	Template string
	Names    []san.Name
	Extended []asn1.ObjectIdentifier
	Findings finding.List // what speaks against signing it
}

// Protocol is what the two speak.
type Protocol string

// The protocols. TLS with certificates on both sides wants a server's and a client's usage
// (RFC 5280 section 4.2.1.12); IKE its own, where the usages are limited at all (RFC 4945
// section 5.1.3.12).
const (
	TLS Protocol = "tls"
	IKE Protocol = "ike"
)

// Protocols lists them.
func Protocols() []Protocol { return []Protocol{TLS, IKE} }

// ParseProtocol reads what was typed.
func ParseProtocol(typed string) (Protocol, error) {
	if p := Protocol(strings.ToLower(strings.TrimSpace(typed))); slices.Contains(Protocols(), p) {
		return p, nil
	}
	return "", fmt.Errorf("protocol %q is not known: use tls or ike", typed)
}

// Usage is the extended usage that a role needs.
func (p Protocol) Usage(r Role) asn1.ObjectIdentifier {
	word := map[Role]string{Server: "serverAuth", Client: "clientAuth"}[r]
	if p == IKE {
		word = "ipsecIKE"
	}
	id, err := ext.ParseExtendedUsage(word)
	if err != nil {
		return nil // the three words are in the table
	}
	return id
}

// Role is what a peer is in a connection.
type Role string

// The roles.
const (
	Server Role = "server"
	Client Role = "client"
)

// Question is what is asked of a pair.
type Question struct {
	Peers  [2]Peer
	Over   Protocol
	OneWay bool // only the first connects to the second
	Now    time.Time

	// Status says whether the first certificate of a line was revoked, as path.Question has it.
	Status func(line []*cert.Certificate) (finding.List, string)
}

// Answer is what holds between the two.
type Answer struct {
	Needs [2]trust.Set // the anchors that each must hold
	Ways  []Way
}

// Holds reports whether everything that was asked does.
func (a Answer) Holds() bool {
	return !slices.ContainsFunc(a.Ways, func(w Way) bool { return !w.Holds() })
}

// TakenBack are the findings by which a certificate of a side is no good whatever the other holds:
// it was revoked, or that is unknown. Nothing is to be installed for it.
func (a Answer) TakenBack() (out finding.List) {
	for _, w := range a.Ways {
		for _, c := range w.Checks {
			for _, f := range c.Findings.Refusing() {
				switch f.Code {
				case finding.Revoked, finding.RevokedOnRecord, finding.NotOnRecord, finding.StatusUnknown:
					if !out.Has(f.Code) {
						out = append(out, f)
					}
				}
			}
		}
	}
	return out
}

// Way is one direction: who connects to whom.
type Way struct {
	From, To int
	Checks   []Check // of the server by the client, then of the client by the server
}

// Holds reports whether both accept each other.
func (w Way) Holds() bool {
	return !slices.ContainsFunc(w.Checks, func(c Check) bool { return !c.Holds })
}

// Check is what one makes of the other.
type Check struct {
	Of       int
	As       Role
	Holds    bool
	Findings finding.List
}

// Judge answers.
func Judge(q Question) Answer {
	var a Answer
	for i, p := range q.Peers {
		other := 1 - i
		a.Needs[other] = trust.Set{Name: setName(p.Title), Title: "authorities above " + p.Title,
			Anchors: p.anchors(q.Now)}
	}
	ways := [][2]int{{0, 1}, {1, 0}}
	if q.OneWay {
		ways = ways[:1]
	}
	for _, w := range ways {
		way := Way{From: w[0], To: w[1]}
		way.Checks = append(way.Checks, a.check(q, w[1], Server), a.check(q, w[0], Client))
		a.Ways = append(a.Ways, way)
	}
	return a
}

// check judges a peer as the other does, who holds what was found to be needed.
func (a Answer) check(q Question, of int, as Role) Check {
	p, c := q.Peers[of], Check{Of: of, As: as}
	ask := path.Question{Now: q.Now, Usage: q.Over.Usage(as), Status: q.Status}
	for _, x := range a.Needs[1-of].Anchors {
		ask.Anchors = append(ask.Anchors, x.Certificate)
	}
	if as == Server {
		ask.Name = p.Host
	}
	if p.Planned != nil {
		c.Findings = p.foreseen(ask)
	} else {
		v := path.Verify(p.Chain[0], p.Chain[1:], ask)
		c.Findings = append(v.Reasons(), p.known(v)...)
	}
	c.Findings = append(c.Findings, p.outside(a.Needs[1-of].Anchors)...)
	c.Holds = len(c.Findings.Refusing()) == 0
	return c
}

// known says what speaks against the certificate by the records, where the verdict has not said it.
func (p Peer) known(v path.Verdict) (out finding.List) {
	for _, f := range p.Remarks.Refusing() {
		if !v.Reasons().Has(f.Code) && !v.Reasons().Has(finding.Revoked) {
			out = append(out, f)
		}
	}
	return out
}

// outside says which name is none of those for which the root above is trusted.
func (p Peer) outside(anchors []trust.Anchor) finding.List {
	if len(anchors) == 0 || len(anchors[0].Permitted) == 0 {
		return nil
	}
	subject, names := p.Chain[0].Subject, p.Chain[0].Names
	if p.Planned != nil {
		subject, names = dn.Name{}, p.Planned.Names
	}
	breach := (ext.Constraints{Permitted: anchors[0].Permitted}).Breach(subject, names)
	if breach == "" {
		return nil
	}
	return finding.List{finding.New(finding.ConstraintBroken, "%s is trusted for %s alone: %s",
		anchors[0].Certificate.Title(), joined(anchors[0].Permitted), breach)}
}

// foreseen says what would speak against a request's certificate.
func (p Peer) foreseen(q path.Question) finding.List {
	out := slices.Clone(p.Planned.Findings.Refusing())
	if q.Usage != nil && !path.Permits(p.Planned.Extended, q.Usage) {
		out = append(out, finding.New(finding.UsageMissing, "By the template %s it would lack the usage %s.",
			p.Planned.Template, ext.UsageNames([]asn1.ObjectIdentifier{q.Usage})[0]))
	}
	if q.Name != "" {
		if _, ok := san.Match(p.Planned.Names, q.Name); !ok {
			out = append(out, finding.New(finding.WrongName, "It would not be for %s. It would have: %s.", q.Name,
				joined(p.Planned.Names)))
		}
	}
	q.Name = ""
	return append(out, path.Verify(p.Chain[0], p.Chain[1:], q).Reasons()...)
}

func joined[T fmt.Stringer](list []T) string {
	var out []string
	for _, x := range list {
		out = append(out, x.String())
	}
	return strings.Join(out, ", ")
}

// anchors are what the other must hold: the root above the chain, or the certificate itself
// where it is its own root; and what its authority has prepared for the time after it.
func (p Peer) anchors(now time.Time) []trust.Anchor {
	var roots []*cert.Certificate
	known := slices.Concat(p.Chain, p.Known)
	for _, a := range p.Roots.Anchors {
		known = append(known, a.Certificate)
	}
	for _, c := range known {
		if c.SelfSigned() {
			roots = append(roots, c)
		}
	}
	v := path.Verify(p.Chain[0], known, path.Question{Anchors: roots, Now: now})
	if len(v.Steps) == 0 {
		return nil
	}
	top := v.Steps[len(v.Steps)-1].Certificate
	if !top.SelfSigned() {
		return nil
	}
	var out trust.Set
	add := func(c *cert.Certificate, from string) {
		if out.Find(c) != nil {
			return
		}
		a := trust.Anchor{Certificate: c, From: from + p.Title, Purposes: []trust.Purpose{trust.Servers, trust.Clients}}
		if known := p.Roots.Find(c); known != nil {
			a.Permitted = known.Permitted
		}
		out.Anchors = append(out.Anchors, a)
	}
	add(top, "above ")
	for _, c := range roots {
		if c.Subject.Equal(top.Subject) && c.NotAfter.After(top.NotAfter) {
			add(c, "the next generation above ")
		}
	}
	return out.Anchors
}

// setName names the set of what is above a peer: the same for the same peer, so that a
// later kit replaces an earlier one, and another for any other.
func setName(title string) string {
	name := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			return r
		}
		return '-'
	}, strings.ToLower(title))
	sum := sha256.Sum256([]byte(title))
	return fmt.Sprintf("of-%s-%x", strings.Trim(name[:min(len(name), 24)], "-"), sum[:3])
}
