package httpd

import (
	"context"
	"sync"

	"ironseal/pki/acme"
)

// proving bounds how many challenges are tried at once: each waits for a machine elsewhere.
type proving struct {
	mu     sync.Mutex
	orders map[string]bool // of which one is tried
	by     map[string]int  // how many of an account are tried
	room   chan struct{}
}

// How many challenges are tried at once, in all and of one account: no account keeps the others waiting.
const (
	mostProving = 64
	mostOfOne   = 8
)

func newProving() *proving {
	return &proving{orders: map[string]bool{}, by: map[string]int{}, room: make(chan struct{}, mostProving)}
}

// begin waits for room. One challenge of an order is tried at a time.
func (p *proving) begin(ctx context.Context, account, order string) (done func(), err error) {
	p.mu.Lock()
	busy := p.orders[order] || p.by[account] >= mostOfOne
	if !busy {
		p.orders[order] = true
		p.by[account]++
	}
	p.mu.Unlock()
	if busy {
		return nil, &acme.Problem{Kind: acme.RateLimited, Detail: "other challenges of this order or account are " +
			"being " +
			"tried", Retry: 3}
	}
	end := func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		delete(p.orders, order)
		if p.by[account]--; p.by[account] == 0 {
			delete(p.by, account)
		}
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
