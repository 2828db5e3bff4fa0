package sqlstore

import (
	"context"
	"fmt"
	"sync"
	"time"

	"ironseal/internal/store"
	"ironseal/internal/store/sqlite"
	"ironseal/pki/journal"
)

// Changes of one program take turns. While one waits for the disk, others gather; they are then written together and
// wait for the disk once. Each of them is whole or not there, whatever becomes of the others, and each returns when it
// is durable. Changes of other programs are waited for as ever.

// mostTogether is how many changes are written together: others wait for the records meanwhile.
const mostTogether = 64

// one is a change that waits for its turn.
type one struct {
	ctx    context.Context
	now    func() time.Time
	actor  string
	before func() error
	fn     func(store.Tx) ([]journal.Entry, error)

	done   chan struct{}
	head   journal.Head
	err    error
	broken any // what it panicked with
}

// outcome waits until the change is done.
func (o *one) outcome() (journal.Head, error) {
	<-o.done
	if o.broken != nil {
		panic(o.broken)
	}
	return o.head, o.err
}

// turns are the changes of one program.
type turns struct {
	mu      sync.Mutex
	waiting []*one
	going   bool
}

// take adds a change. Where none is going on, it is done now, by whoever asks for it.
func (t *turns) take(o *one, do func([]*one)) {
	t.mu.Lock()
	t.waiting = append(t.waiting, o)
	if t.going {
		t.mu.Unlock()
		return
	}
	t.going = true
	t.mu.Unlock()
	t.next(do)
}

// next does what waits. Whoever did their own leaves the rest to another.
func (t *turns) next(do func([]*one)) {
	t.mu.Lock()
	n := min(len(t.waiting), mostTogether)
	list := t.waiting[:n:n]
	t.waiting = t.waiting[n:]
	if t.going = n > 0; !t.going {
		t.waiting = nil
	}
	t.mu.Unlock()
	if n == 0 {
		return
	}
	do(list)
	for _, o := range list {
		close(o.done)
	}
	t.mu.Lock()
	more := len(t.waiting) > 0
	if !more {
		t.going = false
	}
	t.mu.Unlock()
	if more {
		go t.next(do)
	}
}

// together writes changes in one transaction. A change that fails leaves nothing behind.
func (s *Store) together(list []*one) {
	change, err := s.Begin(list[0].ctx, list[0].now)
	if err != nil {
		fail(list, err)
		return
	}
	defer change.Rollback()
	var last journal.Head
	good := 0
	for i, o := range list {
		if err := s.alone(change, o, len(list) > 1); err != nil { // nothing of the transaction is left
			fail(list[:i+1], s.Explain(err))
			fail(list[i+1:], s.Explain(err))
			return
		}
		if o.err == nil && o.broken == nil {
			last = o.head
			good++
		}
	}
	if good == 0 {
		return
	}
	if err := change.Commit(); err != nil {
		fail(list, fmt.Errorf("%w: %w", store.ErrUncertain, s.Explain(err)))
		return
	}
	s.note(last)
}

// fail gives an error to the changes that have none of their own.
func fail(list []*one, err error) {
	for _, o := range list {
		if o.err == nil && o.broken == nil {
			o.head, o.err = journal.Head{}, err
		}
	}
}

// alone writes one change. among says that there are others in the transaction, which a failure must leave as they are.
// An error says that the transaction as a whole is lost.
func (s *Store) alone(change *sqlite.Change, o *one, among bool) error {
	own := change.For(o.ctx, o.now)
	if among {
		if _, err := own.Exec("SAVEPOINT act"); err != nil {
			return err
		}
	}
	s.attempt(own, o)
	if !among {
		return nil
	}
	if o.err != nil || o.broken != nil {
		if _, err := own.Exec("ROLLBACK TO act"); err != nil {
			return err
		}
	}
	_, err := own.Exec("RELEASE act")
	return err
}

func (s *Store) attempt(own *sqlite.Change, o *one) {
	defer func() { o.broken = recover() }()
	tx := &Tx{Change: own, actor: o.actor, times: s.times, loaded: s.loaded}
	if o.head, o.err = tx.change(o.fn); o.err != nil {
		o.err = s.Explain(o.err)
		return
	}
	if o.before != nil {
		o.err = o.before()
	}
}
