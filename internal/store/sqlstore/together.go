package sqlstore

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"sync"
	"time"

	"ironseal/internal/store"
	"ironseal/internal/store/sqldb"
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

// together writes changes in one transaction. A change that fails leaves nothing behind. Where the connection to a
// server is lost, they are done again once there is another, unless they turn out to be on record.
func (s *Store) together(list []*one) {
	until := time.Now().Add(s.Patience())
	for pause := 20 * time.Millisecond; ; pause = min(2*pause, time.Second) {
		err := s.transact(list, until)
		if err == nil {
			return
		}
		if !s.Lost(err) || time.Now().Add(pause).After(until) {
			fail(list, s.Explain(err))
			return
		}
		time.Sleep(pause)
		for _, o := range list {
			o.head, o.err, o.broken = journal.Head{}, nil, nil
		}
	}
}

// transact writes changes in one transaction. An error says that none of them is on record.
func (s *Store) transact(list []*one, until time.Time) error {
	known := s.times.known()
	change, err := s.BeginAsking(list[0].ctx, list[0].now, endQuestion(s.Querier(), known), endArguments(known)...)
	if err != nil {
		return err
	}
	defer change.Rollback()
	var last journal.Head
	good := 0
	for _, o := range list {
		if err := s.alone(change, o, len(list) > 1); err != nil { // nothing of the transaction is left
			return err
		}
		if o.err == nil && o.broken == nil {
			last = o.head
			good++
		}
	}
	if good == 0 {
		return nil
	}
	err = change.Commit()
	if err != nil && s.Lost(err) {
		var done bool
		if done, err = s.settle(list[0].ctx, last, err, until); err != nil && !done {
			return err
		}
	}
	if _, dropped := errors.AsType[*sqldb.DroppedError](err); dropped {
		fail(list, s.Explain(err))
		return nil
	}
	if err != nil {
		fail(list, fmt.Errorf("%w: %w", store.ErrUncertain, s.Explain(err)))
		return nil
	}
	s.note(last)
	return nil
}

// settle finds out whether a change is on record whose connection was lost at its commit. It takes its turn before it
// asks: the server may still be at it, and a commit that waits for a standby is not seen by others until then. lost is
// returned where the change is not on record. done with an error says that the answer could not be had.
func (s *Store) settle(ctx context.Context, head journal.Head, lost error, until time.Time) (done bool, err error) {
	for pause := 50 * time.Millisecond; ; pause = min(2*pause, time.Second) {
		var there bool
		var c *sqldb.Change
		if c, err = s.Begin(ctx, time.Now); err == nil {
			var en journal.Entry
			en, err = scanEntry(c.QueryRow(entryQuestion+"seq = ?", head.Seq))
			c.Rollback()
			there = err == nil && en.Head() == head
			if errors.Is(err, sql.ErrNoRows) {
				err = nil
			}
		}
		switch {
		case err == nil && there:
			return true, nil
		case err == nil:
			return false, lost
		case time.Now().Add(pause).After(until):
			return true, errors.Join(lost, err)
		}
		time.Sleep(pause)
	}
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
func (s *Store) alone(change *sqldb.Change, o *one, among bool) error {
	own := change.For(o.ctx, o.now)
	if among {
		if _, err := own.Exec("SAVEPOINT act"); err != nil {
			return err
		}
	}
	s.attempt(own, o)
	if s.Lost(o.err) {
		return o.err
	}
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

func (s *Store) attempt(own *sqldb.Change, o *one) {
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
