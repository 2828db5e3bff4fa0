// Package probes looks at endpoints, holds what they present against a trust set and against the
// records, and says what to do.
package probes

import (
	"context"
	"encoding/asn1"
	"fmt"
	"time"

	"ironseal/internal/app/requests/fleet"
	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/estate"
	"ironseal/internal/probe"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/endpoint"
	"ironseal/pki/ext"
	"ironseal/pki/lifecycle"
	"ironseal/pki/path"
	"ironseal/pki/trust"
)

// Ask says which endpoints are examined, and what they are judged by.
type Ask struct {
	Targets []probe.Target
	Options probe.Options
	Anchors []*cert.Certificate
	Set     string // what the anchors are called
	Now     time.Time
	Clock   func() time.Time // by which it is said how long each took

	// Evidence makes what tells whether certificates were revoked, for one endpoint; nil:
	// nothing is asked over the network.
	Evidence func(ctx context.Context, presented []*cert.Certificate, stapled []byte, q *path.Question)
}

// Outcome is what one endpoint did, and what is to be thought of it.
type Outcome struct {
	probe.Answer
	endpoint.Judgement
	On  *Match       // the record of what it serves; nil if none exists
	Row endpoint.Row // what is kept of it
}

// Match is what the records know of a certificate that is served.
type Match struct {
	Serial   string
	Request  int64 // 0 for none
	Issuer   string
	Template string
	State    lifecycle.State
	Holders  []string
	Renews   string // itself, or late; "" where a person renews it
}

// Title is how the match is called: by its request, or its serial.
func (m Match) Title() string {
	out := "serial " + cert.ShortSerial(m.Serial)
	if m.Request > 0 {
		out = fmt.Sprintf("R%d, %s", m.Request, out)
	}
	switch m.Renews {
	case fleet.Itself:
		out += ", renews itself"
	case fleet.LateWords:
		out += ", late: its machine did not renew it"
	}
	return out
}

// Looking is one run over endpoints: what they have in common is read once.
type Looking struct {
	ask   Ask
	e     *estate.Estate // nil without an estate
	known endpoint.Known
	usage asn1.ObjectIdentifier
	found path.Proofs // many certificates have the same authorities above them

	records *compromise.Records // what the estate knows of certificates; nil if none exists
}

// Begin reads what the endpoints will be compared with. Without an estate only the anchors
// count.
func Begin(ctx context.Context, e *estate.Estate, ask Ask) (*Looking, error) {
	l := &Looking{ask: ask, e: e}
	var err error
	if l.usage, err = ext.ParseExtendedUsage("serverAuth"); err != nil {
		return nil, err
	}
	l.known.Roots = ask.Anchors
	if e == nil {
		return l, nil
	}
	l.records = compromise.Known(ctx, e)
	sets, _ := anchors.Sets(ctx, e) // a set that cannot be read is reported by trust list
	for _, s := range sets {
		for _, a := range s.Anchors {
			l.known.Roots = append(l.known.Roots, a.Certificate)
		}
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	for _, g := range estate.AllGenerations(h) {
		if g.SwitchDay.IsZero() {
			l.known.Issuers = append(l.known.Issuers, endpoint.Issuer{Certificate: g.Certificate,
				Get: advice.To("", advice.ExportAuthority, "authority", g.Name())})
		}
	}
	return l, nil
}

// Anchors are those of a set, for which servers are trusted.
func Anchors(s trust.Set) (out []*cert.Certificate) {
	for _, a := range s.Anchors {
		out = append(out, a.Certificate)
	}
	return out
}

// Each looks at every endpoint, and gives each outcome with its place in the list. each is
// called by several at once.
func (l *Looking) Each(ctx context.Context, list []probe.Target, each func(int, Outcome)) {
	asked := l.answer(ctx, len(list) > together)
	defer close(asked)
	l.ask.Options.Many(ctx, list, l.ask.Clock, func(i int, a probe.Answer) { each(i, l.judge(ctx, a, asked)) })
}

// mostWhole is up to how many endpoints the certificates are kept of each.
const mostWhole = 500

// All looks at every endpoint, and keeps the outcomes in order. progress, where it is given,
// hears how many there are.
func (l *Looking) All(ctx context.Context, list []probe.Target, progress func(int)) []Outcome {
	out := make([]Outcome, len(list))
	counted := estate.Counting(progress)
	l.Each(ctx, list, func(i int, o Outcome) {
		if len(list) > mostWhole { // what is kept of it says enough
			o.Raw, o.Presented, o.Nameless, o.Accepts, o.Verdict = nil, nil, nil, nil, path.Verdict{}
		}
		out[i] = o
		counted()
	})
	return out
}

// judge holds an answer against the anchors and the records.
func (l *Looking) judge(ctx context.Context, a probe.Answer, asked chan<- served) Outcome {
	out := Outcome{Answer: a}
	seen := endpoint.Seen{Name: a.Name, Presented: a.Presented, Unreadable: a.Unreadable, Proven: a.Proven,
		Failed: a.Words(), Protocol: a.Protocol(), OldOnly: a.OldOnly(), Weak: a.Weak(), WeakOnly: a.WeakOnly,
		Declines: a.Declines(), Differs: len(a.Nameless) > 0,
		Asks: a.Asks, Given: l.ask.Options.Client != nil}
	for _, n := range a.Accepts {
		seen.Accepts = append(seen.Accepts, n.String())
	}
	known := l.known
	if l.e != nil && len(a.Presented) > 0 {
		m := ask(asked, a.Presented[0], a.Name)
		if out.On, known.Newest = m.on, m.newest; m.err != nil {
			known.Unread = m.err.Error()
		}
		if out.On != nil {
			known.State, known.Title = out.On.State, out.On.Title()
		}
	}
	q := endpoint.Question{Set: l.ask.Set,
		Question: path.Question{Anchors: l.ask.Anchors, Now: l.ask.Now, Usage: l.usage, Proofs: &l.found}}
	if l.ask.Evidence != nil && len(a.Presented) > 0 {
		l.ask.Evidence(ctx, a.Presented, a.Stapled, &q.Question)
	}
	if l.records != nil {
		var told *cert.Certificate // what is served and on record: its state is judged with it
		if out.On != nil && !a.Presented[0].IsAuthority() {
			told = a.Presented[0]
		}
		l.records.IntoBut(&q.Question, told)
	}
	out.Judgement = endpoint.Judge(seen, q, known)
	r := endpoint.RowOf(seen, out.Judgement, l.ask.Now)
	r.Endpoint, r.Address, r.Took = a.Target.String(), a.Target.Address(), a.Took.Milliseconds()
	if out.On != nil {
		r.Record, r.State, r.Signer, r.Template = out.On.Title(), out.On.State, out.On.Issuer, out.On.Template
		r.Holders = append(r.Holders, out.On.Holders...)
	}
	out.Row = r
	return out
}
