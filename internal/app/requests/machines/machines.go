// Package machines knows which certificates renew themselves: those that a machine got by an enrolment protocol. It
// tells how each enrols, and which machines should have renewed and did not.
package machines

import (
	"context"
	"slices"
	"strings"
	"time"

	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/app/requests/ordering"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/lifecycle"
	"ironseal/pki/renewal"
)

// Enrolment is how a request came from a machine.
type Enrolment struct {
	By         string // the protocol
	Credential string // by which the machine was known; "" for its certificate, and for accounts that none was needed for
	Account    string // of ACME; "" for none
	Template   string
}

// Words says how a machine enrols.
func (n Enrolment) Words() string {
	out := strings.ToUpper(n.By)
	if n.Credential != "" {
		out += ", " + n.Credential
	}
	return out
}

// Enrolments are the requests that came from machines, by their number, such as R7.
func Enrolments(ctx context.Context, from store.DerivedReader) (map[string]Enrolment, error) {
	accounts := map[string]string{}
	if err := from.Derived(ctx, event.Accounts, func(id string, en journal.Entry) error {
		kept, err := event.As[event.AccountKept](en)
		accounts[id] = kept.Code
		return err
	}); err != nil {
		return nil, err
	}
	out := map[string]Enrolment{}
	return out, from.Derived(ctx, event.Enrolments, func(number string, en journal.Entry) error {
		told, err := event.As[event.Enrolled](en)
		n := Enrolment{By: told.By, Credential: told.Code, Account: told.Account, Template: told.Template}
		if told.Account != "" {
			n.Credential = accounts[told.Account]
		}
		out[number] = n
		return err
	})
}

// Late reports whether a machine should have renewed a certificate by now, and did not.
func Late(c *cert.Certificate, now time.Time) bool { return !now.Before(LateFrom(c)) }

// LateFrom is when a machine is late: its window has passed, and half of what is left after it.
func LateFrom(c *cert.Certificate) time.Time {
	w := renewal.WindowOf(c, time.Time{}, c.NotBefore, false)
	return w.Until.Add(c.NotAfter.Sub(w.Until) / 2)
}

// Request is a request of a machine.
type Request struct {
	Number  string                 `json:"request" doc:"its number"`
	By      string                 `json:"by" doc:"the protocol: est, acme or scep"`
	Title   string                 `json:"title" doc:"for whom"`
	State   lifecycle.RequestState `json:"state" doc:"of the request"`
	Waits   []string               `json:"waits" doc:"why a person decides; none where it does not wait"`
	Serial  string                 `json:"serial" doc:"of the certificate; empty before it is signed"`
	Until   time.Time              `json:"not_after,omitzero" doc:"when the certificate ends"`
	Account string                 `json:"account" doc:"of ACME; empty for none"`
	Late    bool                   `json:"late" doc:"whether the machine should have renewed it and did not"`
}

// Shown is a credential with what came of it.
type Shown struct {
	enrol.Code
	Accounts []ordering.Account `json:"accounts" doc:"ACME accounts that were registered with it"`
	Requests []Request          `json:"requests" doc:"requests by it, the newest first"`
}

// Show tells of a credential.
func Show(ctx context.Context, e *estate.Estate, name string) (Shown, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (Shown, error) { return show(ctx, e, name) })
}

func show(ctx context.Context, e *estate.Estate, name string) (Shown, error) {
	out := Shown{Accounts: []ordering.Account{}, Requests: []Request{}}
	code, err := enrol.Find(ctx, e, name)
	if err != nil {
		return out, err
	}
	out.Code = code
	if err := ordering.EachAccount(ctx, e, func(a ordering.Account) error {
		if a.Code == name {
			out.Accounts = append(out.Accounts, a)
		}
		return nil
	}); err != nil {
		return out, err
	}
	all, err := Enrolments(ctx, e.Records)
	if err != nil {
		return out, err
	}
	for number, n := range all {
		if n.Credential != name {
			continue
		}
		r, err := requestOf(ctx, e, number, n)
		if err != nil {
			return out, err
		}
		out.Requests = append(out.Requests, r)
	}
	slices.SortFunc(out.Requests, func(a, b Request) int { return numberOf(b.Number) - numberOf(a.Number) })
	return out, nil
}

func numberOf(name string) int {
	n, err := estate.ParseNumber(name)
	if err != nil {
		return 0
	}
	return int(n)
}

func requestOf(ctx context.Context, e *estate.Estate, number string, n Enrolment) (Request, error) {
	rec, _, err := e.Request(ctx, number)
	if err != nil {
		return Request{}, err
	}
	r := Request{Number: number, By: n.By, Title: rec.Title, State: rec.State, Waits: []string{}, Account: n.Account}
	switch rec.State {
	case lifecycle.Waiting:
		why, err := enrol.Waits(ctx, e.Records, number)
		r.Waits = append(r.Waits, why...)
		return r, err
	case lifecycle.Signed:
		c, _, err := e.FindCertificate(ctx, number)
		if err != nil {
			return r, err
		}
		r.Serial, r.Until, r.Late = c.SerialHex(), c.NotAfter, c.State.Serves() && Late(c.Certificate, e.Now())
	}
	return r, nil
}

// EndAccount ends one account of a credential, by its number such as gates/2 or its identifier.
func EndAccount(ctx context.Context, e *estate.Estate, credential, name, because string) (ordering.Account, error) {
	var found *ordering.Account
	if err := ordering.EachAccount(ctx, e, func(a ordering.Account) error {
		if a.Code == credential && (a.ID == name || a.Title() == name) {
			found = &a
		}
		return nil
	}); err != nil {
		return ordering.Account{}, err
	}
	if found == nil {
		return ordering.Account{}, fault.New(fault.NotFound, "the credential %s has no account %q", credential, name)
	}
	if found.Ended != "" {
		return *found, fault.New(fault.Changed, "the account %s holds no more: %s", found.Title(), found.Ended)
	}
	return *found, ordering.End(ctx, e, found.ID, because)
}
