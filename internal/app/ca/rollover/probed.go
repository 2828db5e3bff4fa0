package rollover

import (
	"context"
	"fmt"
	"slices"
	"time"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/probe"
	"ironseal/internal/store"
	"ironseal/pki/dn"
	"ironseal/pki/journal"
	"ironseal/pki/trust"
)

// Probed is what a look at a party's endpoints told of the roots that it holds.
type Probed struct {
	Party    string `json:"party"`
	Endpoint string `json:"endpoint"`
	Told     bool   `json:"told"` // whether it told anything
	Has      bool   `json:"has"`
	Words    string `json:"words"`
}

// ConfirmByProbe looks at the parties that have endpoints. A server that asks for a client's
// certificate names the authorities of which it takes one (RFC 8446 section 4.2.4): those are
// the roots that it holds. It names them by their subjects alone, so that of a root which has
// the subject of an earlier one nothing is reported.
func ConfirmByProbe(ctx context.Context, e *estate.Estate, handle string, o probe.Options) (out []Probed,
	head journal.Head,
	err error) {
	p, err := Of(ctx, e, handle)
	if err != nil {
		return nil, head, err
	}
	if err := p.tellable(ctx, e); err != nil {
		return nil, head, err
	}
	var entries []event.Record
	for _, s := range p.Parties {
		x := p.all[slices.IndexFunc(p.all, func(x trust.Party) bool { return x.Name == s.Party })]
		for _, at := range x.Endpoints {
			t, err := probe.ParseTarget(at)
			if err != nil {
				return nil, head, fmt.Errorf("party %s: %w", x.Name, err)
			}
			result := p.told(x.Name, o.Look(ctx, t, time.Now))
			result.Endpoint = at
			if out = append(out, result); result.Told {
				entries = append(entries, p.seen(handle, result))
			}
		}
	}
	if len(entries) == 0 {
		return out, head, ctx.Err()
	}
	head, err = e.Act(ctx, func(store.Tx) ([]event.Record, error) { return entries, nil })
	return out, head, err
}

// tellable refuses where the new roots cannot be distinguished from others by their
// subjects.
func (p Progress) tellable(ctx context.Context, e *estate.Estate) error {
	if len(p.needs) == 0 {
		return fmt.Errorf("%s: no client has to learn another root", p.Handle)
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return err
	}
	for _, a := range p.needs {
		for _, g := range estate.AllGenerations(h) {
			if c := g.Certificate; c.SelfSigned() && c.Subject.Equal(a.Certificate.Subject) &&
				c.SHA256() != a.Certificate.SHA256() {
				return fmt.Errorf("%s has the subject of %s: endpoints name roots by their subjects, so that a probe "+
					"tells nothing", a.Certificate.Title(), g.Name())
			}
		}
	}
	return nil
}

// told says what an answer tells of the roots that a party holds.
func (p Progress) told(party string, a probe.Answer) Probed {
	out := Probed{Party: party, Endpoint: a.Target.String()}
	switch {
	case !a.Asks && a.Err != nil:
		out.Words = a.Words()
	case !a.Asks:
		out.Words = "it asks for no client's certificate"
	case len(a.Accepts) == 0:
		out.Words = "it does not say of which authorities it takes one"
	default:
		out.Told, out.Has = true, true
		for _, n := range p.needs {
			if !slices.ContainsFunc(a.Accepts, func(x dn.Name) bool { return x.Equal(n.Certificate.Subject) }) {
				out.Has = false
			}
		}
		out.Words = "it takes clients' certificates of it"
		if !out.Has {
			out.Words = "it takes no clients' certificates of it"
		}
	}
	return out
}

// seen is the entry of what a look told.
func (p Progress) seen(handle string, r Probed) event.Record {
	sums := []string{}
	for _, n := range p.needs {
		sums = append(sums, fmt.Sprintf("%x", n.Certificate.SHA256()))
	}
	has, missing := sums, []string{}
	if !r.Has {
		has, missing = missing, sums
	}
	return event.On(r.Party, event.RootsConfirmed{Authority: handle, Endpoint: r.Endpoint, SHA256: has,
		Missing: missing,
		Why:     "a look at " + r.Endpoint + ": " + r.Words})
}
