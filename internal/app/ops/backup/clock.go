package backup

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/pki/journal"
)

// ClockAhead is the latest time on record, where it is ahead of this machine's clock;
// an error where it is not.
func ClockAhead(ctx context.Context, e *estate.Estate) (time.Time, error) {
	_, latest, err := e.Records.Newest(ctx)
	if err == nil && !latest.After(e.World.Now()) {
		err = fmt.Errorf("the latest record is of %s, and is not ahead of this machine's clock: there is nothing to "+
			"settle", latest.Format(time.RFC3339))
	}
	return latest, err
}

// SettleClock puts on record that the latest entries were dated by a wrong clock,
// and that time goes on from this machine's. It is the one act that a clock behind
// the records allows, and it is there for ever.
func SettleClock(ctx context.Context, e *estate.Estate, because string) (latest time.Time, head journal.Head,
	err error) {
	if strings.TrimSpace(because) == "" {
		return latest, head, errors.New("say why the records are ahead: --because TEXT")
	}
	if latest, err = ClockAhead(ctx, e); err != nil {
		return latest, head, err
	}
	head, err = e.Act(ctx, func(store.Tx) ([]journal.Entry, error) {
		return []journal.Entry{estate.Entry(journal.ClockAct, "journal", "because", because, "ahead",
			latest.Format(time.RFC3339))}, nil
	})
	return latest, head, err
}
