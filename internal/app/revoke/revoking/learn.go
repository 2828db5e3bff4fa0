package revoking

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/lifecycle"
	"ironseal/pki/revocation"
)

// News is what a list tells of a certificate, and the records do not know.
type News struct {
	Target
	Entry revocation.Entry
	Back  bool // it was on hold, and is no longer on the list
	// Unknown says that the certificate itself is not on record: an authority of ours signed it after the
	// backup that was restored. Of the target, By and Part are known.
	Unknown bool
}

// Learn compares a list of a generation with what is on record. What it tells is as good as a
// revocation here: the authority signed it. Of an authority whose key is here, what is not on record is
// learnt too: no other record has it.
func Learn(ctx context.Context, e *estate.Estate, by *hierarchy.Generation, l *revocation.List) (out []News,
	err error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	ours := map[string]Target{} // by the key of the serial; a list may be far longer than what is on record
	var onHold []string         // keys of those on hold, in order
	which := estate.Filter{State: lifecycle.AnyState, By: by.Authority.Handle}
	_, err = e.EachCertificate(ctx, which, func(c estate.CertificateRecord) error {
		t, err := target(ctx, e, h, c)
		if err != nil && !errors.Is(err, errExternal) || t.By == nil || !hierarchy.SameList(t.By, by) {
			return nil // itself, or one that another key signed
		}
		k := revocation.Key(c.Serial)
		if ours[k] = t; t.revokedFor(revocation.CertificateHold) {
			onHold = append(onHold, k)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	listed := map[string]bool{}
	err = l.Each(func(en revocation.Entry) error {
		k := revocation.Key(en.Serial)
		t, is := ours[k]
		if !is {
			n, err := unknown(ctx, e, by, l, en)
			out = append(out, n...)
			return err
		}
		listed[k] = true
		if t.Was == nil || !t.Was.Released.IsZero() ||
			overrides(en.Reason, revocation.Reason(t.Was.Reason)) {
			out = append(out, News{Target: t, Entry: en})
		}
		return nil
	})
	for _, k := range onHold {
		if !listed[k] && !l.Scoped { // a part is silent about what is on another
			out = append(out, News{Target: ours[k], Back: true})
		}
	}
	return out, err
}

// Forgotten are the certificates on record that an authority has revoked permanently and that a newer list of it
// leaves out although they have not ended. RFC 5280 section 3.3 allows no list to do that: its estate is an
// older copy, which does not know of them.
func Forgotten(ctx context.Context, e *estate.Estate, by *hierarchy.Generation, l *revocation.List) (out []Target,
	err error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	gone := map[string]Target{}
	which := estate.Filter{State: lifecycle.AnyState, By: by.Authority.Handle}
	_, err = e.EachCertificate(ctx, which, func(c estate.CertificateRecord) error {
		t, err := target(ctx, e, h, c)
		if err != nil && !errors.Is(err, errExternal) || t.By == nil || !hierarchy.SameList(t.By, by) {
			return nil
		}
		if t.Was != nil && t.Was.Released.IsZero() && !t.revokedFor(revocation.CertificateHold) &&
			t.NotAfter.After(l.ThisUpdate) {
			gone[revocation.Key(c.Serial)] = t
		}
		return nil
	})
	if err != nil || len(gone) == 0 {
		return nil, err
	}
	if err := l.Each(func(en revocation.Entry) error {
		delete(gone, revocation.Key(en.Serial))
		return nil
	}); err != nil {
		return nil, err
	}
	for _, k := range slices.Sorted(maps.Keys(gone)) {
		out = append(out, gone[k])
	}
	return out, nil
}

// unknown is what an entry of a list of ours tells of a certificate that is not on record.
func unknown(ctx context.Context, e *estate.Estate, by *hierarchy.Generation, l *revocation.List,
	en revocation.Entry) ([]News, error) {
	if by.Authority.External() || en.Reason == revocation.RemoveFromCRL {
		return nil, nil
	}
	r, found, err := e.Records.RevocationOf(ctx, by.Authority.Handle, en.Serial.Hex())
	if err != nil || found && (r.Released.IsZero() && !overrides(en.Reason, revocation.Reason(r.Reason))) {
		return nil, err
	}
	n := News{Target: Target{By: by}, Entry: en, Unknown: true}
	for _, name := range l.Scope.Names {
		n.Part = max(n.Part, revocation.PartAt(name.URI, by.ListName()))
	}
	return []News{n}, nil
}

// revokedFor reports whether a certificate is revoked, for a reason.
func (t Target) revokedFor(r revocation.Reason) bool {
	return t.Was != nil && t.Was.Released.IsZero() && revocation.Reason(t.Was.Reason) == r
}

// Words tells news, one line a certificate: lists that were signed ahead say the same again.
func Words(news []News) (out []string) {
	for _, n := range news {
		word := "stands again"
		if !n.Back {
			word = "is revoked, " + n.Entry.Reason.Word()
		}
		line := fmt.Sprintf("a certificate of %s that is not on record, serial %s, %s", n.By.Label(),
			n.Entry.Serial.Short(), word)
		if !n.Unknown {
			line = fmt.Sprintf("%s, serial %s, %s", n.Label(), n.Serial.Short(), word)
		}
		if !slices.Contains(out, line) {
			out = append(out, line)
		}
	}
	return out
}

// Record records what was learned, within an act, and tells the journal of it. What someone
// else recorded meanwhile stays.
func Record(tx store.Tx, news []News, because string) (out []event.Record, err error) {
	for _, n := range news {
		by := n.By.Authority.Handle
		if n.Back {
			err = tx.Release(by, n.SerialHex(), int(revocation.CertificateHold))
			if err == nil {
				out = append(out, event.On(n.Title(), event.Released{Released: []event.RevokedCertificate{
					tellReleased(n.Target)}, Because: because}))
			}
		} else {
			title, r := "", store.Revocation{Serial: n.Entry.Serial.Hex(), At: n.Entry.At.UTC().Truncate(time.Second),
				Reason: int(n.Entry.Reason), Invalid: n.Entry.Invalid, Part: n.Part}
			if title = "serial " + n.Entry.Serial.Short(); !n.Unknown {
				title, r.Ends = n.Title(), n.NotAfter
			}
			var was *store.Revocation
			was, err = tx.Revoke(by, r, func(reason int) bool {
				return overrides(n.Entry.Reason, revocation.Reason(reason))
			})
			if err == nil {
				out = append(out, event.On(title, event.Revoked{Revoked: []event.RevokedCertificate{
					tellRevoked(n.Target, r, was)}, Because: because, Reason: n.Entry.Reason.Word()}))
			}
		}
		if err != nil && !errors.Is(err, fault.Changed) {
			return nil, fmt.Errorf("serial %s: %w", n.Entry.Serial.Short(), err)
		}
	}
	return out, nil
}
