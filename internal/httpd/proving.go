package httpd

import (
	"context"
	"sync"

	"ironseal/pki/acme"
)

// proving bounds how many challenges are tried at once: each waits for a machine elsewhere.
type proving struct {
	mu   sync.Mutex
	now  map[string]bool // the orders of which one is tried
	room chan struct{}
}

// mostProving is how many are tried at once.
const mostProving = 64

func newProving() *proving {
	return &proving{now: map[string]bool{}, room: make(chan struct{}, mostProving)}
}

// begin waits for room. One challenge of an order is tried at a time.
func (p *proving) begin(ctx context.Context, order string) (done func(), err error) {
	p.mu.Lock()
	busy := p.now[order]
	if !busy {
		p.now[order] = true
	}
	p.mu.Unlock()
	if busy {
		return nil, &acme.Problem{Kind: acme.RateLimited, Detail: "a challenge of this order is being tried"}
	}
	end := func() {
		p.mu.Lock()
		delete(p.now, order)
		p.mu.Unlock()
	}
	select {
	case p.room <- struct{}{}:
		return func() {
			<-p.room
			end()
		}, nil
	case <-ctx.Done():
		end()
		return nil, ctx.Err()
	}
}
