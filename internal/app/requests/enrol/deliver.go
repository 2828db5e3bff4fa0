package enrol

import (
	"context"
	"fmt"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
)

// Delivery is a certificate that a machine fetched.
type Delivery struct {
	Certificate estate.CertificateRecord
	To          string // whose machine it is; "" for whoever sent the request
}

// Deliver records that machines have their certificates. What was recorded before is not recorded again.
func Deliver(ctx context.Context, e *estate.Estate, list []Delivery) error {
	_, err := e.Act(ctx, func(tx store.Tx) (out []event.Record, err error) {
		seen := map[string]bool{}
		for _, d := range list {
			c := d.Certificate
			sum := fmt.Sprintf("%x", c.SHA256())
			_, before, err := tx.DerivedOf(ctx, event.HandOvers, sum)
			if err != nil {
				return nil, err
			}
			if before || seen[sum] {
				continue
			}
			seen[sum] = true
			if d.To == "" && c.Record.Request != 0 {
				rec, err := tx.Reads().Request(ctx, c.Record.Request)
				if err != nil {
					return nil, err
				}
				d.To = rec.Sender
			}
			if err := tx.AddHolder(c.Record.ID, d.To); err != nil {
				return nil, err
			}
			out = append(out, event.On(c.Title(), event.HandedOver{Certificate: sum, Serial: c.SerialHex(),
				Holder: d.To, Files: []string{}, Waived: event.Waivers{}}))
		}
		return out, nil
	})
	return err
}
