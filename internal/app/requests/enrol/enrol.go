package enrol

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/issue"
	"ironseal/pki/label"
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
	"ironseal/pki/san"
)

// ErrCredentials says that neither the code nor the certificate of a machine is good.
var ErrCredentials = errors.New("the code or the certificate is not known here, or holds no more")

// Ask is what a machine asks for.
type Ask struct {
	By          string            // the protocol, such as template.EST
	Label       string            // the template
	Request     []byte            // DER
	Code        string            // "" for none
	Certificate *cert.Certificate // whose key the machine proved to have, by TLS; nil for none
	Again       bool              // it is to renew the certificate
	// Unlocked reports whether the server may open the key of an authority. It is asked before anything is signed.
	Unlocked func(handle string) bool
}

// Outcome is what became of a request.
type Outcome struct {
	Number      string
	State       lifecycle.RequestState
	Reason      string                    // why it was declined
	Waits       []string                  // why a person decides
	Certificate *estate.CertificateRecord // nil until it is signed
}

// machine is how a machine is known.
type machine struct {
	code   *Code
	record *estate.CertificateRecord
}

// sender is who sent a machine's request. One that renews is whoever asked for the certificate that it has: it proved
// that it has the key.
func (m machine) sender(ctx context.Context, e *estate.Estate, ask Ask) (string, error) {
	if m.code != nil && !ask.Again {
		return ask.By + ": code " + m.code.Name, nil
	}
	if n := m.record.Record.Request; n != 0 {
		before, err := e.Records.Request(ctx, n)
		if err != nil || before.Sender != "" {
			return before.Sender, err
		}
	}
	return ask.By + ": certificate " + m.record.Serial.Short(), nil
}

// Enrol takes a machine's request, and signs it where the template lets that be done without a person. The same bytes
// again are a question after the outcome. ErrCredentials is returned for machines that are not known.
func Enrol(ctx context.Context, e *estate.Estate, ask Ask) (Outcome, error) {
	t, err := e.Template(ask.Label)
	if err != nil {
		return Outcome{}, err
	}
	in := intake.Input{Name: "the request", Data: bundle.PEM(bundle.Request, ask.Request)}
	got, err := intake.ReadOne(in)
	if err != nil {
		return Outcome{}, err
	}
	m, err := known(ctx, e, ask)
	if err != nil {
		return Outcome{}, err
	}
	earlier, err := e.Records.RequestBySHA(ctx, got.Request.SHA256())
	if err == nil {
		return ask.again(ctx, e, earlier, m)
	}
	if !errors.Is(err, fault.NotFound) {
		return Outcome{}, err
	}
	unusual, err := m.allows(ask, got.Request)
	if err != nil {
		return Outcome{}, err
	}
	number, err := ask.receive(ctx, e, got, m)
	if err != nil {
		return Outcome{}, err
	}
	out := Outcome{Number: number, State: lifecycle.Waiting, Waits: unusual}
	if len(unusual) > 0 {
		return out, nil
	}
	u := t.Unattended
	sheet, err := signing.Plan(ctx, e, signing.SignAsk{Request: number, Template: ask.Label, By: u.Authority,
		Amend: issue.Amendments{Lifetime: u.Lifetime}})
	if err != nil { // it is on record, and a person sees why
		out.Waits = []string{err.Error()}
		return out, nil
	}
	if out.Waits = sheet.Plan.NeedsPerson(ask.By, ask.Again); len(out.Waits) > 0 {
		return out, nil
	}
	if ask.Unlocked == nil || !ask.Unlocked(u.Authority) {
		out.Waits = []string{"The server may not open the key of " + u.Authority + "."}
		return out, nil
	}
	err = ask.sign(ctx, e, sheet, &out)
	return out, err
}

// known authenticates a machine.
func known(ctx context.Context, e *estate.Estate, ask Ask) (m machine, err error) {
	if ask.Certificate != nil {
		record, onRecord, err := e.OnRecord(ctx, ask.Certificate)
		if err != nil {
			return m, err
		}
		if onRecord && (record.State == lifecycle.Valid || record.State == lifecycle.Expiring) &&
			!e.Now().Before(record.NotBefore) &&
			delivery.Fit(ctx, e.Records, record) == nil { // no incident is about its key
			m.record = &record
		}
	}
	if ask.Code != "" {
		if m.code, err = coded(ctx, e.Records, ask.Code, e.Now()); err != nil {
			return m, err
		}
	}
	if m.code == nil && m.record == nil || ask.Again && m.record == nil {
		return m, ErrCredentials
	}
	return m, nil
}

// allows refuses what a code is not for, and says what is unusual in a renewal.
func (m machine) allows(ask Ask, r *request.Request) (unusual []string, err error) {
	wanted := slices.Concat(r.Names, request.Hosts(r.Subject))
	if m.code != nil && !ask.Again {
		switch {
		case m.code.Ended != "":
			return nil, fmt.Errorf("%w: %s", ErrCredentials, m.code.Ended)
		case m.code.Template != ask.Label:
			return nil, fault.New(fault.Refused, "the code is for the template %s", m.code.Template)
		}
		for _, n := range wanted {
			if !slices.ContainsFunc(m.code.Names, func(tree string) bool {
				c, err := san.ParseConstraint(tree)
				return err == nil && c.Covers(n, false)
			}) {
				return nil, fault.New(fault.Refused, "the code is for names within %s, and not for %s",
					strings.Join(m.code.Names, ", "), n.Value())
			}
		}
		return nil, nil
	}
	if m.record.Record.Template != ask.Label {
		unusual = append(unusual, "The certificate that is renewed was signed by another template.")
	}
	if !m.record.Subject.Equal(r.Subject) {
		unusual = append(unusual, "The subject differs from that of the certificate that is renewed.")
	}
	for _, n := range wanted {
		if !slices.ContainsFunc(m.record.Names, n.Same) {
			unusual = append(unusual, fmt.Sprintf("The name %s is not in the certificate that is renewed.", n.Value()))
		}
	}
	return unusual, nil
}

// receive puts the request on record, with how the machine is known.
func (ask Ask) receive(ctx context.Context, e *estate.Estate, got intake.Received, m machine) (string, error) {
	told := event.Enrolled{By: ask.By, Template: ask.Label}
	if m.record != nil {
		told.Renews = m.record.SerialHex()
	}
	sender, err := m.sender(ctx, e, ask)
	if err != nil {
		return "", err
	}
	return intake.ReceiveOne(ctx, e, got, sender, func(tx store.Tx, number string) ([]event.Record, error) {
		if m.code != nil && !ask.Again { // others may have used it meanwhile
			c, err := coded(ctx, tx, ask.Code, tx.Now())
			if err != nil {
				return nil, err
			}
			if c == nil || c.Ended != "" {
				return nil, ErrCredentials
			}
			told.Code, told.Nth = c.Name, c.Used+1
		}
		return []event.Record{event.On(number, told)}, nil
	})
}

// again tells the outcome of a request that is on record. Only the machine that handed it in is told.
func (ask Ask) again(ctx context.Context, e *estate.Estate, rec store.Request, m machine) (Outcome, error) {
	out := Outcome{Number: fmt.Sprintf("R%d", rec.Number), State: rec.State, Reason: rec.Reason}
	en, found, err := e.Records.DerivedOf(ctx, event.Enrolments, out.Number)
	if err != nil {
		return out, err
	}
	if !found {
		return Outcome{}, fault.New(fault.Refused, "this request came another way: make a new one")
	}
	told, err := event.As[event.Enrolled](en)
	if err != nil {
		return out, err
	}
	byCode := told.Code != "" && m.code != nil && m.code.Name == told.Code
	byCertificate := told.Renews != "" && m.record != nil && m.record.SerialHex() == told.Renews
	if !byCode && !byCertificate {
		return Outcome{}, ErrCredentials
	}
	if rec.State != lifecycle.Signed {
		return out, nil
	}
	c, _, err := e.FindCertificate(ctx, out.Number)
	if err != nil {
		return out, err
	}
	out.Certificate = &c
	return out, nil
}

// sign grants the signature on record, and then signs.
func (ask Ask) sign(ctx context.Context, e *estate.Estate, sheet *signing.Sheet, out *Outcome) error {
	day := e.Now().Format("2006-01-02")
	full := false
	if _, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		en, found, err := tx.DerivedOf(ctx, event.Grants, event.GrantName(ask.Label, day))
		if err != nil {
			return nil, err
		}
		before := 0
		if found {
			g, err := event.As[event.SigningGranted](en)
			if err != nil {
				return nil, err
			}
			before = g.Nth
		}
		if full = before >= sheet.Template.Unattended.PerDay; full {
			return nil, nil
		}
		sum := sheet.Plan.Digest()
		return []event.Record{event.On(out.Number, event.SigningGranted{Template: ask.Label, Day: day, Nth: before + 1,
			Sheet: label.Code(sum)})}, nil
	}); err != nil {
		return err
	}
	if full {
		out.Waits = []string{fmt.Sprintf("%d were signed today without a person.", sheet.Template.Unattended.PerDay)}
		return nil
	}
	var failed error
	if err := signing.Sign(ctx, e, []*signing.Sheet{sheet},
		func(r signing.SignResult) { failed = r.Err }); err != nil ||
		failed != nil {
		return errors.Join(err, failed)
	}
	c, _, err := e.FindCertificate(ctx, out.Number)
	if err != nil {
		return err
	}
	out.State, out.Certificate = lifecycle.Signed, &c
	return nil
}
