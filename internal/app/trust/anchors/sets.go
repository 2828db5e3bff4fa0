// Package anchors keeps trust sets: which anchors a group of machines should hold, and
// where they came from.
//
// A set is a file in the estate's directory sets/, so that it can be read, compared and
// kept as every other; each change of it is an act, and on record. What others offer as a
// root is examined before it is imported: it may be a leaf, an intermediate, expired, or
// another one than was meant.
package anchors

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/san"
	"ironseal/pki/strict"
	"ironseal/pki/trust"
)

// Sets reads all sets, the estate's own first. Those that cannot be read are reported in the
// errors.
func Sets(ctx context.Context, e *estate.Estate) (list []trust.Set, faults []error) {
	for _, name := range append([]string{trust.Own}, e.DataNames("set")...) {
		s, err := Set(ctx, e, name)
		if err != nil {
			faults = append(faults, err)
			continue
		}
		list = append(list, s)
	}
	return list, faults
}

// Set reads one set; "" and "own" are the roots of the estate that still matter.
func Set(ctx context.Context, e *estate.Estate, name string) (trust.Set, error) {
	var s trust.Set
	var err error
	if name == "" || name == trust.Own {
		s, err = own(ctx, e)
	} else {
		s, _, err = made(e, name)
	}
	if err != nil {
		return s, err
	}
	list, err := compromise.Incidents(ctx, e.Records)
	for i, a := range s.Anchors {
		for _, in := range compromise.About(list, a.Certificate.Key.Fingerprint()) {
			s.Anchors[i].Compromise = in.Since()
		}
	}
	return s, err
}

// own computes the estate's own set.
func own(ctx context.Context, e *estate.Estate) (trust.Set, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (trust.Set, error) {
		h, err := e.Hierarchy(ctx)
		if err != nil {
			return trust.Set{}, err
		}
		serving, err := e.Records.ServingGenerations(ctx, e.Now())
		if err != nil {
			return trust.Set{}, err
		}
		hangs := map[*hierarchy.Generation]bool{}
		for _, name := range serving {
			hangs[h.Generation(name)] = true
		}
		return trust.OwnSet(h, hangs, e.Now()), nil
	})
}

// made reads a set that was made, and the bytes of its file.
func made(e *estate.Estate, name string) (trust.Set, []byte, error) {
	if err := hierarchy.ValidHandle(name); err != nil {
		return trust.Set{}, nil, fmt.Errorf("trust set: %w", err)
	}
	if name == trust.Own {
		return trust.Set{}, nil,
			fault.New(fault.Refused,
				"trust set own: these are the roots of this estate, and cannot be changed by hand").
				On(fault.TrustSet.Named("own")).Then(advice.To("make another", advice.CreateSet))
	}
	if names := e.DataNames("set"); !slices.Contains(names, name) {
		names = append([]string{trust.Own}, names...)
		return trust.Set{}, nil, fault.New(fault.NotFound, "no trust set is called %q; %s", name,
			strict.Offered(name, names))
	}
	data, err := disk.Read(file(e, name), trust.MostBytes+1)
	if err != nil {
		return trust.Set{}, nil, fmt.Errorf("trust set %s: %w", name, err)
	}
	s, err := trust.Parse(name, data)
	return s, data, err
}

func file(e *estate.Estate, name string) string { return filepath.Join(e.Dir, "sets", name+".toml") }

// Create makes a set without anchors.
func Create(ctx context.Context, e *estate.Estate, name, title string) (journal.Head, error) {
	if err := hierarchy.ValidHandle(name); err != nil {
		return journal.Head{}, fmt.Errorf("trust set: %w", err)
	}
	if name == trust.Own {
		return journal.Head{}, fmt.Errorf("trust set %s: this is the one that every estate has: choose another name",
			name)
	}
	if title == "" {
		title = name
	}
	if err := disk.Dir(filepath.Join(e.Dir, "sets")); err != nil {
		return journal.Head{}, err
	}
	s := trust.Set{Name: name, Title: title}
	if err := e.Env.Disk.New(file(e, name), s.Bytes(), 0o644); err != nil {
		return journal.Head{}, fmt.Errorf("trust set %s: %w", name, err)
	}
	return record(ctx, e, event.On(name, event.SetCreated{Title: title}))
}

func record(ctx context.Context, e *estate.Estate, en event.Record) (journal.Head, error) {
	return e.Act(ctx, func(store.Tx) ([]event.Record, error) { return []event.Record{en}, nil })
}

// Addition is what will be added to a set, ready to be agreed to.
type Addition struct {
	Set      trust.Set // with it
	Anchors  []trust.Anchor
	Findings finding.List
	Skipped  []string // what was there and was not taken, and why

	before []byte // the file as it was
}

// AddAsk is what a person asks for when adding to a set.
type AddAsk struct {
	Set         string
	Offered     []Found
	Fingerprint [][32]byte // those that are meant; none for all that are authorities
	Purposes    []trust.Purpose
	Permitted   []san.Constraint
	Waivers     []finding.Waiver
}

// PlanAdd plans what of the offered certificates goes into a set.
func PlanAdd(e *estate.Estate, ask AddAsk) (Addition, error) {
	var out Addition
	var err error
	if out.Set, out.before, err = made(e, ask.Set); err != nil {
		return out, err
	}
	seen := map[[32]byte]string{}
	wanted := map[[32]byte]bool{}
	for _, sum := range ask.Fingerprint {
		wanted[sum] = true
	}
	for _, f := range ask.Offered {
		if len(f.Certificates) == 0 {
			out.Skipped = append(out.Skipped, f.Source+": "+f.Note)
		}
		for _, c := range f.Certificates {
			sum := c.SHA256()
			if why := skip(c, sum, seen, wanted, &out.Set); why != "" {
				out.Skipped = append(out.Skipped, fmt.Sprintf("%s: %s %s", f.Source, c.Title(), why))
				continue
			}
			seen[sum] = f.Source
			a := trust.Anchor{Certificate: c, From: f.Source, Purposes: ask.Purposes, Permitted: ask.Permitted}
			out.Anchors = append(out.Anchors, a)
			out.Findings = append(out.Findings, trust.Findings(c, e.Now())...)
		}
	}
	for sum := range wanted {
		if seen[sum] == "" {
			return out, fault.New(fault.NotFound, "no certificate offered has the SHA-256 fingerprint %x: it is "+
				"another one, or the fingerprint is", sum)
		}
	}
	if len(out.Anchors) == 0 {
		return out, errors.New("nothing was found to add: " + strings.Join(out.Skipped, "; "))
	}
	out.Findings, err = out.Findings.Ranked().Waive(0, ask.Waivers)
	return out, err
}

// skip says why a certificate is not taken; "" when it is.
func skip(c *cert.Certificate, sum [32]byte, seen map[[32]byte]string, wanted map[[32]byte]bool,
	s *trust.Set) string {
	switch {
	case seen[sum] != "":
		return "is the same as in " + seen[sum]
	case s.Find(c) != nil:
		return "is in the set already"
	case len(wanted) > 0 && !wanted[sum]:
		return "has another fingerprint"
	case len(wanted) == 0 && !c.SelfSigned() && c.IsAuthority():
		return "is an intermediate; name it by its fingerprint if it is meant"
	case len(wanted) == 0 && !c.IsAuthority() && !c.SelfSigned():
		return "is a machine's or a person's certificate; name it by its fingerprint if it is meant"
	}
	return ""
}

// Add does what was planned, unless the set was changed meanwhile.
func Add(ctx context.Context, e *estate.Estate, a Addition) (journal.Head, error) {
	if bad := a.Findings.Refusing(); len(bad) > 0 {
		return journal.Head{}, &issue.Refused{About: "trust set " + a.Set.Name, Findings: bad}
	}
	set := a.Set
	set.Anchors = slices.Clone(set.Anchors)
	var sums []string
	for _, x := range a.Anchors {
		if err := set.Add(x); err != nil {
			return journal.Head{}, fmt.Errorf("trust set %s: %w", set.Name, err)
		}
		sums = append(sums, fmt.Sprintf("%x", x.Certificate.SHA256()))
	}
	return rewrite(ctx, e, set, a.before, event.On(set.Name, event.SetExtended{Certificates: sums,
		Waived: estate.WaivedCodes(a.Findings)}))
}

// Drop takes anchors out of a set.
func Drop(ctx context.Context, e *estate.Estate, name string, which []*cert.Certificate) (journal.Head, error) {
	set, before, err := made(e, name)
	if err != nil {
		return journal.Head{}, err
	}
	var sums []string
	for _, c := range which {
		if set.Find(c) == nil {
			return journal.Head{}, fault.New(fault.NotFound, "trust set %s: %s is not in it", name, c.Title())
		}
		set.Anchors = slices.DeleteFunc(set.Anchors, func(a trust.Anchor) bool {
			return slices.Equal(a.Certificate.Raw, c.Raw)
		})
		sums = append(sums, fmt.Sprintf("%x", c.SHA256()))
	}
	return rewrite(ctx, e, set, before, event.On(name, event.SetReduced{Certificates: sums}))
}

// rewrite replaces a set's file and records the act, unless the file is no longer what it
// was. The records' turn is held meanwhile, so that of two programs one comes first.
func rewrite(ctx context.Context, e *estate.Estate, s trust.Set, before []byte, en event.Record) (journal.Head,
	error) {
	written := false
	head, err := e.Act(ctx, func(store.Tx) ([]event.Record, error) {
		now, err := os.ReadFile(file(e, s.Name))
		if err != nil || !slices.Equal(now, before) {
			return nil, errors.Join(fault.New(fault.Changed, "trust set %s was changed meanwhile", s.Name), err)
		}
		if err := e.Env.Disk.Replace(file(e, s.Name), s.Bytes(), 0o644); err != nil {
			return nil, fmt.Errorf("trust set %s: %w", s.Name, err)
		}
		written = true
		return []event.Record{en}, nil
	})
	if err != nil && written && !errors.Is(err, store.ErrUncertain) { // what is not on record is not in the file
		err = errors.Join(err, e.Env.Disk.Replace(file(e, s.Name), before, 0o644))
	}
	return head, err
}
