package request

import (
	"context"
	"fmt"
	"ironseal/internal/api"
	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/app/requests/fleet"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/describe"
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
)

// addMachine tells how a request came from a machine, and why it waits for a person.
func addMachine(ctx context.Context, e *estate.Estate, rec store.Request, o *describe.Object) error {
	number := fmt.Sprintf("R%d", rec.Number)
	known, err := fleet.Enrolments(ctx, e.Records)
	if err != nil {
		return err
	}
	n, machine := known[number]
	if !machine {
		return nil
	}
	o.Add("enrolled", "Enrolled by", n.Words())
	if rec.State != lifecycle.Waiting {
		return nil
	}
	why, err := enrol.Waits(ctx, e.Records, number)
	if len(why) > 0 {
		o.Add("waits", "Waits because", why...)
	}
	return err
}

func describeRecord(rec store.Request, r *request.Request, told *event.HandedIn) describe.Object {
	o := describe.Request(r)
	row := api.RequestOf(rec)
	o.Lead("state", "State", string(rec.State))
	o.Lead("request", "Number", row.Name)
	o.Add("received", "Received", row.Received)
	if rec.Sender != "" {
		o.Add("from", "Sent by", rec.Sender)
	}
	if told != nil {
		if len(told.Names) > 0 {
			o.Add("names_beside", "Names beside", told.Names...)
		}
		for _, x := range []struct{ key, label, value string }{{"purpose", "Purpose", told.Purpose},
			{"template_wanted", "For template", told.Template},
			{"receiver_wanted", "For receiver", told.Receiver},
			{"invitation", "Invitation", told.Invitation}, {"renews", "Renews", told.Renews}} {
			if x.value != "" {
				o.Add(x.key, x.label, x.value)
			}
		}
	}
	if rec.Reason != "" {
		o.Add("reason", "Because", rec.Reason)
	}
	return o
}
