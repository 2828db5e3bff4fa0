package ordering

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/app/revoke/revoking"
	"ironseal/internal/estate"
	"ironseal/pki/acme"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/jose"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/renewal"
	"ironseal/pki/request"
	"ironseal/pki/revocation"
	"ironseal/pki/template"
)

// Finish takes the request for an order whose names were proven (RFC 8555 section 7.4). The same request again is a
// question after the outcome.
func Finish(ctx context.Context, e *estate.Estate, a Account, o Order, der []byte, unlocked func(string) bool) (Order,
	error) {
	r, err := request.Read(der)
	if err == nil {
		err = r.Proven()
	}
	if err != nil {
		return o, problem(acme.BadCSR, err.Error())
	}
	if o.Number != "" {
		if rec, _, err := e.Request(ctx, o.Number); err == nil && slices.Equal(rec.DER, r.Raw) {
			return o, nil
		}
	}
	if o.Status != Ready {
		return o, problem(acme.OrderNotReady, "the order is "+string(o.Status))
	}
	if why := o.unfit(a, r); why != "" {
		return o, problem(acme.BadCSR, why)
	}
	old, err := o.replaces(ctx, e, a)
	if err != nil {
		return o, err
	}
	_, err = enrol.Enrol(ctx, e, enrol.Ask{By: template.ACME, Label: o.Template, Request: der, Unlocked: unlocked,
		Account: &enrol.Account{ID: a.ID, Order: o.ID, Sender: a.Sender(), Renews: old}})
	switch kind := fault.KindOf(err); {
	case errors.Is(err, enrol.ErrCredentials), kind == fault.BadInput, kind == fault.Refused:
		return o, problem(acme.BadCSR, err.Error())
	case err != nil && !errors.Is(err, fault.Changed):
		return o, err
	}
	return ByOrderID(ctx, e, a, o.ID, unlocked)
}

// unfit says why a request is not what was ordered.
func (o Order) unfit(a Account, r *request.Request) string {
	if !enrol.SameNames(slices.Concat(r.Names, request.Hosts(r.Subject)), o.Names()) {
		return "the names of the request are not those of the order"
	}
	if k, err := keyOf(a.Key); err == nil && key.Same(k, r.Key) {
		return "the key is that of the account (RFC 8555 section 11.1)"
	}
	return ""
}

// replaces is the certificate in whose place the ordered one is: the one that the client named, else the newest that
// the account's sender holds for the same names.
func (o Order) replaces(ctx context.Context, e *estate.Estate, a Account) (*estate.CertificateRecord, error) {
	if o.Renews != "" {
		c, _, err := e.FindCertificate(ctx, o.Renews)
		if err != nil || c.State == lifecycle.Replaced || c.State == lifecycle.OnHold {
			return nil, err
		}
		return &c, nil
	}
	serving, err := e.Records.ServingByNames(ctx, values(o.Names()), [32]byte{}, e.Now(), 0)
	if err != nil {
		return nil, err
	}
	for _, s := range slices.Backward(serving) {
		if s.Sender != a.Sender() {
			continue
		}
		list, err := e.ReadCertificates(e.Records.CertificateByID(ctx, s.ID))
		if err != nil {
			return nil, err
		}
		if len(list) == 1 && list[0].Record.Template == o.Template && enrol.SameNames(list[0].Names, o.Names()) {
			return &list[0], nil
		}
	}
	return nil, nil
}

// Fetch is the certificate of an order with those above it, the root left out.
func Fetch(ctx context.Context, e *estate.Estate, o Order) ([][]byte, error) {
	if o.Certificate == nil {
		return nil, problem(acme.OrderNotReady, "the order is "+string(o.Status))
	}
	return enrol.Chain(ctx, e, *o.Certificate)
}

// Suggestion is when a certificate is renewed (RFC 9773 section 4.2).
type Suggestion struct {
	renewal.Window
	Why string // why at once; "" where it is not
}

// Suggest says when the certificate that has a name in renewal information is renewed: before what its authority grants
// shrinks, and at once where its key or its issuer is in an incident, or was revoked.
func Suggest(ctx context.Context, e *estate.Estate, id string) (Suggestion, error) {
	c, err := named(ctx, e, id)
	if err != nil {
		return Suggestion{}, err
	}
	var out Suggestion
	if out.Why, err = AtOnce(ctx, e, c); err != nil {
		return out, err
	}
	shrinks, err := shrinks(ctx, e, c)
	if err != nil {
		return out, err
	}
	out.Window = renewal.WindowOf(c.NotBefore, c.NotAfter, shrinks, e.Now(), out.Why != "")
	return out, nil
}

// AtOnce says why a certificate is renewed at once; "" where it need not be.
func AtOnce(ctx context.Context, e *estate.Estate, c estate.CertificateRecord) (string, error) {
	if c.State.Rejected() {
		return "The certificate is " + string(c.State) + ".", nil
	}
	suspected, err := compromise.Keys(ctx, e.Records)
	if err != nil {
		return "", err
	}
	if f, bad := suspected[c.Key.Fingerprint()]; bad {
		return f.Message, nil
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return "", err
	}
	if g := h.Generation(c.Record.Issuer); g != nil {
		for _, up := range g.Line() {
			if f, bad := suspected[up.Certificate.Key.Fingerprint()]; bad {
				return f.Message, nil
			}
		}
	}
	return "", nil
}

// shrinks is the last day on which the authority grants the full life by the template; zero where that is not known.
func shrinks(ctx context.Context, e *estate.Estate, c estate.CertificateRecord) (time.Time, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return time.Time{}, err
	}
	t, err := e.Template(c.Record.Template)
	if errors.Is(err, fault.NotFound) {
		return time.Time{}, nil
	}
	if err != nil {
		return time.Time{}, err
	}
	g := h.Generation(c.Record.Issuer)
	if g == nil || g.Authority.Current() == nil {
		return time.Time{}, nil
	}
	end, _ := renewal.EndOf(g.Authority.Current().Line())
	life := t.Lifetime
	if u := t.Unattended; !u.Lifetime.IsZero() && !u.Lifetime.Longer(life, e.Now()) {
		life = u.Lifetime
	}
	return life.LastDay(end), nil
}

// RevokeAsk is what a client asks to be revoked (RFC 8555 section 7.6).
type RevokeAsk struct {
	Certificate []byte
	Reason      int
	Account     *Account  // that signed the message; nil where the certificate's key did
	Key         *jose.Key // that signed the message; nil where an account did
}

// reasons are those that a client may give.
var reasons = []revocation.Reason{revocation.Unspecified, revocation.KeyCompromise, revocation.AffiliationChanged,
	revocation.Superseded, revocation.CessationOfOperation}

// Revoke revokes a certificate for whoever ordered it, or has its key.
func Revoke(ctx context.Context, e *estate.Estate, ask RevokeAsk) error {
	if !slices.Contains(reasons, revocation.Reason(ask.Reason)) {
		return problem(acme.BadRevocationReason, fmt.Sprintf("the reason %d is not taken", ask.Reason))
	}
	read, err := cert.Read(ask.Certificate)
	if err != nil {
		return problem(acme.Malformed, err.Error())
	}
	c, found, err := e.OnRecord(ctx, read)
	switch {
	case err != nil:
		return err
	case !found || c.IsAuthority():
		return fault.New(fault.NotFound, "there is no such certificate")
	}
	because := "its key asked for it, by acme"
	if ask.Account != nil {
		mine, err := ask.Account.holds(ctx, e, c)
		if err != nil {
			return err
		}
		if !mine {
			return problem(acme.Unauthorized, "another account ordered the certificate")
		}
		because = ask.Account.Sender() + " asked for it"
	} else if k, err := keyOf(*ask.Key); err != nil || !key.Same(k, c.Key) {
		return problem(acme.Unauthorized, "the message is not signed by the certificate's key")
	}
	if c.State == lifecycle.Revoked {
		return problem(acme.AlreadyRevoked, "the certificate is revoked")
	}
	p, err := revoking.PlanRevoke(ctx, e, revoking.Ask{Names: []string{c.SerialHex()},
		Reason: revocation.Reason(ask.Reason), Because: because})
	if err == nil {
		p.Findings = slices.DeleteFunc(p.Findings, func(f finding.Finding) bool { // its holder asks for it
			return f.Severity == finding.Waivable
		})
		_, err = revoking.Revoke(ctx, e, p)
	}
	if errors.Is(err, fault.Changed) {
		return problem(acme.AlreadyRevoked, "the certificate is revoked")
	}
	return err
}

func keyOf(k jose.Key) (key.Public, error) {
	spki, err := k.SPKI()
	if err != nil {
		return key.Public{}, err
	}
	return key.Read(spki)
}
