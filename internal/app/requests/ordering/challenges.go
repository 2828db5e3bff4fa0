package ordering

import (
	"context"
	"errors"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/fetch/control"
	"ironseal/internal/store"
	"ironseal/pki/acme"
	"ironseal/pki/cert"
	"ironseal/pki/san"
)

// Prover fetches what is published at a name.
type Prover interface {
	// Page fetches the page of a challenge by HTTP.
	Page(ctx context.Context, n san.Name, token string) ([]byte, error)
	// Texts asks for the texts of a name in DNS.
	Texts(ctx context.Context, name string) ([]string, error)
	// Certificate asks a server for the certificate of a challenge by TLS.
	Certificate(ctx context.Context, n san.Name) ([]byte, error)
}

// Try tries a challenge, and records the outcome. An order whose challenge was tried already is returned as it is.
func Try(ctx context.Context, e *estate.Estate, by Prover, a Account, o Order, index int, m acme.Method) (Order,
	error) {
	p := o.Proofs[index]
	if p.Status != Pending || o.Status != Pending {
		return o, nil
	}
	token := acme.Token(o.Seed, index, m)
	failed := prove(ctx, by, p.Name, m, token, acme.KeyAuthorization(token, a.Key))
	if err := ctx.Err(); err != nil { // the client went away: it may try again
		return o, err
	}
	told := event.ChallengeTried{Name: p.Name.String(), Method: string(m)}
	if failed != nil {
		told.Kind, told.Why = string(failed.Kind), short(failed.Detail)
	}
	return recorded(ctx, e, a, o, index, told)
}

// Deactivate gives a name of an order up.
func Deactivate(ctx context.Context, e *estate.Estate, a Account, o Order, index int) (Order, error) {
	if o.Number != "" || o.Proofs[index].Status != Pending && o.Proofs[index].Status != Valid {
		return o, nil
	}
	return recorded(ctx, e, a, o, index, event.ChallengeTried{Name: o.Proofs[index].Name.String(), Kind: deactivated})
}

func recorded(ctx context.Context, e *estate.Estate, a Account, o Order, index int,
	told event.ChallengeTried) (Order, error) {
	name := event.ChallengeName(o.ID, index)
	_, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		_, tried, err := tx.DerivedOf(ctx, event.Challenges, name)
		if err != nil || tried && told.Kind != deactivated { // another server was quicker
			return nil, err
		}
		return []event.Record{event.On(name, told)}, nil
	})
	if err != nil {
		return o, err
	}
	return ByOrderID(ctx, e, a, o.ID, nil)
}

// longest is how much is kept of what a server said.
const longest = 300

func short(s string) string {
	if r := []rune(s); len(r) > longest {
		return string(r[:longest]) + " ..."
	}
	return s
}

// prove says why an answer to a challenge is not there; nil where it is.
func prove(ctx context.Context, by Prover, n san.Name, m acme.Method, token, authorization string) *acme.Problem {
	switch m {
	case acme.HTTP01:
		body, err := by.Page(ctx, n, token)
		if err != nil {
			return failure(err)
		}
		if !acme.Answers(body, authorization) {
			return &acme.Problem{Kind: acme.IncorrectResponse, Detail: "the page holds something else than the key " +
				"authorization"}
		}
	case acme.DNS01:
		texts, err := by.Texts(ctx, acme.TXTName(n))
		if err != nil {
			return failure(err)
		}
		for _, t := range texts {
			if t == acme.TXT(authorization) {
				return nil
			}
		}
		return &acme.Problem{Kind: acme.IncorrectResponse, Detail: "no text at " + acme.TXTName(n) +
			" answers the challenge"}
	case acme.ALPN01:
		der, err := by.Certificate(ctx, n)
		if err != nil {
			return failure(err)
		}
		c, err := cert.Read(der)
		if err == nil {
			err = acme.CertificateAnswers(c, n, authorization)
		}
		if err != nil {
			return &acme.Problem{Kind: acme.IncorrectResponse, Detail: err.Error()}
		}
	}
	return nil
}

func failure(err error) *acme.Problem {
	kind := acme.ConnectionFailed
	switch {
	case errors.Is(err, control.ErrDNS):
		kind = acme.DNSFailed
	case errors.Is(err, control.ErrTLS):
		kind = acme.TLSFailed
	case errors.Is(err, control.ErrAnswer):
		kind = acme.Unauthorized
	}
	return &acme.Problem{Kind: kind, Detail: err.Error()}
}
