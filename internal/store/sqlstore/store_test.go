package sqlstore

import (
	"context"
	"errors"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"ironseal/internal/store"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/lifecycle"
	"ironseal/pki/specimen"
)

var ctx = context.Background()

func create(t *testing.T) *Store {
	t.Helper()
	name := "odd name #1?.db"
	if runtime.GOOS == "windows" {
		name = "odd name #1%.db"
	}
	s, err := Create(ctx, store.File(filepath.Join(t.TempDir(), name)), "test")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func TestNothingIsKeptUnlessAllIs(t *testing.T) {
	s := create(t)
	r := specimen.Request(t, nil, "CN=a.example", []string{"a.example"})
	failure := errors.New("stopped")
	add := func(tx store.Tx) ([]journal.Entry, error) {
		if _, _, err := tx.AddRequest(r, ""); err != nil {
			return nil, err
		}
		return []journal.Entry{{Act: "receive", Object: "R1", Detail: "{}"}}, nil
	}
	for what, try := range map[string]func() error{
		"before the commit": func() error {
			_, err := s.Act(ctx, time.Now, "me", func() error { return failure }, add)
			return err
		},
		"inside": func() error {
			_, err := s.Act(ctx, time.Now, "me", nil, func(tx store.Tx) ([]journal.Entry, error) {
				if _, err := add(tx); err != nil {
					return nil, err
				}
				return nil, failure
			})
			return err
		},
	} {
		if err := try(); !errors.Is(err, failure) {
			t.Errorf("%s: %v", what, err)
		}
		list, err := s.Requests(ctx, "")
		head, _, headErr := s.Newest(ctx)
		if err != nil || headErr != nil || len(list) != 0 || head.Seq != 0 {
			t.Errorf("%s: %d requests, head %s", what, len(list), head)
		}
	}
	head, err := s.Act(ctx, time.Now, "me", nil, add)
	if err != nil || head.Seq != 1 {
		t.Fatalf("%s %v", head, err)
	}
	if again, err := s.VerifyJournal(ctx, &head); err != nil || again != head {
		t.Errorf("%s %v", again, err)
	}
}

func TestSerialsAreUniqueAndDecisionsFinal(t *testing.T) {
	s := create(t)
	e := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true})
	leaf := specimen.Make(t, e, specimen.Plan{Subject: "CN=a.example", Names: []string{"a.example"}})
	act := func(fn func(tx store.Tx) error) error {
		_, err := s.Act(ctx, time.Now, "me", nil, func(tx store.Tx) ([]journal.Entry, error) { return nil, fn(tx) })
		return err
	}
	if err := act(func(tx store.Tx) error {
		id, err := tx.AddCertificate(store.NewCertificate{Certificate: e.Cert, TemplateName: "root",
			TemplateSource: []byte("x")})
		if err != nil {
			return err
		}
		_, err = tx.AddAuthority(store.NewAuthority{Handle: "root", Certificate: id})
		return err
	}); err != nil {
		t.Fatal(err)
	}
	h, err := s.Hierarchy(ctx)
	if err != nil || len(h) != 1 {
		t.Fatal(err)
	}
	sign := func() error {
		return act(func(tx store.Tx) error {
			id, err := tx.GenerationID(h[0].Current())
			if err != nil {
				return err
			}
			_, err = tx.AddCertificate(store.NewCertificate{Certificate: leaf.Cert, Issuer: id, TemplateName: "web",
				TemplateSource: []byte("y")})
			return err
		})
	}
	if err := sign(); err != nil {
		t.Fatal(err)
	}
	if err := sign(); err == nil {
		t.Error("one serial was recorded twice under one authority")
	}
	r := specimen.Request(t, nil, "CN=a.example", nil)
	if err := act(func(tx store.Tx) error { _, _, err := tx.AddRequest(r, ""); return err }); err != nil {
		t.Fatal(err)
	}
	if err := act(func(tx store.Tx) error { return tx.SetStates([]int64{1, 2}, lifecycle.Signed) }); !errors.Is(err,
		fault.Changed) {
		t.Errorf("deciding one that is not there: %v", err)
	}
	if rec, _ := s.Request(ctx, 1); rec.State != lifecycle.Waiting {
		t.Errorf("all or none: R1 is %s", rec.State)
	}
	if err := act(func(tx store.Tx) error { return tx.SetState(1, lifecycle.Declined, "no") }); err != nil {
		t.Fatal(err)
	}
	if err := act(func(tx store.Tx) error { return tx.SetState(1, lifecycle.Signed, "") }); err == nil {
		t.Error("a declined request was signed")
	}
}
