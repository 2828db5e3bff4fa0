package backup

import (
	"context"
	"crypto"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/parties"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/hierarchy"
	"ironseal/pki/key"
)

// Rehearse makes a playable copy of the estate: the same authorities, dates,
// templates and settings, with throwaway keys, wherever the real ones are. It is
// marked permanently, and so is all that it makes.
func Rehearse(ctx context.Context, e *estate.Estate, dir string, now time.Time) (*estate.Estate, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	if err := estate.CheckEmpty(dir); err != nil {
		return nil, err
	}
	w := e.Env
	w.Now = func() time.Time { return now }
	err = disk.NewFolder(estate.RemoveIfEmpty(dir), func(into string) error { return copyTo(ctx, e, into, h, w) })
	if err != nil {
		return nil, fmt.Errorf("rehearsal %s: %w", dir, err)
	}
	return estate.Open(ctx, dir, w)
}

// copyTo makes the copy aside: half of one is none.
func copyTo(ctx context.Context, e *estate.Estate, into string, h hierarchy.Hierarchy, w estate.Env) error {
	f := estate.Options{Organisation: e.Settings.Organisation.Name, Country: e.Settings.Organisation.Country,
		Rehearsal: true}
	if err := estate.Init(ctx, into, f, w.Filled()); err != nil {
		return err
	}
	copied, err := estate.Open(ctx, into, w)
	if err != nil {
		return err
	}
	err = furnishLike(copied, e)
	if err == nil {
		err = replay(ctx, copied, h)
	}
	if err == nil {
		err = parties.CopyTo(ctx, e, copied)
	}
	if err == nil {
		err = revoking.Carry(ctx, e, copied)
	}
	return errors.Join(err, copied.Close())
}

// furnishLike copies templates, receivers and settings.
func furnishLike(e *estate.Estate, from *estate.Estate) error {
	for _, sub := range estate.DataDirs() {
		to := filepath.Join(e.Dir, sub)
		if err := os.RemoveAll(to); err != nil {
			return disk.Explain(err)
		}
		if err := os.CopyFS(to, os.DirFS(filepath.Join(from.Dir, sub))); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return disk.Explain(err)
		}
	}
	data, err := disk.Read(filepath.Join(from.Dir, estate.SettingsFile), 1<<20)
	if err != nil {
		return err
	}
	if err := e.Env.Disk.Replace(filepath.Join(e.Dir, estate.SettingsFile), data, 0o644); err != nil {
		return err
	}
	return estate.PointTo(e.Dir, e.Env.Disk, from.Settings.Storage.File())
}

// replay makes every generation again, with throwaway keys; generations that
// share a key share one here.
func replay(ctx context.Context, e *estate.Estate, h hierarchy.Hierarchy) error {
	signers := map[[32]byte]crypto.Signer{}
	for _, a := range h {
		for _, g := range a.Generations {
			id := g.Certificate.Key.Fingerprint()
			if signers[id] != nil {
				continue
			}
			fresh, err := e.Keys.Make(ctx, key.P256)
			if err == nil {
				err = e.Keys.Keep(fresh, []byte(estate.RehearsalPassphrase))
			}
			if err != nil {
				return err
			}
			signers[id] = fresh.Signer()
		}
	}
	_, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		r := replaying{e, tx, signers, map[*hierarchy.Generation]int64{}, new([]event.RehearsedGeneration),
			new([]string)}
		if err := r.all(h); err != nil {
			return nil, err
		}
		for _, a := range h {
			if err := r.links(a); err != nil {
				return nil, err
			}
		}
		return []event.Record{event.On("estate", event.Rehearsed{Authorities: len(h), Generations: *r.told,
			Links: *r.linked})}, nil
	})
	return err
}

// replaying is a copy while it is being recorded.
type replaying struct {
	e       *estate.Estate
	tx      store.Tx
	signers map[[32]byte]crypto.Signer // by the fingerprint of the real key
	ids     map[*hierarchy.Generation]int64
	told    *[]event.RehearsedGeneration
	linked  *[]string
}

func (r replaying) signer(g *hierarchy.Generation) crypto.Signer {
	return r.signers[g.Certificate.Key.Fingerprint()]
}

// all records every generation after the one that signed it: an authority may have
// moved, so that its generations depend on different others.
func (r replaying) all(h hierarchy.Hierarchy) error {
	next := map[*hierarchy.Authority]int{}
	for left := len(estate.AllGenerations(h)); left > 0; {
		before := left
		for _, a := range h {
			for i := next[a]; i < len(a.Generations); i++ {
				if up := a.Generations[i].Issuer; up != nil && r.ids[up] == 0 {
					break
				}
				if err := r.generation(a, i); err != nil {
					return err
				}
				next[a] = i + 1
				left--
			}
		}
		if left == before {
			return errors.New("its authorities depend on each other")
		}
	}
	for _, a := range h {
		if !a.Retired.IsZero() {
			if err := r.tx.Retire(a.Handle, a.Retired); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r replaying) generation(a *hierarchy.Authority, i int) error {
	g := a.Generations[i]
	by, parent := g, ""
	if g.Issuer != nil {
		by, parent = g.Issuer, g.Issuer.Authority.Handle
	}
	id, sum, err := r.certificate(g.Certificate, r.signer(g), r.signer(by), r.ids[g.Issuer])
	if err != nil {
		return fmt.Errorf("%s: %w", g.Label(), err)
	}
	*r.told = append(*r.told, event.RehearsedGeneration{Imported: event.Imported{Certificate: sum,
		Generation: g.Name(), By: estate.NameOf(g.Issuer)}, SwitchDay: estate.DayOf(g.SwitchDay),
		Retired: estate.DayOf(a.Retired)})
	if i == 0 {
		r.ids[g], err = r.tx.AddAuthority(store.NewAuthority{Handle: a.Handle, Parent: parent, Certificate: id,
			Issuer: r.ids[g.Issuer]})
	} else {
		r.ids[g], err = r.tx.AddGeneration(a.Handle, parent, i, id, r.ids[g.Issuer], g.SwitchDay)
	}
	return err
}

// links records the links of an authority, once all generations are on record.
func (r replaying) links(a *hierarchy.Authority) error {
	for _, l := range a.Links {
		id, sum, err := r.certificate(l.Certificate, r.signer(l.To), r.signer(l.By), r.ids[l.By])
		*r.linked = append(*r.linked, sum)
		if err == nil {
			err = r.tx.AddLink(id, r.ids[l.By], r.ids[l.To])
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (r replaying) certificate(like *cert.Certificate, own, by crypto.Signer, issuer int64) (id int64, sum string,
	err error) {
	c, err := again(r.e, like, own, by)
	if err != nil {
		return 0, "", err
	}
	id, err = r.tx.AddCertificate(store.NewCertificate{Certificate: c, Issuer: issuer})
	return id, fmt.Sprintf("%x", c.SHA256()), err
}

// again makes a certificate like c, for other keys.
func again(e *estate.Estate, c *cert.Certificate, own, issuer crypto.Signer) (*cert.Certificate, error) {
	ownKey, err := key.Of(own)
	if err != nil {
		return nil, err
	}
	issuerKey, err := key.Of(issuer)
	if err != nil {
		return nil, err
	}
	d := cert.Draft{Issuer: c.Issuer, Subject: c.Subject, NotBefore: c.NotBefore, NotAfter: c.NotAfter,
		SPKI: ownKey.SPKI}
	for _, x := range c.Extensions {
		switch {
		case x.ID.Equal(ext.SubjectKeyID):
			x = ext.KeyID(ownKey.Identifier())
		case x.ID.Equal(ext.AuthorityKeyID):
			x = ext.AuthorityKey(issuerKey.Identifier())
		case x.ID.Equal(cert.RehearsalID):
			continue
		}
		d.Extensions = append(d.Extensions, x)
	}
	return authorities.Drafted(e, d, issuer)
}
