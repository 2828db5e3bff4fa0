package sqlstore

import (
	"errors"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/hierarchy"
	"ironseal/pki/journal"
	"ironseal/pki/specimen"
)

// try runs a change that writes no entry of its own.
func (s *Store) try(fn func(store.Tx) error) error {
	_, err := s.Act(ctx, time.Now, "me", nil, func(tx store.Tx) ([]journal.Entry,
		error) {
		return []journal.Entry{{Act: "try", Detail: "{}"}}, fn(tx)
	})
	return err
}

func add(tx store.Tx, e *specimen.Entity, issuer int64) (int64, error) {
	return tx.AddCertificate(store.NewCertificate{Certificate: e.Cert, Issuer: issuer})
}

// Generations, links, prepared and retired authorities and those elsewhere come
// back as they were recorded, parents first even where a parent came later.
func TestHierarchyComesBackAsItWasRecorded(t *testing.T) {
	s := create(t)
	entity := func(subject string) *specimen.Entity {
		return specimen.Make(t, nil, specimen.Plan{Subject: subject, Authority: true})
	}
	day := time.Date(2030, 1, 2, 3, 4, 5, 0, time.UTC)
	err := s.try(func(tx store.Tx) error {
		root, err := add(tx, entity("CN=Root"), 0)
		if err != nil {
			return err
		}
		g1, err := tx.AddAuthority(store.NewAuthority{Handle: "root", Certificate: root})
		if err != nil {
			return err
		}
		sub, err := add(tx, entity("CN=Services"), g1)
		if err != nil {
			return err
		}
		if _, err := tx.AddAuthority(store.NewAuthority{Handle: "services", Parent: "root", Certificate: sub,
			Issuer: g1}); err != nil {
			return err
		}
		second, err := add(tx, entity("CN=Root"), 0)
		if err != nil {
			return err
		}
		g2, err := tx.AddGeneration("root", "", 1, second, 0, time.Time{})
		if err != nil {
			return err
		}
		link, err := add(tx, entity("CN=Root"), g1)
		if err != nil {
			return err
		}
		if err := tx.AddLink(link, g1, g2); err != nil {
			return err
		}
		// services moves under an authority elsewhere that is recorded after it.
		far, err := add(tx, entity("CN=Far"), 0)
		if err != nil {
			return err
		}
		f1, err := tx.AddAuthority(store.NewAuthority{Handle: "far", Holder: hierarchy.HeldExternally,
			Certificate: far})
		if err != nil {
			return err
		}
		moved, err := add(tx, entity("CN=Services"), f1)
		if err != nil {
			return err
		}
		_, err = tx.AddGeneration("services", "far", 1, moved, f1, day)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	h, err := s.Hierarchy(ctx)
	if err != nil || len(h) != 3 {
		t.Fatal(h, err)
	}
	place := map[string]int{}
	for i, a := range h {
		place[a.Handle] = i
	}
	root, services, far := h.Find("root"), h.Find("services"), h.Find("far")
	if place["root"] > place["services"] || services.Parent != root || !far.External() || root.External() {
		t.Errorf("%v", place)
	}
	if len(root.Links) != 1 || root.Links[0].By.Number != 1 || root.Links[0].To.Number != 2 {
		t.Errorf("%+v", root.Links)
	}
	p := services.Prepared()
	if p == nil || !p.SwitchDay.Equal(day) || services.Current().Number != 1 ||
		services.Current().Issuer.Name() != "root.g1" {
		t.Errorf("%+v", p)
	}
	// Only what may sign is given out to sign with.
	for name, want := range map[string]string{"root.g1": "was renewed", "root.g2": "", "services.g1": "",
		"services.g2": "", "far.g1": ""} {
		t.Run(name, func(t *testing.T) {
			err := s.try(func(tx store.Tx) error { _, err := tx.GenerationID(h.Generation(name)); return err })
			if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
				t.Errorf("%s: %v", name, err)
			}
		})
	}
	if err := s.try(func(tx store.Tx) error { return tx.Activate(p) }); err != nil {
		t.Fatal(err)
	}
	if err := s.try(func(tx store.Tx) error { return tx.Retire("root", day) }); err != nil {
		t.Fatal(err)
	}
	if h, err = s.Hierarchy(ctx); err != nil || h.Find("services").Current().Number != 2 ||
		h.Find("services").Parent != h.Find("far") || h[len(h)-1].Handle != "services" ||
		!h.Find("root").Retired.Equal(day) {
		t.Error(h, err)
	}
	if err := s.try(func(tx store.Tx) error {
		_, err := tx.GenerationID(
			h.Generation("root.g2"))
		return err
	}); err == nil || !strings.Contains(err.Error(), "retired") {
		t.Error(err)
	}
	for what, fn := range map[string]func(tx store.Tx) error{
		"a second renewal from the same one": func(tx store.Tx) error {
			_,
				err := tx.AddGeneration("root", "", 1, 1, 0, time.Time{})
			return err
		},
		"a handle that is taken": func(tx store.Tx) error {
			_, err := tx.AddAuthority(store.NewAuthority{Handle: "root", Certificate: 1})
			return err
		},
		"a parent that is not there": func(tx store.Tx) error {
			_, err := tx.AddAuthority(store.NewAuthority{Handle: "x", Parent: "nobody", Certificate: 1})
			return err
		},
		"retiring nobody": func(tx store.Tx) error { return tx.Retire("nobody", day) },
	} {
		t.Run(what, func(t *testing.T) {
			if err := s.try(fn); err == nil {
				t.Errorf("%s: it was recorded", what)
			}
		})
	}
}

func TestApplicationsAndErrandsCountOnce(t *testing.T) {
	s := create(t)
	r := specimen.Request(t, nil, "CN=Services", nil)
	app := store.Application{Handle: "services", Parent: "far", DER: r.Raw, Made: time.Now()}
	if err := s.try(func(tx store.Tx) error { return tx.AddApplication(app, r.Key.Fingerprint()) }); err != nil {
		t.Fatal(err)
	}
	open, err := s.Applications(ctx)
	if err != nil || len(open) != 1 || open[0].Parent != "far" || !open[0].SwitchDay.IsZero() {
		t.Fatalf("%+v %v", open, err)
	}
	for i := range 2 {
		if err := s.try(func(tx store.Tx) error { return tx.CloseApplication(open[0].ID) }); (err == nil) != (i == 0) {
			t.Errorf("answered for the %d. time: %v", i+1, err)
		}
		if err := s.try(func(tx store.Tx) error { return tx.AddTransfer("abc", "R1 R2") }); (err == nil) != (i == 0) {
			t.Errorf("carried for the %d. time: %v", i+1, err)
		}
	}
	if what, err := s.Transfer(ctx, "abc"); err != nil || what != "R1 R2" {
		t.Error(what, err)
	}
	if what, err := s.Transfer(ctx, "other"); err != nil || what != "" {
		t.Error(what, err)
	}
}

// A snapshot is whole while others write, and verifies against its head.
func TestSnapshotWhileOthersWrite(t *testing.T) {
	s := create(t)
	if err := s.try(func(store.Tx) error { return nil }); err != nil {
		t.Fatal(err)
	}
	done := make(chan error, 1)
	go func() {
		var all error
		for range 50 {
			all = errors.Join(all, s.try(func(store.Tx) error { return nil }))
		}
		done <- all
	}()
	for i := range 5 {
		file := filepath.Join(t.TempDir(), "copy.db")
		if err := s.Snapshot(ctx, file); err != nil {
			t.Fatal(err)
		}
		c, err := Open(ctx, store.File(file))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := c.VerifyJournal(ctx, nil); err != nil {
			t.Errorf("copy %d: %v", i, err)
		}
		if err := c.CheckIntegrity(ctx); err != nil {
			t.Error(err)
		}
		c.Close()
	}
	if err := <-done; err != nil {
		t.Error(err)
	}
}

func TestRevocationsAreCountedAndShown(t *testing.T) {
	s := create(t)
	e := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true})
	err := s.try(func(tx store.Tx) error {
		id, err := add(tx, e, 0)
		if err != nil {
			return err
		}
		g, err := tx.AddAuthority(store.NewAuthority{Handle: "root", Certificate: id})
		if err != nil {
			return err
		}
		leaf, err := add(tx, specimen.Make(t, e, specimen.Plan{Subject: "CN=a"}), g)
		if err != nil || leaf == 0 {
			return err
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	list, err := s.CertificatesOf(ctx, "root", 1)
	if err != nil || len(list) != 1 || list[0].Reason >= 0 {
		t.Fatal(list, err)
	}
	var g *hierarchy.Generation
	if h, err := s.Hierarchy(ctx); err == nil {
		g = h.Generation("root")
	}
	if last, err := s.LastOf(ctx, "root"); err != nil || last.IsZero() || g == nil {
		t.Error(last, err)
	}
	all, err := s.CertificatesBySerial(ctx, "")
	if err != nil {
		t.Fatal(err)
	}
	serial := ""
	for _, c := range all {
		if c.ID == list[0].ID {
			x, err := cert.Read(c.DER)
			if err != nil {
				t.Fatal(err)
			}
			serial = x.SerialHex()
		}
	}
	for range 2 { // a newer list says the same again
		if err := s.try(func(tx store.Tx) error {
			return tx.AddRevocations("root", 77, []string{serial, "ab"}, []time.Time{time.Now(), time.Now()},
				[]int{1, 0})
		}); err != nil {
			t.Fatal(err)
		}
	}
	if n, err := s.CountRevoked(ctx, "root"); err != nil || n != 2 {
		t.Error(n, err)
	}
	if n, err := s.ListNumber(ctx, "root"); err != nil || n != 77 {
		t.Error(n, err)
	}
	if list, err = s.CertificatesOf(ctx, "root", 1); err != nil || list[0].Reason != 1 {
		t.Error("what is revoked does not say so")
	}
}
