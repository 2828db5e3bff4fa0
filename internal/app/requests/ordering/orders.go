package ordering

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"time"

	"ironseal/internal/app/requests/enrol"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/acme"
	"ironseal/pki/fault"
	"ironseal/pki/lifecycle"
	"ironseal/pki/san"
)

// Life is how long an order waits for its challenges. Once a request is on record for it, it waits as long as that.
const Life = 7 * 24 * time.Hour

// mostOrders is how many orders an account makes in a day.
const mostOrders = 300

// Status is that of an order or an authorisation (RFC 8555 section 7.1.6).
type Status string

// The statuses.
const (
	Pending     Status = "pending"
	Ready       Status = "ready"
	Processing  Status = "processing"
	Valid       Status = "valid"
	Invalid     Status = "invalid"
	Deactivated Status = "deactivated"
	Expired     Status = "expired"
)

// deactivated stands in place of a kind of problem where the client gave a name up.
const deactivated = "deactivated"

// Proof is how an account proves control of one name of an order.
type Proof struct {
	Name    san.Name
	Status  Status
	Method  acme.Method   // that was tried; "" for none
	At      time.Time     // when it was tried; zero where it was not
	Held    bool          // the party holds the name already: no challenge is needed
	Problem *acme.Problem // why it failed; nil where it did not
}

// Order is an order, as it is now.
type Order struct {
	ID, Account, Template string
	Seed                  string // from which the tokens of its challenges are made
	Status                Status
	Until                 time.Time
	Proofs                []Proof
	Renews                string        // the serial that the client says it is in place of; "" for none
	Problem               *acme.Problem // why it is invalid; nil where it is not
	Before                string        // the account's order before it; "" for none
	enrol.Outcome                       // Number is "" before the client sent its request
}

// Names are the names that are ordered.
func (o Order) Names() (out []san.Name) {
	for _, p := range o.Proofs {
		out = append(out, p.Name)
	}
	return out
}

// NewAsk is what a client orders.
type NewAsk struct {
	Names    []acme.Identifier
	Replaces string // the name of a certificate (RFC 9773 section 5); "" for none
	Dated    bool   // it asks for a certain beginning or end
}

// New makes an order.
func New(ctx context.Context, e *estate.Estate, a Account, ask NewAsk) (Order, error) {
	names, err := ask.names(e, a)
	if err != nil {
		return Order{}, err
	}
	made := event.OrderMade{Account: a.ID, Template: a.Template, Seed: newID() + newID()}
	for _, n := range names {
		made.Names = append(made.Names, n.String())
	}
	if made.Renews, err = renews(ctx, e, a, ask.Replaces, names); err != nil {
		return Order{}, err
	}
	if made.Held, err = held(ctx, e, a, names); err != nil {
		return Order{}, err
	}
	id := newID()
	_, err = e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		now, err := account(ctx, tx, a.ID)
		if err != nil {
			return nil, err
		}
		if now == nil || now.Ended != "" {
			return nil, problem(acme.Unauthorized, "the account holds no more")
		}
		made.Day, made.Nth, made.Until = tx.Now().UTC().Format("2006-01-02"), 1, tx.Now().Add(Life).UTC()
		last, found, err := tx.DerivedOf(ctx, event.AccountOrders, a.ID)
		if err != nil {
			return nil, err
		}
		if found {
			before, err := event.As[event.OrderMade](last)
			if err != nil {
				return nil, err
			}
			if made.Before = last.Object; before.Day == made.Day {
				made.Nth = before.Nth + 1
			}
		}
		if made.Nth > mostOrders {
			return nil, &acme.Problem{Kind: acme.RateLimited, Retry: 3600,
				Detail: fmt.Sprintf("an account makes %d orders in a day", mostOrders)}
		}
		return []event.Record{event.On(id, made)}, nil
	})
	if err != nil {
		return Order{}, err
	}
	return ByOrderID(ctx, e, a, id, nil)
}

// names reads the names that are ordered, and says what is wrong with each.
func (ask NewAsk) names(e *estate.Estate, a Account) (out []san.Name, err error) {
	switch {
	case ask.Dated:
		return nil, problem(acme.Malformed, "the template says from when and how long a certificate is valid")
	case len(ask.Names) == 0 || len(ask.Names) > acme.MostIdentifiers:
		return nil, problem(acme.Malformed, fmt.Sprintf("an order has 1 to %d identifiers", acme.MostIdentifiers))
	}
	t, err := e.Template(a.Template)
	if err != nil {
		return nil, err
	}
	var parts []acme.Problem
	for _, i := range ask.Names {
		n, err := i.Name()
		var bad *acme.Problem
		switch {
		case errors.As(err, &bad):
		case !t.TakesName(n.Kind()):
			bad = &acme.Problem{Kind: acme.UnsupportedIdentifier, Identifier: &i,
				Detail: fmt.Sprintf("the template %s takes no names of the type %s", t.Name, i.Type)}
		case !a.mayOrder(n):
			bad = &acme.Problem{Kind: acme.RejectedIdentifier, Identifier: &i,
				Detail: "the account may not order this name"}
		case slices.ContainsFunc(out, n.Same):
			bad = &acme.Problem{Kind: acme.Malformed, Identifier: &i, Detail: "the identifier stands twice"}
		}
		if bad != nil {
			parts = append(parts, *bad)
			continue
		}
		out = append(out, n)
	}
	switch len(parts) {
	case 0:
		return out, nil
	case 1:
		return nil, &parts[0]
	}
	return nil, &acme.Problem{Kind: parts[0].Kind, Detail: "several identifiers were rejected", Parts: parts}
}

// renews finds the certificate that a client names as the one that it replaces (RFC 9773 section 5).
func renews(ctx context.Context, e *estate.Estate, a Account, id string, names []san.Name) (string, error) {
	if id == "" {
		return "", nil
	}
	c, err := named(ctx, e, id)
	if err != nil {
		return "", err
	}
	mine, err := a.holds(ctx, e, c)
	switch {
	case err != nil:
		return "", err
	case !mine:
		return "", problem(acme.Unauthorized, "the certificate that is to be replaced is of another account")
	case !slices.ContainsFunc(names, func(n san.Name) bool { return slices.ContainsFunc(c.Names, n.Same) }):
		return "", problem(acme.Malformed, "the certificate that is to be replaced has none of these names")
	case c.Record.Replaced || c.State == lifecycle.Replaced:
		return "", problem(acme.AlreadyReplaced, "the certificate was replaced already")
	}
	return c.SerialHex(), nil
}

// named finds the certificate that has a name in renewal information.
func named(ctx context.Context, e *estate.Estate, id string) (estate.CertificateRecord, error) {
	authority, serial, err := acme.ReadCertificateID(id)
	if err != nil {
		return estate.CertificateRecord{}, err
	}
	for len(serial) > 1 && serial[0] == 0 {
		serial = serial[1:]
	}
	list, err := e.ReadCertificates(e.Records.CertificatesBySerial(ctx, hex.EncodeToString(serial)))
	if err != nil {
		return estate.CertificateRecord{}, err
	}
	for _, c := range list {
		if slices.Equal(c.AuthorityKey, authority) && acme.CertificateID(c.Certificate) == id && !c.IsAuthority() {
			return c, nil
		}
	}
	return estate.CertificateRecord{}, fault.New(fault.NotFound, "there is no such certificate")
}

// holds reports whether an account ordered a certificate.
func (a Account) holds(ctx context.Context, e *estate.Estate, c estate.CertificateRecord) (bool, error) {
	if c.Record.Request == 0 {
		return false, nil
	}
	en, found, err := e.Records.DerivedOf(ctx, event.Enrolments, fmt.Sprintf("R%d", c.Record.Request))
	if err != nil || !found {
		return false, err
	}
	told, err := event.As[event.Enrolled](en)
	return err == nil && told.Account == a.ID, err
}

// held are the numbers of the names that the account's party holds already, where the template lets that do.
func held(ctx context.Context, e *estate.Estate, a Account, names []san.Name) (out []int, err error) {
	t, err := e.Template(a.Template)
	if err != nil || !t.Unattended.HeldNames || a.Party == "" {
		return nil, err
	}
	serving, err := e.Records.ServingByNames(ctx, values(names), [32]byte{}, e.Now(), 0)
	if err != nil {
		return nil, err
	}
	for i, n := range names {
		for _, s := range serving {
			if s.Name == n.Value() && s.Sender == a.Party {
				out = append(out, i)
				break
			}
		}
	}
	return out, nil
}

func values(names []san.Name) (out []string) {
	for _, n := range names {
		out = append(out, n.Value())
	}
	return out
}

// ByOrderID finds an order of an account. A request that a server was stopped at is gone on with.
func ByOrderID(ctx context.Context, e *estate.Estate, a Account, id string, unlocked func(string) bool) (Order, error) {
	none := problem(acme.Malformed, "the account has no such order")
	en, found, err := e.Records.DerivedOf(ctx, event.Orders, id)
	if err != nil || !found {
		return Order{}, errors.Join(err, none)
	}
	made, err := event.As[event.OrderMade](en)
	if err != nil {
		return Order{}, err
	}
	if made.Account != a.ID {
		return Order{}, none
	}
	o := Order{ID: id, Account: a.ID, Template: made.Template, Seed: made.Seed, Until: made.Until, Renews: made.Renews,
		Before: made.Before}
	if err := o.proofs(ctx, e.Records, made, e.Now()); err != nil {
		return o, err
	}
	asked, found, err := e.Records.DerivedOf(ctx, event.OrderRequests, id)
	if err != nil {
		return o, err
	}
	if !found {
		o.judge(e.Now())
		return o, nil
	}
	o.Number = asked.Object
	return o, o.result(ctx, e, unlocked)
}

func (o *Order) proofs(ctx context.Context, from store.DerivedReader, made event.OrderMade, now time.Time) error {
	for i, text := range made.Names {
		n, err := san.ParseTyped(text)
		if err != nil {
			return err
		}
		p := Proof{Name: n, Status: Pending, Held: slices.Contains(made.Held, i)}
		en, tried, err := from.DerivedOf(ctx, event.Challenges, event.ChallengeName(o.ID, i))
		if err != nil {
			return err
		}
		switch {
		case tried:
			told, err := event.As[event.ChallengeTried](en)
			if err != nil {
				return err
			}
			p.Method, p.At, p.Status = acme.Method(told.Method), en.At, Valid
			if told.Kind == deactivated {
				p.Status = Deactivated
			} else if told.Kind != "" {
				p.Status, p.Problem = Invalid, &acme.Problem{Kind: acme.Kind(told.Kind), Detail: told.Why}
			}
		case p.Held:
			p.Status = Valid
		case !now.Before(o.Until):
			p.Status = Expired
		}
		o.Proofs = append(o.Proofs, p)
	}
	return nil
}

// judge says how an order is for which the client sent no request yet.
func (o *Order) judge(now time.Time) {
	o.Status = Ready
	for _, p := range o.Proofs {
		switch {
		case p.Status == Pending && o.Status == Ready:
			o.Status = Pending
		case p.Status == Invalid || p.Status == Deactivated:
			o.Status = Invalid
			if o.Problem = p.Problem; o.Problem == nil {
				o.Problem = &acme.Problem{Kind: acme.Unauthorized, Detail: "the client gave a name up"}
			}
			return
		}
	}
	if !now.Before(o.Until) {
		o.Status, o.Problem = Invalid, &acme.Problem{Kind: acme.Malformed, Detail: "the order was not finished in time"}
	}
}

// result is the state of an order, by the outcome of its request.
func (o *Order) result(ctx context.Context, e *estate.Estate, unlocked func(string) bool) error {
	if err := enrol.Result(ctx, e, o.Template, unlocked, &o.Outcome); err != nil {
		return err
	}
	switch o.State {
	case lifecycle.Signed:
		o.Status = Valid
	case lifecycle.Waiting, lifecycle.Sent:
		o.Status = Processing
	default:
		o.Status, o.Problem = Invalid, &acme.Problem{Kind: acme.Unauthorized,
			Detail: o.Number + " was " + string(o.State)}
	}
	return nil
}

// mostListed is how many orders of an account are listed.
const mostListed = 50

// Latest are the identifiers of the account's latest orders, the newest first.
func Latest(ctx context.Context, e *estate.Estate, a Account) (out []string, err error) {
	en, found, err := e.Records.DerivedOf(ctx, event.AccountOrders, a.ID)
	for found && err == nil && len(out) < mostListed {
		out = append(out, en.Object)
		made, bad := event.As[event.OrderMade](en)
		if bad != nil || made.Before == "" {
			return out, bad
		}
		en, found, err = e.Records.DerivedOf(ctx, event.Orders, made.Before)
	}
	return out, err
}
