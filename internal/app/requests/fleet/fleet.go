// Package fleet knows which certificates renew themselves: those that a machine got by an enrolment protocol. It tells
// which machines should have renewed and did not.
package fleet

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/journal"
	"ironseal/pki/renewal"
)

// Enrolment is how a request came from a machine.
type Enrolment struct {
	By         string // the protocol
	Credential string // by which the machine was known; "" where its certificate or its own account was enough
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

// Fleet are the requests that came from machines, by their number, such as R7.
type Fleet map[string]Enrolment

// Enrolments reads them.
func Enrolments(ctx context.Context, from store.DerivedReader) (Fleet, error) {
	accounts := map[string]string{}
	if err := from.Derived(ctx, event.Accounts, func(id string, en journal.Entry) error {
		kept, err := event.As[event.AccountKept](en)
		accounts[id] = kept.Code
		return err
	}); err != nil {
		return nil, err
	}
	out := Fleet{}
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

// How a certificate is renewed, in lists.
const (
	Itself    = "itself" // its machine renews it
	LateWords = "late"   // its machine should have, and did not
)

// Renews says how a certificate is renewed: Itself or LateWords, or "" where a person does it, or where it serves no
// more.
func (f Fleet) Renews(c *estate.CertificateLine, now time.Time) string {
	if len(f) == 0 || c.Request == 0 || !c.State.Serves() {
		return ""
	}
	_, machine := f[fmt.Sprintf("R%d", c.Request)]
	switch {
	case !machine:
		return ""
	case renewal.Late(c.NotBefore, c.Until, now):
		return LateWords
	}
	return Itself
}

// RenewsOne is Renews of one certificate.
func RenewsOne(ctx context.Context, from store.DerivedReader, c estate.CertificateRecord, now time.Time) (string,
	error) {
	number := fmt.Sprintf("R%d", c.Record.Request)
	en, found, err := from.DerivedOf(ctx, event.Enrolments, number)
	if err != nil || !found {
		return "", err
	}
	told, err := event.As[event.Enrolled](en)
	line := c.Line()
	return Fleet{number: {By: told.By}}.Renews(&line, now), err
}

// beyond is how far ahead of its end a machine may be late that has a certificate of a year.
const beyond = 60 * 24 * time.Hour

// LateOnes are the certificates that machines should have renewed and did not, those that end soonest first.
func LateOnes(ctx context.Context, e *estate.Estate) (out []estate.CertificateLine, err error) {
	fleet, err := Enrolments(ctx, e.Records)
	if err != nil || len(fleet) == 0 {
		return nil, err
	}
	now := e.Now()
	err = e.EachLine(ctx, store.LineAsk{Ends: true, From: now, To: now.Add(beyond), Leaves: true, Serving: true},
		func(c *estate.CertificateLine) error {
			if fleet.Renews(c, now) == LateWords {
				out = append(out, *c)
			}
			return nil
		})
	return out, err
}
