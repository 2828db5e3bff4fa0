// Package passphrases changes the passphrases of keys. The keys stay the same: their files are encrypted
// again, at today's cost.
//
// A change is on record twice: once before the first file is replaced, with the digest that each file
// will have, and once when all are. So what a run that was cut off has done can be reported, and the same
// command finishes it.
package passphrases

import (
	"context"
	"crypto"
	"errors"
	"fmt"
	"slices"

	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/keystore"
	"ironseal/internal/store"
	"ironseal/pki/bundle"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/journal"
	"ironseal/pki/key"
	"ironseal/pki/pbes"
	"ironseal/pki/request"
)

// BeginAct, ChangeAct and DraftAct are what the journal calls the steps.
const (
	BeginAct  = "begin passphrase change"
	ChangeAct = "change passphrase"
	DraftAct  = "encrypt draft key"
)

// Key is a key that is kept here.
type Key struct {
	Name   string // services.g1, or services for a request that waits for its answer
	Handle string // what passphrases are asked for by
	Public key.Public
}

// Of lists the keys of authorities that are kept here, each once: of those with these handles, or of all.
func Of(ctx context.Context, e *estate.Estate, handles []string) ([]Key, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	var out []Key
	add := func(k Key) {
		if e.Keys.StoredSHA256(fmt.Sprintf("%x", k.Public.Fingerprint())) != "" && !slices.ContainsFunc(out,
			func(o Key) bool {
				return key.Same(o.Public,
					k.Public)
			}) {
			out = append(out, k)
		}
	}
	for _, a := range h {
		if len(handles) > 0 && !slices.Contains(handles, a.Handle) {
			continue
		}
		for _, g := range slices.Backward(a.Generations) {
			add(Key{g.Name(), a.Handle, g.Certificate.Key})
		}
	}
	sent, err := e.Records.Applications(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range sent {
		if len(handles) > 0 && !slices.Contains(handles, s.Handle) {
			continue
		}
		r, err := request.Read(s.DER)
		if err != nil {
			return nil, fmt.Errorf("authority %s: the request that was sent cannot be parsed: %w", s.Handle, err)
		}
		add(Key{s.Handle, s.Handle, r.Key})
	}
	for _, handle := range handles {
		if !slices.ContainsFunc(out, func(k Key) bool { return k.Handle == handle }) {
			return nil, noKey(h, handle)
		}
	}
	return out, nil
}

func noKey(h hierarchy.Hierarchy, handle string) error {
	if _, err := estate.FindGeneration(h, handle); err != nil {
		return err
	}
	return fmt.Errorf("authority %s: its key is not kept here", handle)
}

// Choose gives the new passphrase of an authority's keys.
type Choose func(ctx context.Context, handle string) ([]byte, error)

// Changed says the outcome of a key.
type Changed struct {
	Name    string `json:"key" doc:"the generation whose key it is"`
	Already bool   `json:"already" doc:"it had the new passphrase: an earlier change was cut off"`
}

// Change gives keys other passphrases. Every key is opened and encrypted again before the first file is
// replaced.
func Change(ctx context.Context, e *estate.Estate, keys []Key, choose Choose) ([]Changed, journal.Head, error) {
	return ChangeAfter(ctx, e, keys, choose, func([]keystore.Rewrapped) error { return nil })
}

// ChangeAfter is Change with something that has to be done once every key was encrypted again, and before the first
// file
// is replaced.
func ChangeAfter(ctx context.Context, e *estate.Estate, keys []Key, choose Choose,
	first func([]keystore.Rewrapped) error) ([]Changed, journal.Head, error) {
	list, err := prepared(ctx, e, keys, choose)
	if err == nil {
		err = first(list)
	}
	if err != nil {
		return nil, journal.Head{}, err
	}
	var out []Changed
	var told []event.KeyFile
	for i, r := range list {
		out = append(out, Changed{keys[i].Name, r.Already()})
		told = append(told, event.KeyFile{Name: keys[i].Name, Key: fmt.Sprintf("%x", r.Fingerprint()),
			File: fmt.Sprintf("%x", r.SHA256())})
	}
	about := keys[0].Handle
	if len(keys) > 1 {
		about = fmt.Sprintf("%d keys", len(keys))
	}
	if _, err := e.Act(ctx, func(store.Tx) ([]event.Record, error) {
		return []event.Record{event.On(about, event.PassphraseChangeBegun{Keys: told})}, nil
	}); err != nil {
		return nil, journal.Head{}, err
	}
	head, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		for i, r := range list {
			if err := e.Keys.Put(r, tx); err != nil {
				return nil, fmt.Errorf("%w: %d of %d keys have the new passphrase: give the same command again", err, i,
					len(list))
			}
		}
		return []event.Record{event.On(about, event.PassphraseChanged{Keys: told})}, nil
	})
	return out, head, err
}

// prepared opens every key and encrypts it again, in memory.
func prepared(ctx context.Context, e *estate.Estate, keys []Key, choose Choose) ([]keystore.Rewrapped, error) {
	opened := map[string][][]byte{} // what opened a key of the same authority is tried first
	chosen := map[string][]byte{}
	defer func() {
		for _, list := range opened {
			for _, s := range list {
				clear(s)
			}
		}
		for _, s := range chosen {
			clear(s)
		}
	}()
	var out []keystore.Rewrapped
	for _, k := range keys {
		secret := chosen[k.Handle]
		if secret == nil {
			var err error
			if secret, err = choose(ctx, k.Handle); err != nil {
				return nil, err
			}
			chosen[k.Handle] = secret
		}
		r, old, err := e.Keys.Rewrap(ctx, k.Public, k.Handle, secret, opened[k.Handle])
		if err != nil {
			return nil, err
		}
		opened[k.Handle] = append(opened[k.Handle], old)
		out = append(out, r)
	}
	return out, nil
}

// Check opens each key, and signs nothing.
func Check(ctx context.Context, e *estate.Estate, keys []Key) error {
	for _, k := range keys {
		o, err := e.Keys.Open(ctx, k.Public, k.Handle, keystore.ForCheck)
		if err != nil {
			return err
		}
		o.Close()
	}
	return nil
}

// Draft encrypts the key of a draft under another passphrase, or under its first one. It returns the file.
func Draft(ctx context.Context, e *estate.Estate, name string, secret []byte) (file string, head journal.Head,
	err error) {
	rec, r, err := e.Request(ctx, name)
	if err != nil {
		return "", head, err
	}
	file, _, err = e.Records.DraftKey(ctx, r.Key.Fingerprint())
	if err != nil {
		return "", head, err
	}
	if file == "" {
		return "", head, fmt.Errorf("R%d was not drafted here: whoever made the request has its key", rec.Number)
	}
	was, err := disk.Read(file, bundle.MostBytes)
	if err != nil {
		return "", head, fmt.Errorf("key of R%d: %w", rec.Number, err)
	}
	signer, err := openDraft(ctx, e, file, r, secret)
	if err != nil {
		return "", head, err
	}
	der, err := pbes.Encrypt(signer, secret, pbes.WorkGiven, e.Env.Random)
	if err != nil {
		return "", head, err
	}
	if again, err := pbes.Decrypt(der, secret); err != nil || !sameKey(again, r.Key) {
		return "", head, errors.Join(fmt.Errorf("key of R%d: what was encrypted does not open: nothing was changed",
			rec.Number), err)
	}
	head, err = e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		if same, _, err := disk.Holds(file, was); err != nil || !same {
			return nil, errors.Join(fault.New(fault.Changed, "%s was changed meanwhile: nothing was changed",
				file), err)
		}
		if err := tx.EncryptDraft(r.Key.Fingerprint()); err != nil {
			return nil, err
		}
		if err := e.Env.Disk.Replace(file, bundle.PEM(bundle.EncryptedKey, der), 0o600); err != nil {
			return nil, err
		}
		return []event.Record{event.On(fmt.Sprintf("R%d", rec.Number), event.DraftKeyEncrypted{File: file,
			Key: fmt.Sprintf("%x", r.Key.Fingerprint())})}, nil
	})
	return file, head, err
}

func openDraft(ctx context.Context, e *estate.Estate, file string, r *request.Request, secret []byte) (crypto.Signer,
	error) {
	signer, err := delivery.OpenKeyFile(ctx, file, r.Title(), e.Env.Pass)
	if errors.Is(err, pbes.ErrPassphrase) { // a run that was cut off may have encrypted it already
		if again, newErr := delivery.OpenKeyFile(ctx, file, r.Title(), fixed(secret)); newErr == nil {
			signer, err = again, nil
		}
	}
	if err == nil && !sameKey(signer, r.Key) {
		err = fmt.Errorf("%s holds another key than the request's", file)
	}
	return signer, err
}

func sameKey(signer crypto.Signer, public key.Public) bool {
	pub, err := key.Of(signer)
	return err == nil && key.Same(pub, public)
}

// fixed answers every question with the same secret.
type fixed []byte

func (f fixed) Passphrase(context.Context, keystore.Question) ([]byte, bool, error) {
	return slices.Clone(f), true, nil
}
