package estate

import (
	"context"
	"crypto"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"ironseal/internal/disk"
	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/key"
)

// RehearsalPassphrase opens every key of a rehearsal. It is no secret: the keys
// are thrown away.
const RehearsalPassphrase = "rehearsal"

// IsRehearsal reports whether a certificate carries the mark of a rehearsal.
func IsRehearsal(c *cert.Certificate) bool {
	_, ok := c.Extensions.Find(ext.RehearsalID)
	return ok
}

// rehearsalFindings keeps what was made in a rehearsal out of a real estate.
func (e *Estate) rehearsalFindings(list []*cert.Certificate) finding.List {
	if e.Rehearsal {
		return nil
	}
	var out finding.List
	for _, c := range list {
		if IsRehearsal(c) {
			out = append(out, finding.New(finding.RehearsalMade, "%s was made in a rehearsal.", c.Title()))
		}
	}
	return out
}

// Rehearse makes a playable copy of the estate: the same authorities, dates,
// templates and settings, with throwaway keys, wherever the real ones are. It is
// marked for good, and so is all that it makes.
func (e *Estate) Rehearse(ctx context.Context, dir string, now time.Time) (*Estate, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	if err := empty(dir); err != nil {
		return nil, err
	}
	w := e.world
	w.Now = func() time.Time { return now }
	err = disk.NewFolder(emptied(dir), func(into string) error { return e.copyTo(ctx, into, h, w) })
	if err != nil {
		return nil, fmt.Errorf("rehearsal %s: %w", dir, err)
	}
	return Open(ctx, dir, w)
}

// copyTo makes the copy aside: half of one is none.
func (e *Estate) copyTo(ctx context.Context, into string, h hierarchy.Hierarchy, w World) error {
	f := Founding{Organisation: e.Settings.Organisation.Name, Country: e.Settings.Organisation.Country, Rehearsal: true}
	if err := furnish(ctx, into, f, w.filled()); err != nil {
		return err
	}
	copied, err := Open(ctx, into, w)
	if err != nil {
		return err
	}
	err = copied.furnishLike(e)
	if err == nil {
		err = copied.replay(ctx, h)
	}
	return errors.Join(err, copied.Close())
}

// furnishLike copies templates, receivers and settings.
func (e *Estate) furnishLike(from *Estate) error {
	for _, sub := range []string{"templates", "receivers"} {
		to := filepath.Join(e.Dir, sub)
		if err := os.RemoveAll(to); err != nil {
			return disk.Plain(err)
		}
		if err := os.CopyFS(to, os.DirFS(filepath.Join(from.Dir, sub))); err != nil {
			return disk.Plain(err)
		}
	}
	data, err := disk.Read(filepath.Join(from.Dir, SettingsFile), 1<<20)
	if err != nil {
		return err
	}
	return e.world.Disk.Replace(filepath.Join(e.Dir, SettingsFile), data, 0o644)
}

// replay makes every generation again, with throwaway keys; generations that
// share a key share one here.
func (e *Estate) replay(ctx context.Context, h hierarchy.Hierarchy) error {
	signers := map[[32]byte]crypto.Signer{}
	work := e.custody.Work
	e.custody.Work = key.Work{Memory: 8 << 20} // what is sealed is no secret
	defer func() { e.custody.Work = work }()
	for _, a := range h {
		for _, g := range a.Generations {
			id := g.Certificate.Key.Fingerprint()
			if signers[id] != nil {
				continue
			}
			fresh, err := e.custody.Make(ctx, key.P256)
			if err == nil {
				err = e.custody.Keep(fresh, []byte(RehearsalPassphrase))
			}
			if err != nil {
				return err
			}
			signers[id] = fresh.Signer()
		}
	}
	_, err := e.act(ctx, func(tx *store.Tx) ([]store.Entry, error) {
		r := replaying{e, tx, signers, map[*hierarchy.Generation]int64{}, new([]rehearsedTold), new([]string)}
		if err := r.all(h); err != nil {
			return nil, err
		}
		for _, a := range h {
			if err := r.links(a); err != nil {
				return nil, err
			}
		}
		return []store.Entry{entry("rehearse", "estate", "authorities", len(h), "generations", *r.told, "links",
			*r.linked)}, nil
	})
	return err
}

// replaying is a copy while it is being recorded.
type replaying struct {
	e       *Estate
	tx      *store.Tx
	signers map[[32]byte]crypto.Signer // by the fingerprint of the real key
	ids     map[*hierarchy.Generation]int64
	told    *[]rehearsedTold
	linked  *[]string
}

// rehearsedTold is a generation of a rehearsal, as the journal tells of it.
type rehearsedTold struct {
	importedTold
	Staged  string `json:"switch_day,omitempty"`
	Retired string `json:"retired,omitempty"`
}

func (r replaying) signer(g *hierarchy.Generation) crypto.Signer {
	return r.signers[g.Certificate.Key.Fingerprint()]
}

// all records every generation after the one that signed it: an authority may have
// moved, so that its generations hang on different others.
func (r replaying) all(h hierarchy.Hierarchy) error {
	next := map[*hierarchy.Authority]int{}
	for left := len(allGenerations(h)); left > 0; {
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
			return errors.New("its authorities hang on each other")
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
	*r.told = append(*r.told, rehearsedTold{importedTold{sum, g.Name(), nameOf(g.Issuer)}, dayOf(g.Staged),
		dayOf(a.Retired)})
	if i == 0 {
		r.ids[g], err = r.tx.AddAuthority(store.NewAuthority{Handle: a.Handle, Parent: parent, Certificate: id,
			Issuer: r.ids[g.Issuer]})
	} else {
		r.ids[g], err = r.tx.AddGeneration(a.Handle, parent, i, id, r.ids[g.Issuer], g.Staged)
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
	c, err := r.e.again(like, own, by)
	if err != nil {
		return 0, "", err
	}
	id, err = r.tx.AddCertificate(store.NewCertificate{Certificate: c, Issuer: issuer, Actor: r.e.world.Actor})
	return id, fmt.Sprintf("%x", c.SHA256()), err
}

// again makes a certificate like c, for other keys.
func (e *Estate) again(c *cert.Certificate, own, issuer crypto.Signer) (*cert.Certificate, error) {
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
		case x.ID.Equal(ext.RehearsalID):
			continue
		}
		d.Extensions = append(d.Extensions, x)
	}
	return e.drafted(d, issuer)
}
