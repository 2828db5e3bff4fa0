package backup

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
)

// ClockAhead is the latest time on record, where it is ahead of this machine's clock;
// an error where it is not.
func ClockAhead(ctx context.Context, e *estate.Estate) (time.Time, error) {
	_, latest, err := e.Records.Newest(ctx)
	if err == nil && !latest.After(e.Env.Now()) {
		err = fmt.Errorf("the latest record is of %s, and is not ahead of this machine's clock: there is nothing to "+
			"settle", latest.Format(time.RFC3339))
	}
	return latest, err
}

// SettleClock records that the latest entries were dated by a wrong clock,
// and that time continues from this machine's. It is the one act that a clock behind
// the records allows, and it is there for ever.
func SettleClock(ctx context.Context, e *estate.Estate, because string) (latest time.Time, head journal.Head,
	err error) {
	if strings.TrimSpace(because) == "" {
		return latest, head, fault.New(fault.BadInput, "no reason is given").Then(advice.To("say why the records are "+
			"ahead", advice.Because))
	}
	if latest, err = ClockAhead(ctx, e); err != nil {
		return latest, head, err
	}
	head, err = e.Act(ctx, func(store.Tx) ([]event.Record, error) {
		return []event.Record{event.On("journal", event.ClockSettled{Because: because,
			Ahead: latest.Format(time.RFC3339)})}, nil
	})
	return latest, head, err
}
