package responding

import (
	"hash/maphash"
	"sync"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/ocsp"
	"ironseal/pki/revocation"
)

// answers are answers that are kept in memory, so many at most: whoever asks about serials that no one issued cannot
// fill it.
type answers struct {
	seed   maphash.Seed
	once   sync.Once
	shards [shards]shard
}

const (
	shards    = 16
	mostShard = 8192 // answers in one shard: about 1 kB each
)

type shard struct {
	mu  sync.RWMutex
	all map[string]answer
}

// answer is one that is kept.
type answer struct {
	told   Told
	by     *Responder // nil where it was prepared
	seq    int64      // the journal's newest entry when the records told so
	status status
}

// status is what the records tell of a certificate.
type status struct {
	status ocsp.Status
	at     time.Time
	reason revocation.Reason
}

func statusOf(k *Knowledge, serial cert.Serial) (s status) {
	s.status, s.at, s.reason = k.Of(serial)
	return s
}

// answerKey names what a request with one certificate asks.
func answerKey(q ocsp.Request) string {
	id := q.Asked[0]
	return string(rune(id.Hash)) + issuerKey(id) + id.Serial.Hex()
}

func (a *answers) shard(name string) *shard {
	a.once.Do(func() { a.seed = maphash.MakeSeed() })
	return &a.shards[maphash.String(a.seed, name)%shards]
}

func (a *answers) find(name string) (answer, bool) {
	s := a.shard(name)
	s.mu.RLock()
	defer s.mu.RUnlock()
	out, ok := s.all[name]
	return out, ok
}

func (a *answers) keep(name string, one answer) {
	s := a.shard(name)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all == nil {
		s.all = map[string]answer{}
	}
	if _, there := s.all[name]; !there && len(s.all) >= mostShard {
		drop := mostShard / 8
		for old := range s.all { // in no order
			if delete(s.all, old); drop == 0 {
				break
			}
			drop--
		}
	}
	s.all[name] = one
}
