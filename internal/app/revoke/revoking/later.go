package revoking

import (
	"context"
	"fmt"
	"time"

	"ironseal/internal/app/parties"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/journal"
	"ironseal/pki/lifecycle"
	"ironseal/pki/span"
)

// Later is a certificate that is to be revoked once its successor is in use.
type Later struct {
	Title  string      `json:"title" doc:"for whom it is"`
	Serial string      `json:"serial" doc:"of it"`
	New    string      `json:"replacement" doc:"serial of the one in its place"`
	From   time.Time   `json:"from" doc:"when it may be revoked at the earliest"`
	Waits  string      `json:"waits" doc:"what it waits for; empty where it can be revoked now"`
	Next   advice.Step `json:"-"`
}

// Schedule records that certificates are to be revoked once those in their places are in use,
// and a span is over.
func Schedule(ctx context.Context, e *estate.Estate, old []estate.CertificateRecord, after span.Span) (journal.Head,
	error) {
	return e.Act(ctx, func(store.Tx) ([]event.Record, error) {
		var out []event.Record
		for _, c := range old {
			out = append(out, event.On(c.Title(), event.RevokeLater{Serial: c.SerialHex(),
				Certificate: fmt.Sprintf("%x", c.SHA256()), After: after.String()}))
		}
		return out, nil
	})
}

// Scheduled lists what is to be revoked once its successor is in use, and was not yet. A
// successor is in use when an endpoint was last seen to serve it.
func Scheduled(ctx context.Context, e *estate.Estate) (out []Later, err error) {
	asked := map[string]time.Time{}
	err = e.Records.Derived(ctx, event.Postponed, func(certificate string, en journal.Entry) error {
		told, err := event.As[event.RevokeLater](en)
		if err != nil {
			return err
		}
		asked[certificate] = en.At
		if s, err := span.Parse(told.After); err == nil {
			asked[certificate] = s.After(en.At)
		}
		return nil
	})
	if err != nil || len(asked) == 0 {
		return nil, err
	}
	all, err := e.Certificates(ctx)
	if err != nil {
		return nil, err
	}
	served, err := parties.LastServed(ctx, e)
	if err != nil {
		return nil, err
	}
	instead := map[int64]estate.CertificateRecord{}
	for _, c := range all {
		if c.Record.Replaces != 0 && !c.Record.Prepared {
			instead[c.Record.Replaces] = c
		}
	}
	for _, c := range all {
		from, is := asked[fmt.Sprintf("%x", c.SHA256())]
		if !is || c.State == lifecycle.Revoked || c.State == lifecycle.Expired {
			continue
		}
		l := Later{Title: c.Title(), Serial: c.SerialHex(), From: from}
		switch n, replaced := instead[c.Record.ID]; {
		case !replaced:
			l.Waits = "nothing is in its place yet"
		case !served.InUse(n.Certificate):
			l.New, l.Waits = n.SerialHex(), "no endpoint was seen to serve the one in its place"
			l.Next = advice.To("", advice.ProbeAll, "record", "")
		case served.By(c.Certificate):
			l.New, l.Waits = n.SerialHex(), "an endpoint that was seen to serve this one was not seen to serve "+
				"another since"
			l.Next = advice.To("", advice.ProbeAll, "record", "")
		case e.Now().Before(from):
			l.New, l.Waits = n.SerialHex(), "not before "+from.Format("2006-01-02 15:04 UTC")
		default:
			l.New = n.SerialHex()
		}
		out = append(out, l)
	}
	return out, nil
}
