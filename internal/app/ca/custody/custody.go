// Package custody changes who holds an authority's key: a file that a passphrase opens, an SSH agent, or several
// custodians together. The key and the certificates stay the same.
package custody

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"path/filepath"

	"ironseal/internal/app/ca/passphrases"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/keystore"
	"ironseal/internal/store"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/shamir"
)

// Moved is a key that is held otherwise now.
type Moved struct {
	Name  string // the generation
	Aside string // where its file is now; "" for none
}

// ToAgent lets an SSH agent hold the keys of an authority that are in files here. The files are moved aside: an agent
// forgets what is not on a token.
func ToAgent(ctx context.Context, e *estate.Estate, handle string, confirm bool) ([]Moved, journal.Head, error) {
	return move(ctx, e, handle, "agent", func(k passphrases.Key) error {
		return e.Keys.ToAgent(ctx, k.Public, k.Name, confirm)
	}, func(k passphrases.Key) (string, error) {
		if err := fromRecords(e, k); err != nil {
			return "", err
		}
		return setAside(e, k)
	})
}

// ToRecords lets the records keep the sealed keys of an authority that are in files here, for every machine that shares
// them. The files are moved aside, so that none of them stays behind when the passphrase changes.
func ToRecords(ctx context.Context, e *estate.Estate, handle string) ([]Moved, journal.Head, error) {
	return move(ctx, e, handle, estate.KeepRecords, func(k passphrases.Key) error {
		return e.Keys.ToShelf(k.Public, k.Name)
	}, func(k passphrases.Key) (string, error) { return setAside(e, k) })
}

// ToFolder brings the sealed keys of an authority from the records to this machine, and takes them out of the records.
func ToFolder(ctx context.Context, e *estate.Estate, handle string) ([]Moved, journal.Head, error) {
	return move(ctx, e, handle, estate.KeepFolder, func(k passphrases.Key) error {
		return e.Keys.FromShelf(k.Public, k.Name)
	}, func(k passphrases.Key) (string, error) { return "", e.Keys.OffShelf(k.Public) })
}

// move lets each key of an authority be held by someone else: to copies it there, which is recorded, and away takes it
// from where it was. Cut off in between, it is in both places, and the same command ends it.
func move(ctx context.Context, e *estate.Estate, handle, by string, to func(passphrases.Key) error,
	away func(passphrases.Key) (aside string, err error)) (out []Moved, head journal.Head, err error) {
	keys, err := passphrases.Of(ctx, e, []string{handle})
	if err != nil {
		return nil, head, err
	}
	for _, k := range keys {
		if err := to(k); err != nil {
			return out, head, err
		}
		if head, err = e.Act(ctx, func(store.Tx) ([]event.Record, error) {
			told := event.KeyHeld{Key: fmt.Sprintf("%x", k.Public.Fingerprint()), By: by}
			return []event.Record{event.On(k.Name, told)}, nil
		}); err != nil {
			return out, head, err
		}
		aside, err := away(k)
		if err != nil {
			return out, head, err
		}
		out = append(out, Moved{k.Name, aside})
	}
	return out, head, nil
}

func setAside(e *estate.Estate, k passphrases.Key) (string, error) {
	return e.Keys.SetAside(k.Public, filepath.Join(e.Dir, estate.AsideDir))
}

// fromRecords brings a sealed key that the records keep to this machine; one that they do not keep stays as it is.
func fromRecords(e *estate.Estate, k passphrases.Key) error {
	if e.Keys.StoredSHA256(fmt.Sprintf("%x", k.Public.Fingerprint())) == "" {
		return nil
	}
	if err := e.Keys.FromShelf(k.Public, k.Name); err != nil {
		return err
	}
	return e.Keys.OffShelf(k.Public)
}

// Given is a share as a custodian is to have it.
type Given struct {
	Custodian string
	Keys      string // the authority whose keys it is for
	Share     shamir.Share
}

// ShareAsk says among whom a key is divided.
type ShareAsk struct {
	Handle string
	Need   int
	Among  []string // the custodians
	// Give hands the shares out, on paper or in files. What it returns an error for changes nothing: the keys still
	// open
	// as before.
	Give func([]Given) error
}

// Share lets custodians hold the keys of an authority together: what opens the keys' files is a random secret that was
// divided among them. What opened the files before is worthless from then on, but for copies of them.
func Share(ctx context.Context, e *estate.Estate, ask ShareAsk) (journal.Head, error) {
	if err := shamir.CheckNames(ask.Among); err != nil {
		return journal.Head{}, err
	}
	keys, err := passphrases.Of(ctx, e, []string{ask.Handle})
	if err != nil {
		return journal.Head{}, err
	}
	secret := make([]byte, shamir.SecretBytes)
	defer clear(secret)
	if _, err := io.ReadFull(e.Env.Random, secret); err != nil {
		return journal.Head{}, err
	}
	shares, err := divided(secret, ask, e)
	if err != nil {
		return journal.Head{}, err
	}
	defer func() {
		for _, s := range shares {
			s.Clear()
		}
	}()
	note := shamir.NoteOf(shares, ask.Among)
	choose := func(context.Context, string) ([]byte, error) { return shamir.Text(secret), nil }
	if _, _, err := passphrases.ChangeAfter(ctx, e, keys, choose, func(list []keystore.Rewrapped) error {
		var given []Given
		for i, s := range shares {
			given = append(given, Given{ask.Among[i], ask.Handle, s})
		}
		if err := ask.Give(given); err != nil {
			return err
		}
		for _, r := range list {
			if err := e.Keys.NoteShares(r, note); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return journal.Head{}, err
	}
	return e.Act(ctx, func(store.Tx) ([]event.Record, error) {
		var out []event.Record
		for _, k := range keys {
			out = append(out, event.On(k.Name, event.KeyHeld{Key: fmt.Sprintf("%x", k.Public.Fingerprint()),
				By: "custodians", Who: ask.Among, How: fmt.Sprintf("%d of %d", ask.Need, len(ask.Among))}))
		}
		return out, nil
	})
}

// divided divides a secret, and tries whether the shares give it back.
func divided(secret []byte, ask ShareAsk, e *estate.Estate) ([]shamir.Share, error) {
	shares, err := shamir.Divide(secret, ask.Need, len(ask.Among), e.Env.Random)
	if err != nil {
		return nil, err
	}
	for at := range shares { // each is in one of the sets
		var some []shamir.Share
		for i := range ask.Need {
			some = append(some, shares[(at+i)%len(shares)])
		}
		back, err := shamir.Combine(some)
		if err != nil || !bytes.Equal(back, secret) {
			return nil, fault.New(fault.Internal, "the shares do not give the secret back: nothing was changed")
		}
		clear(back)
	}
	return shares, nil
}
