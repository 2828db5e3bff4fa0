package sshagent

import (
	"context"
	"crypto"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"ironseal/internal/disk"
	"ironseal/internal/keystore"
	"ironseal/pki/fault"
	"ironseal/pki/key"
)

// Prefix begins the name of a place where a key is: "agent:" and the fingerprint of the key, as SSH writes it.
const Prefix = "agent:"

// confirmWait is how long a person may take to confirm the use of a key, or to touch a token.
const confirmWait = 2 * time.Minute

// lookWait is how long the agent is waited for where it is only looked whether it holds a key.
const lookWait = 3 * time.Second

// Store keeps keys in another keystore, or knows that an SSH agent holds them. What is kept here of a key that an agent
// holds is a note beside the key files, which names it.
type Store struct {
	keystore.Keystore // for keys that are not in an agent
	Dir               string
	Disk              disk.Disk
	Agent             *Agent // nil for none

	once sync.Once
	list []Held // what the agent held when it was first asked
}

var _ keystore.Keystore = (*Store)(nil)

// note is the file that says that an agent holds a key.
func (s *Store) note(p key.Public) string {
	return filepath.Join(s.Dir, fmt.Sprintf("%x.agent", p.Fingerprint()))
}

// Noted reports whether the note of a key is here.
func (s *Store) noted(p key.Public) bool {
	_, err := os.Stat(s.note(p))
	return err == nil
}

// Has reports whether the key is here: in a file, in an agent by a note, or in the agent that is connected.
func (s *Store) Has(p key.Public) bool {
	return s.Keystore.Has(p) || s.noted(p) || s.offered(p) != nil
}

// offered is the key as the connected agent names it; nil where it does not hold it.
func (s *Store) offered(p key.Public) []byte {
	if s.Agent == nil {
		return nil
	}
	s.once.Do(func() {
		quick := *s.Agent
		quick.Wait = lookWait
		if list, err := quick.List(context.Background()); err == nil { // one that does not answer holds nothing
			s.list = list
		}
	})
	for _, h := range s.list {
		if have, ok := publicOf(h.Blob); ok && key.Same(have, p) {
			return h.Blob
		}
	}
	return nil
}

// Open opens a key. One that is in a file is opened there.
func (s *Store) Open(ctx context.Context, p key.Public, handle string, purpose keystore.Purpose) (keystore.Opened,
	error) {
	if s.Keystore.Has(p) {
		return s.Keystore.Open(ctx, p, handle, purpose)
	}
	blob := s.offered(p)
	switch {
	case blob != nil:
		return s.signer(ctx, blob, p, handle), nil
	case !s.noted(p):
		return s.Keystore.Open(ctx, p, handle, purpose) // it says what is missing
	case s.Agent == nil:
		return nil, fault.New(fault.Unavailable, "key of %s: an SSH agent holds it, and none is named here: set "+
			"SSH_AUTH_SOCK", handle).On(fault.Key.Named("%s", handle))
	}
	if _, err := s.Agent.List(ctx); err != nil {
		return nil, fmt.Errorf("key of %s: %w", handle, err)
	}
	return nil, fault.New(fault.Unavailable, "key of %s: the SSH agent at %s does not hold it now: put in the "+
		"token, or add "+
		"the key", handle, s.Agent.Socket).On(fault.Key.Named("%s", handle))
}

func (s *Store) signer(ctx context.Context, blob []byte, p key.Public, handle string) *signer {
	patient := *s.Agent
	patient.Wait = confirmWait
	return &signer{ctx: context.WithoutCancel(ctx), agent: &patient, blob: blob, public: p, handle: handle}
}

// Ahead opens a key now. Of one that an agent holds it asks whether it is there.
func (s *Store) Ahead(ctx context.Context, p key.Public, handle string, purpose keystore.Purpose) error {
	if s.Keystore.Has(p) {
		return s.Keystore.Ahead(ctx, p, handle, purpose)
	}
	_, err := s.Open(ctx, p, handle, purpose)
	return err
}

// At finds a key that an agent holds, for a new authority: place is "agent:" and its fingerprint, or how it begins.
func (s *Store) At(ctx context.Context, place string) (*keystore.Fresh, error) {
	print, ok := strings.CutPrefix(place, Prefix)
	if !ok {
		return s.Keystore.At(ctx, place)
	}
	if s.Agent == nil {
		return nil, fault.New(fault.Unavailable, "no SSH agent is named here: set SSH_AUTH_SOCK")
	}
	list, err := s.Agent.List(ctx)
	if err != nil {
		return nil, err
	}
	var found []Held
	for _, h := range list {
		if k, err := ssh.ParsePublicKey(h.Blob); err == nil && len(print) >= len("SHA256:")+4 &&
			strings.HasPrefix(ssh.FingerprintSHA256(k), print) {
			found = append(found, h)
		}
	}
	if len(found) != 1 {
		return nil, fault.New(fault.NotFound, "the SSH agent at %s holds %d keys of the fingerprint %s; it holds %s",
			s.Agent.Socket, len(found), print, fingerprints(list))
	}
	p, ok := publicOf(found[0].Blob)
	if !ok {
		return nil, fault.New(fault.Refused, "a key of the kind %s cannot be that of an authority", found[0].Format)
	}
	return keystore.FreshIn(place, s.signer(ctx, found[0].Blob, p, "the new authority"), p), nil
}

func fingerprints(list []Held) string {
	var out []string
	for _, h := range list {
		if k, err := ssh.ParsePublicKey(h.Blob); err == nil {
			out = append(out, ssh.FingerprintSHA256(k))
		}
	}
	if len(out) == 0 {
		return "none"
	}
	return strings.Join(out, ", ")
}

// Keep stores a new key; of one that an agent holds, the note.
func (s *Store) Keep(f *keystore.Fresh, secret []byte) error {
	if f.Place == "" {
		return s.Keystore.Keep(f, secret)
	}
	h, ok := f.Signer().(*signer)
	if !ok {
		return fault.New(fault.Internal, "the key is not an agent's")
	}
	k, err := ssh.ParsePublicKey(h.blob)
	if err != nil {
		return err
	}
	text := "# This authority's key is held by an SSH agent, and is not in this directory.\n" +
		string(ssh.MarshalAuthorizedKey(k))
	return s.Disk.New(s.note(f.Public), []byte(text), 0o600)
}

// Remove deletes a key that was kept and never recorded.
func (s *Store) Remove(f *keystore.Fresh) error {
	if f.Place == "" {
		return s.Keystore.Remove(f)
	}
	return s.Disk.Remove(s.note(f.Public))
}

// Destroy deletes a key permanently. What an agent holds is its owner's to delete.
func (s *Store) Destroy(p key.Public) error {
	if s.Keystore.Has(p) {
		return s.Keystore.Destroy(p)
	}
	if s.noted(p) {
		return s.Disk.Remove(s.note(p))
	}
	return fault.New(fault.Unavailable, "an SSH agent holds the key: delete it there")
}

// Add puts a key into the agent. confirm lets the agent ask before each use.
func (a *Agent) Add(ctx context.Context, private any, comment string, confirm bool) error {
	_, err := ask(ctx, a, func(c agent.ExtendedAgent) (struct{}, error) {
		return struct{}{}, c.Add(agent.AddedKey{PrivateKey: private, Comment: comment, ConfirmBeforeUse: confirm})
	})
	return err
}

// ToAgent puts a key of a file into the agent, unless it holds it, and notes that it does once the agent has signed
// with it. The file stays where it is.
func (s *Store) ToAgent(ctx context.Context, p key.Public, handle string, confirm bool) error {
	files, ok := s.Keystore.(interface {
		Private(context.Context, key.Public, string) (crypto.Signer, error)
	})
	if s.Agent == nil || !ok {
		return fault.New(fault.Unavailable, "no SSH agent is named here: set SSH_AUTH_SOCK")
	}
	blob, err := s.find(ctx, p)
	if err == nil && blob == nil {
		var private crypto.Signer
		if private, err = files.Private(ctx, p, handle); err != nil {
			return err
		}
		if err = s.Agent.Add(ctx, private, "authority "+handle, confirm); err == nil {
			blob, err = s.find(ctx, p)
		}
	}
	if err != nil || blob == nil {
		return errors.Join(fault.New(fault.Unavailable, "the SSH agent did not take the key of %s", handle), err)
	}
	signs := s.signer(ctx, blob, p, handle)
	defer signs.Close()
	challenge := make([]byte, 32)
	if _, err := io.ReadFull(rand.Reader, challenge); err != nil {
		return err
	}
	// the signature is verified; what is signed can be nothing that is used anywhere
	if _, _, err := key.SignMessage(append([]byte("does this agent hold the key? "), challenge...), signs,
		rand.Reader); err != nil {
		return err
	}
	if s.noted(p) {
		return nil
	}
	return s.Keep(keystore.FreshIn(Prefix, signs, p), nil)
}

// find asks the agent for a key, as it is now.
func (s *Store) find(ctx context.Context, p key.Public) ([]byte, error) {
	list, err := s.Agent.List(ctx)
	for _, h := range list {
		if have, ok := publicOf(h.Blob); ok && key.Same(have, p) {
			return h.Blob, err
		}
	}
	return nil, err
}
