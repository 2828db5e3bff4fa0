package sqlstore

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/journal"
)

// Changes that are written together are each whole or not there, and each returns when it is on record.
func TestChangesAreWrittenTogether(t *testing.T) {
	s, err := Create(context.Background(), store.File(filepath.Join(t.TempDir(), "records.db")), "a")
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	refused := errors.New("not this one")
	var all sync.WaitGroup
	for n := range 200 {
		all.Go(func() {
			defer func() {
				if bad := recover(); (bad != nil) != (n%10 == 9) {
					t.Errorf("%d: %v", n, bad)
				}
			}()
			head, err := s.Act(context.Background(), time.Now, "tester", func() error {
				if n%10 == 8 {
					return refused
				}
				return nil
			}, func(tx store.Tx) ([]journal.Entry, error) {
				en, err := event.On(fmt.Sprint("c", n), event.CodeEnded{Because: "a test"}).Entry("")
				switch {
				case n%10 == 7:
					_ = tx.MarkRehearsal() // it writes before it fails
					return nil, refused
				case n%10 == 9:
					panic("a fault")
				}
				return []journal.Entry{en}, err
			})
			if good := n%10 < 7; (err == nil) != good || !good && !errors.Is(err, refused) {
				t.Errorf("%d: %v", n, err)
			} else if good {
				on, found, err := s.DerivedOf(context.Background(), event.CodeEnds, fmt.Sprint("c", n))
				if err != nil || !found || on.Seq > head.Seq {
					t.Errorf("%d returned, and is not on record: %v", n, err)
				}
			}
		})
	}
	all.Wait()
	head, err := s.VerifyJournal(context.Background(), nil)
	if err != nil || head.Seq != 140 {
		t.Errorf("the journal has %d entries, %v", head.Seq, err)
	}
	if marked, err := s.IsRehearsal(context.Background()); err != nil || marked {
		t.Errorf("a change that failed left something behind: %v", err)
	}
}
