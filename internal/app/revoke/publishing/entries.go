package publishing

import (
	"context"
	"encoding/hex"
	"hash"
	"math/big"
	"time"

	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/journal"
	"ironseal/pki/revocation"
)

// building gathers the entries of one list.
type building struct {
	e    *estate.Estate
	d    Due
	item *event.List
	hash hash.Hash
}

// onward takes the entries of the list before, and adds what came since; nil where that one
// cannot be used.
func (b *building) onward(ctx context.Context) ([][]byte, error) {
	now := b.d.Now
	if now.Number == 0 || now.Proof == "" {
		return nil, nil
	}
	data, err := disk.ReadRegular(inventory.File(b.e, now), revocation.MostSize)
	if err != nil {
		return nil, nil // it is made again
	}
	l, err := revocation.Skim(data)
	if err != nil {
		return nil, nil
	}
	b.hash.Write(l.Encoded())
	if hex.EncodeToString(b.hash.Sum(nil)) != now.Proof {
		return nil, nil
	}
	handle := b.d.Generation.Authority.Handle
	gone, err := b.e.Records.Leaving(ctx, handle, asPart(b.d), now.Gone, time.Unix(now.Cut, 0),
		time.Unix(b.item.Cut, 0))
	if err != nil {
		return nil, err
	}
	drop := map[string]bool{}
	for _, serial := range gone {
		drop[keyOf(serial)] = true
	}
	more, n, err := b.rows(ctx, now.Through, drop, 0)
	if err != nil {
		return nil, err
	}
	pieces, left := [][]byte{l.Encoded()}, now.Entries
	if len(drop) > 0 {
		pieces, left = l.Without(drop)
		b.hash.Reset()
		for _, p := range pieces {
			b.hash.Write(p)
		}
	}
	b.hash.Write(more)
	b.item.Entries = left + n
	return append(pieces, more), nil
}

func keyOf(serial string) string {
	n, ok := new(big.Int).SetString(serial, 16)
	if !ok {
		return ""
	}
	return revocation.Key(cert.SerialOf(n))
}

// rebuild encodes all entries from the records.
func (b *building) rebuild(ctx context.Context) ([][]byte, error) {
	want, err := b.e.Records.CountListed(ctx, b.d.Generation.Authority.Handle, asPart(b.d), time.Unix(b.item.Cut, 0))
	if err != nil {
		return nil, err
	}
	b.item.Through = 0
	all, n, err := b.rows(ctx, 0, nil, want*entrySize)
	b.item.Entries = n
	b.hash.Write(all)
	return [][]byte{all}, err
}

// entrySize is what most entries take at most.
const entrySize = 50

// rows encodes what came after a revocation, and adds to drop what stood on a list before.
func (b *building) rows(ctx context.Context, after int64, drop map[string]bool, room int) (out []byte, n int,
	err error) {
	b.item.Through = max(b.item.Through, after)
	handle := b.d.Generation.Authority.Handle
	out = make([]byte, 0, room)
	err = b.e.Records.EachListEntry(ctx, handle, asPart(b.d), after, b.item.Cut, func(r store.ListEntry) error {
		b.item.Through = max(b.item.Through, r.ID)
		if r.Again && drop != nil {
			drop[keyOf(string(r.Serial))] = true
		}
		n++
		var err error
		if r.Serial[0] == '-' { // others hand out such serials
			out, err = revocation.AppendEntry(out, entryOf(store.Revocation{Serial: string(r.Serial),
				At: journal.Unstamp(string(r.At)), Reason: r.Reason}))
			return err
		}
		out, err = revocation.AppendStamped(out, r.Serial, r.At, revocation.Reason(r.Reason), r.Invalid)
		return err
	})
	return out, n, err
}

func entryOf(r store.Revocation) revocation.Entry {
	n, _ := new(big.Int).SetString(r.Serial, 16)
	if n == nil {
		n = new(big.Int)
	}
	return revocation.Entry{Serial: cert.SerialOf(n), At: r.At, Reason: revocation.Reason(r.Reason), Invalid: r.Invalid}
}
