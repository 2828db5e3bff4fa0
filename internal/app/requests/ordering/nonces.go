package ordering

import (
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"path/filepath"
	"sync"
	"time"

	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/pki/acme"
	"ironseal/pki/jose"
)

// ageOf is how long a nonce is good for at least; it is good for twice that at most.
const ageOf = 5 * time.Minute

// Nonces gives out nonces (RFC 8555 section 6.5), and takes each once. All servers of an estate take those of each
// other: a nonce is authenticated by their one secret, and used ones are noted in a folder that they share.
type Nonces struct {
	e    *estate.Estate
	key  []byte
	once disk.Once

	mu     sync.Mutex
	forgot int64 // the age before which all was forgotten
}

const (
	nonceSize = 8 + 16 // the age and a mark
	macSize   = 16
)

// NewNonces opens the nonces of an estate.
func NewNonces(e *estate.Estate) (*Nonces, error) {
	secret, err := enrol.Secret(e)
	if err != nil {
		return nil, err
	}
	defer clear(secret)
	n := &Nonces{e: e, once: disk.Once{Dir: filepath.Join(e.Dir, enrol.ServeFolder, "nonces")}}
	if err := disk.OwnDir(n.once.Dir); err != nil {
		return nil, err
	}
	n.key, err = hkdf.Key(sha256.New, secret, nil, "nonces", 32)
	return n, err
}

func (n *Nonces) age() int64 { return n.e.Now().Unix() / int64(ageOf/time.Second) }

func (n *Nonces) mac(text []byte) []byte {
	m := hmac.New(sha256.New, n.key)
	m.Write(text)
	return m.Sum(nil)[:macSize]
}

// New is another nonce.
func (n *Nonces) New() string {
	b := make([]byte, nonceSize, nonceSize+macSize)
	binary.BigEndian.PutUint64(b, uint64(n.age()))
	_, _ = rand.Read(b[8:]) // it never fails
	return base64.RawURLEncoding.EncodeToString(append(b, n.mac(b)...))
}

// Take takes a nonce. The error is a *acme.Problem where it is none of ours, too old, or taken already.
func (n *Nonces) Take(text string) error {
	bad := problem(acme.BadNonce, "the nonce is not known here, too old, or used already: take another")
	if len(text) > 100 {
		return bad
	}
	b, err := jose.Base64(text)
	if err != nil || len(b) != nonceSize+macSize || !hmac.Equal(n.mac(b[:nonceSize]), b[nonceSize:]) {
		return bad
	}
	now, age := n.age(), int64(binary.BigEndian.Uint64(b))
	if age > now+1 || age < now-1 {
		return bad
	}
	if err := n.forget(now); err != nil {
		return err
	}
	fresh, err := n.once.Take(age, disk.Mark(b[8:nonceSize]))
	if err != nil {
		return err
	}
	if !fresh {
		return bad
	}
	return nil
}

// forget removes what no nonce is compared with any more.
func (n *Nonces) forget(now int64) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.forgot >= now-1 {
		return nil
	}
	n.forgot = now - 1
	return n.once.Forget(now - 1)
}
