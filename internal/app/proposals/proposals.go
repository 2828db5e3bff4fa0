// Package proposals has the acts about what waits for the agreement of several: proposing, approving, objecting. What
// is
// proposed is an act as it was planned for one moment; whoever approves plans it again, at their own machine, and
// signs the
// digest of what they saw there. So what another machine shows need not be believed.
package proposals

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/span"
)

// Ask is an act that is to be agreed to.
type Ask struct {
	Act    string   // as the journal names it
	Title  string   // in a few words
	Args   []string // the command that was given, without what is about one machine or person
	Digest [32]byte // of all that is agreed to
	Need   int
	// Planned is the moment for which it is planned; zero for now, where that does not matter.
	Planned time.Time
}

// Propose records a proposal, and that the one who proposes agrees to it.
func Propose(ctx context.Context, e *estate.Estate, ask Ask) (name string, head journal.Head, err error) {
	end, err := span.Parse(e.Settings.Approvals.End)
	if err != nil {
		return "", head, err
	}
	digest := hex.EncodeToString(ask.Digest[:])
	planned := ask.Planned
	if planned.IsZero() {
		planned = e.Now()
	}
	head, err = e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		list, err := estate.ProposalsIn(ctx, tx, tx.Now())
		if err != nil {
			return nil, err
		}
		for _, p := range list {
			if slices.Equal(p.Args,
				ask.Args) && (p.State == estate.ProposalWaiting || p.State == estate.ProposalReady) {
				return nil, fault.New(fault.Refused, "%s proposes just this already", p.Name)
			}
		}
		name = fmt.Sprintf("P%d", len(list)+1)
		mine, err := approval(ctx, e, tx, name, digest, ask.Act)
		if err != nil {
			return nil, err
		}
		return []event.Record{event.On(name, event.Proposed{Of: ask.Act, Title: ask.Title, Args: ask.Args,
			Planned: planned, Digest: digest, Need: ask.Need, Ends: end.After(tx.Now().UTC().
					Truncate(time.Second))}), mine}, nil
	})
	return name, head, err
}

// approval is the signature of the one who acts over a digest.
func approval(ctx context.Context, e *estate.Estate, tx store.Tx, name, digest, act string) (event.Record, error) {
	who, sign, err := e.InTx(tx).Signing(ctx)
	if err != nil {
		return event.Record{}, err
	}
	if err := event.May(who.Role, act); err != nil {
		return event.Record{}, fault.New(fault.Refused, "%s: %w", who.Name, err)
	}
	signature, err := sign(estate.ApprovedBytes(name, digest))
	if err != nil {
		return event.Record{}, err
	}
	a := event.Approved{Digest: digest, Signature: base64.StdEncoding.EncodeToString(signature)}
	if err := estate.ApprovalBy(who.Key, name, a); err != nil {
		return event.Record{}, err
	}
	return event.On(name, a), nil
}

// Approve records that the one who acts agrees to a proposal, of which they saw what has this digest.
func Approve(ctx context.Context, e *estate.Estate, name string, seen [32]byte) (estate.Proposal, journal.Head, error) {
	head, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		p, err := open(ctx, e.InTx(tx), name)
		if err != nil {
			return nil, err
		}
		if digest := hex.EncodeToString(seen[:]); digest != p.Digest {
			return nil, fault.New(fault.Changed,
				"%s is about something else than what you saw: nothing was changed", name)
		}
		who, _, err := e.InTx(tx).Signing(ctx)
		if err != nil {
			return nil, err
		}
		for _, a := range p.Agree {
			if a == who.Name {
				return nil, fault.New(fault.Refused, "%s agreed to %s already: each operator counts once", who.Name,
					name)
			}
		}
		mine, err := approval(ctx, e, tx, name, p.Digest, p.Of)
		return []event.Record{mine}, err
	})
	if err != nil {
		return estate.Proposal{}, head, err
	}
	p, err := e.Proposal(ctx, name)
	return p, head, err
}

// open is a proposal that is not at its end.
func open(ctx context.Context, e *estate.Estate, name string) (estate.Proposal, error) {
	p, err := e.Proposal(ctx, name)
	if err == nil && p.State != estate.ProposalWaiting && p.State != estate.ProposalReady {
		err = fault.New(fault.Changed, "%s is %s: it is not open", name, p.State)
	}
	return p, err
}

// Open is a proposal that is not at its end.
func Open(ctx context.Context, e *estate.Estate, name string) (estate.Proposal, error) {
	return open(ctx, e, name)
}

// End ends a proposal without doing it: someone objects, or what it depends on has changed.
func End(ctx context.Context, e *estate.Estate, name, how, why string) (journal.Head, error) {
	if strings.TrimSpace(why) == "" {
		return journal.Head{}, fault.New(fault.BadInput, "say why: the journal tells it")
	}
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		if _, err := open(ctx, e.InTx(tx), name); err != nil {
			return nil, err
		}
		return []event.Record{event.On(name, event.ProposalEnded{How: how, Why: why})}, nil
	})
}

// List lists all proposals, the newest last.
func List(ctx context.Context, e *estate.Estate) ([]estate.Proposal, error) {
	return estate.ProposalsIn(ctx, e.Records, e.Env.Now().UTC())
}
