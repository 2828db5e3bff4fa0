package keystore

import (
	"bytes"
	"context"
	"sync"
)

// Remembering asks for each passphrase once, and answers the same question later. A server that was started
// by a person needs it: it opens keys again without a person. What it remembers is in memory only.
type Remembering struct {
	Pass  Passphrases
	mu    sync.Mutex
	known map[string][]byte
}

// Passphrase implements Passphrases. A passphrase that turned out to be wrong is asked for again.
func (r *Remembering) Passphrase(ctx context.Context, q Question) ([]byte, bool, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if secret, ok := r.known[q.Handle]; ok && !q.Again && !q.New {
		return bytes.Clone(secret), false, nil
	}
	secret, final, err := r.Pass.Passphrase(ctx, q)
	if err == nil && !q.New && q.Shares == nil { // what custodians opened is for one act
		if r.known == nil {
			r.known = map[string][]byte{}
		}
		clear(r.known[q.Handle])
		r.known[q.Handle] = bytes.Clone(secret)
	}
	return secret, final, err
}

// Forget clears what is remembered.
func (r *Remembering) Forget() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, secret := range r.known {
		clear(secret)
	}
	r.known = nil
}
