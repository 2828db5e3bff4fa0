package estate

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"ironseal/internal/store"
)

// ClockAhead is the latest time on record, where it is ahead of this machine's clock;
// an error where it is not.
func (e *Estate) ClockAhead(ctx context.Context) (time.Time, error) {
	_, latest, err := e.records.Newest(ctx)
	if err == nil && !latest.After(e.world.Now()) {
		err = fmt.Errorf("the latest record is of %s, and is not ahead of this machine's clock: there is nothing to "+
			"settle", latest.Format(time.RFC3339))
	}
	return latest, err
}

// SettleClock puts on record that the latest entries were dated by a wrong clock,
// and that time goes on from this machine's. It is the one act that a clock behind
// the records allows, and it is there for ever.
func (e *Estate) SettleClock(ctx context.Context, because string) (latest time.Time, head store.Head, err error) {
	if strings.TrimSpace(because) == "" {
		return latest, head, errors.New("say why the records are ahead: --because TEXT")
	}
	if latest, err = e.ClockAhead(ctx); err != nil {
		return latest, head, err
	}
	head, err = e.act(ctx, func(*store.Tx) ([]store.Entry, error) {
		return []store.Entry{entry(store.ClockAct, "journal", "because", because, "ahead",
			latest.Format(time.RFC3339))}, nil
	})
	return latest, head, err
}
