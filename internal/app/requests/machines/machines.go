// Package machines shows what came of credentials: the accounts and the requests of machines.
package machines

import (
	"context"
	"slices"
	"time"

	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/app/requests/fleet"
	"ironseal/internal/app/requests/ordering"
	"ironseal/internal/estate"
	"ironseal/pki/fault"
	"ironseal/pki/lifecycle"
	"ironseal/pki/renewal"
)

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
	all, err := fleet.Enrolments(ctx, e.Records)
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

func requestOf(ctx context.Context, e *estate.Estate, number string, n fleet.Enrolment) (Request, error) {
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
		r.Serial, r.Until, r.Late = c.SerialHex(), c.NotAfter, c.State.Serves() && renewal.Late(c.NotBefore,
			c.NotAfter, e.Now())
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
