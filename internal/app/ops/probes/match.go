package probes

import (
	"bytes"
	"context"
	"time"

	"ironseal/internal/app/requests/fleet"
	"ironseal/internal/estate"
	"ironseal/pki/cert"
)

// served asks what the records know of a certificate that is served under a name.
type served struct {
	leaf  *cert.Certificate
	name  string
	reply chan<- matched
}

// matched is the record of a certificate that is served, and the newest that was issued for the name, where that is
// another one.
type matched struct {
	on     *Match
	newest *cert.Certificate
	err    error
}

// together is how many questions are answered from one moment of the records at most, and gather how long the first of
// them waits for others, where there will be some: to begin a moment takes as long as several answers.
const (
	together = 32
	gather   = 5 * time.Millisecond
)

// answer asks the records, until its questions end. Those that came meanwhile are answered from one moment, which is
// after each of them was asked.
func (l *Looking) answer(ctx context.Context, many bool) chan<- served {
	asked := make(chan served, together)
	if l.e == nil {
		return asked
	}
	most := 1
	if many {
		most = together
	}
	go func() {
		for q := range asked {
			list := []served{q}
			late := time.After(gather)
			for more := true; more && len(list) < most; {
				select {
				case q, open := <-asked:
					if more = open; open {
						list = append(list, q)
					}
				case <-late:
					more = false
				}
			}
			reply(ctx, l.e, list)
		}
	}()
	return asked
}

func ask(asked chan<- served, leaf *cert.Certificate, name string) matched {
	reply := make(chan matched, 1)
	asked <- served{leaf, name, reply}
	return <-reply
}

func reply(ctx context.Context, e *estate.Estate, list []served) {
	done := 0
	err := e.View(ctx, func(snapshot *estate.Estate) error {
		for _, q := range list[done:] {
			q.reply <- match(ctx, snapshot, q.leaf, q.name)
			done++
		}
		return nil
	})
	for _, q := range list[done:] {
		q.reply <- matched{err: err}
	}
}

func match(ctx context.Context, e *estate.Estate, leaf *cert.Certificate, name string) (out matched) {
	h, known, err := e.OnRecord(ctx, leaf)
	if err != nil {
		return matched{err: err}
	}
	if known {
		on := &Match{Serial: h.SerialHex(), Request: h.Record.Request, Issuer: h.Record.Issuer,
			Template: h.Record.Template, State: h.State}
		if on.Holders, err = e.Holders(ctx, h); err != nil {
			return matched{err: err}
		}
		if on.Renews, err = fleet.RenewsOne(ctx, e.Records, h, e.Now()); err != nil {
			return matched{err: err}
		}
		out.on = on
	}
	list, err := e.Records.CertificatesByName(ctx, name)
	if known && len(list) == 1 && list[0].ID == h.Record.ID { // as it is with most
		return out
	}
	named, err := e.ReadCertificates(list, err)
	for _, h := range named {
		if h.State.Serves() && (out.newest == nil || !h.NotBefore.Before(out.newest.NotBefore)) {
			out.newest = h.Certificate
		}
	}
	if out.newest != nil && bytes.Equal(out.newest.Raw, leaf.Raw) {
		out.newest = nil
	}
	out.err = err
	return out
}
