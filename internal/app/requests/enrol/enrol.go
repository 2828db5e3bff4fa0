package enrol

import (
	"context"
	"crypto/subtle"
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
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
	"ironseal/pki/san"
	"ironseal/pki/template"
)

// ErrCredentials says that neither the code nor the certificate of a machine is good.
var ErrCredentials = errors.New("the code or the certificate is not known here, or holds no more")

// Ask is what a machine asks for.
type Ask struct {
	By          string            // the protocol, such as template.EST
	Label       string            // the template
	Request     []byte            // DER
	Code        string            // "" for none
	Certificate *cert.Certificate // whose key the machine proved to have; nil for none
	Again       bool              // it is to renew the certificate
	Account     *Account          // of ACME; nil for none
	Transaction string            // of SCEP; "" for none
	// Session is what the challenge password in a request by EST must be, where there is one: it proves that the
	// request
	// was made for this TLS session (RFC 7030 section 3.5, RFC 9266). Several where there are several forms.
	Session []string
	// Unlocked reports whether the server may open the key of an authority. It is asked before anything is signed.
	Unlocked func(handle string) bool
}

// Account is an ACME account that orders a certificate: it proved control of the names, or need not.
type Account struct {
	ID, Order string
	Sender    string                    // who sends its requests
	Renews    *estate.CertificateRecord // what the certificate is in place of; nil for none
}

// Outcome is the outcome of a request.
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
	record *estate.CertificateRecord // that is renewed, or by which it is known; nil for none
	sender string
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
	if !ask.ofSession(got.Request) {
		return Outcome{}, fault.New(fault.Refused, "the challenge password is not that of this TLS session (RFC 7030 "+
			"section 3.5)")
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
	return ask.taken(ctx, e, t, got, m, unusual)
}

// tries is how often a request is judged again, where the records changed between its plan and its signature.
const tries = 4

// taken judges a request and puts it on record, signed or not.
func (ask Ask) taken(ctx context.Context, e *estate.Estate, t template.Template, got intake.Received, m machine,
	unusual []string) (out Outcome, err error) {
	for range tries {
		j := judgement{why: unusual}
		if len(unusual) == 0 {
			rec := store.Request{DER: got.Request.Raw, Title: got.Request.Title(), Sender: m.sender, Received: e.Now(),
				State: lifecycle.Waiting}
			if j, err = ask.judge(ctx, e, t, m, rec, got.Request); err != nil {
				return Outcome{}, err
			}
		}
		out = Outcome{State: lifecycle.Waiting}
		if err = ask.receive(ctx, e, got, m, &j, &out); !errors.Is(err, fault.Changed) {
			break
		}
	}
	if err != nil {
		return ask.lost(ctx, e, got, m, err)
	}
	return out, nil
}

// lost is the outcome where another server took the same request a moment ago.
func (ask Ask) lost(ctx context.Context, e *estate.Estate, got intake.Received, m machine, err error) (Outcome, error) {
	if errors.Is(err, fault.Refused) {
		if earlier, e2 := e.Records.RequestBySHA(ctx, got.Request.SHA256()); e2 == nil {
			return ask.again(ctx, e, earlier, m)
		}
	}
	return Outcome{}, err
}

// ofSession reports whether a request was made for the session that it came by, or does not say.
func (ask Ask) ofSession(r *request.Request) bool {
	if ask.By != template.EST || r.Password() == "" {
		return true
	}
	good := 0
	for _, s := range ask.Session {
		good |= subtle.ConstantTimeCompare([]byte(s), []byte(r.Password()))
	}
	return good == 1
}

// known authenticates a machine.
func known(ctx context.Context, e *estate.Estate, ask Ask) (m machine, err error) {
	if ask.Account != nil {
		return machine{sender: ask.Account.Sender, record: ask.Account.Renews}, nil
	}
	if ask.Certificate != nil {
		record, onRecord, err := e.OnRecord(ctx, ask.Certificate)
		if err != nil {
			return m, err
		}
		if onRecord && Standing(ctx, e, record) {
			if m.record, err = newestOf(ctx, e, record); err != nil {
				return m, err
			}
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
	m.sender, err = m.whose(ctx, e, ask)
	return m, err
}

// newestOf is the certificate that counts for a machine which is known by one: where a person signed another for the
// same key meanwhile, for a change-over, that one.
func newestOf(ctx context.Context, e *estate.Estate, c estate.CertificateRecord) (*estate.CertificateRecord, error) {
	if c.State != lifecycle.Replaced {
		return &c, nil
	}
	list, err := e.ReadCertificates(e.Records.CertificatesByKey(ctx, c.Key.Fingerprint(), 10))
	for _, o := range list {
		if o.State.Serves() && SameNames(o.Names, c.Names) && o.Subject.Equal(c.Subject) {
			return &o, err
		}
	}
	return &c, err
}

// Standing reports whether a machine is known by a certificate of ours today: it is neither revoked, on hold nor ended,
// and no incident is about its key.
func Standing(ctx context.Context, e *estate.Estate, c estate.CertificateRecord) bool {
	return (c.State == lifecycle.Valid || c.State == lifecycle.Expiring || c.State == lifecycle.Replaced) &&
		!e.Now().Before(c.NotBefore) && !e.Now().After(c.NotAfter) && delivery.Fit(ctx, e.Records, c) == nil
}

// whose is who sends a machine's request. One that renews is whoever asked for the certificate that it has: it proved
// that it has the key.
func (m machine) whose(ctx context.Context, e *estate.Estate, ask Ask) (string, error) {
	if m.code != nil && !ask.Again {
		return m.code.Sender(ask.By), nil
	}
	if n := m.record.Record.Request; n != 0 {
		before, err := e.Records.Request(ctx, n)
		if err != nil || before.Sender != "" {
			return before.Sender, err
		}
	}
	return ask.By + ": certificate " + m.record.Serial.Short(), nil
}

// allows refuses what a code is not for, and says what is unusual in a renewal.
func (m machine) allows(ask Ask, r *request.Request) (unusual []string, err error) {
	if ask.Account != nil { // the order says what it is for
		return nil, nil
	}
	wanted := slices.Concat(r.Names, request.Hosts(r.Subject))
	if m.code != nil && !ask.Again {
		switch {
		case m.code.Ended != "":
			return nil, fmt.Errorf("%w: %s", ErrCredentials, m.code.Ended)
		case m.code.Template != ask.Label:
			return nil, fault.New(fault.Refused, "the code is for the template %s", m.code.Template)
		case ask.By == template.SCEP && m.code.Count > 1: // it stands in the request, which is kept as it came
			return nil, fault.New(fault.Refused, "by SCEP, a code is for one machine: make one for each")
		}
		for _, n := range wanted {
			if !m.code.Covers(n) {
				return nil, fault.New(fault.Refused, "the code is for names within %s, and not for %s",
					strings.Join(m.code.Names, ", "), n.Value())
			}
		}
		return nil, nil
	}
	if m.record.State == lifecycle.Replaced {
		unusual = append(unusual, "The certificate was replaced already.")
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

// replaces is the certificate in whose place another would be: it has the same names, and nothing replaced it yet.
func (m machine) replaces(ask Ask, r *request.Request) *estate.CertificateRecord {
	if m.record == nil || !ask.Again && ask.Account == nil || m.record.State == lifecycle.Replaced {
		return nil
	}
	if SameNames(slices.Concat(r.Names, request.Hosts(r.Subject)), m.record.Names) {
		return m.record
	}
	return nil
}

// SameNames reports whether two lists hold the same names.
func SameNames(a, b []san.Name) bool {
	within := func(a, b []san.Name) bool {
		return !slices.ContainsFunc(a, func(n san.Name) bool { return !slices.ContainsFunc(b, n.Same) })
	}
	return within(a, b) && within(b, a)
}

// receive puts the request on record, with how the machine is known, and either signs it in the same act or says why a
// person decides.
func (ask Ask) receive(ctx context.Context, e *estate.Estate, got intake.Received, m machine, j *judgement,
	out *Outcome) error {
	into := intake.ReceivingOne(got, m.sender)
	first := func(tx store.Tx) (int64, []event.Record, bool, error) {
		number, records, err := into(tx)
		if err != nil {
			return 0, nil, false, err
		}
		out.Number = fmt.Sprintf("R%d", number)
		more, err := ask.tells(ctx, tx, m, j, out.Number)
		return number, append(records, more...), len(j.why) == 0, err
	}
	if len(j.why) > 0 {
		out.Waits = j.why
		_, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
			_, records, _, err := first(tx)
			return records, err
		})
		return err
	}
	if _, err := signing.SignUnrecorded(ctx, e, j.sheet, first); err != nil {
		return err
	}
	if out.Waits = j.why; len(j.why) > 0 { // as many were signed today as may be
		return nil
	}
	list, err := e.ReadCertificates(e.Records.CertificatesByRequest(ctx, j.sheet.Record.Number))
	if err != nil {
		return err
	}
	if len(list) == 0 {
		return fault.New(fault.Internal, "%s was signed, and its certificate is not on record", out.Number)
	}
	out.State, out.Certificate = lifecycle.Signed, &list[0]
	return nil
}

// tells records how the machine is known, and the permission to sign its request or the reason why a person decides.
func (ask Ask) tells(ctx context.Context, tx store.Tx, m machine, j *judgement, number string) ([]event.Record, error) {
	told := event.Enrolled{By: ask.By, Template: ask.Label, ID: ask.Transaction}
	if m.record != nil {
		told.Renews = m.record.SerialHex()
	}
	if ask.Account != nil { // another server may have taken another request for the order
		told.Account, told.Order = ask.Account.ID, ask.Account.Order
		_, taken, err := tx.DerivedOf(ctx, event.OrderRequests, ask.Account.Order)
		if err != nil {
			return nil, err
		}
		if taken {
			return nil, fault.New(fault.Changed, "the order has a request already")
		}
	}
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
	more, err := j.record(ctx, tx, ask.Label, number)
	return append([]event.Record{event.On(number, told)}, more...), err
}

// again gives the outcome of a request that is on record, only to the machine that handed it in. A request that a
// server was stopped at is gone on with.
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
	byCertificate := false
	if told.Renews != "" && m.record != nil {
		c, _, err := e.FindCertificate(ctx, told.Renews)
		if err != nil {
			return out, err
		}
		byCertificate = key.Same(c.Key, m.record.Key)
	}
	byAccount := ask.Account != nil && told.Account == ask.Account.ID && told.Order == ask.Account.Order
	if !byAccount && (ask.Account != nil || !byCode && !byCertificate) {
		return Outcome{}, ErrCredentials
	}
	return out, Result(ctx, e, ask.Label, ask.Unlocked, &out)
}

// Result completes the outcome of a request of a machine that is on record.
func Result(ctx context.Context, e *estate.Estate, label string, unlocked func(string) bool, out *Outcome) error {
	rec, r, err := e.Request(ctx, out.Number)
	if err != nil {
		return err
	}
	out.State, out.Reason = rec.State, rec.Reason
	switch rec.State {
	case lifecycle.Waiting:
		if out.Waits, err = Waits(ctx, e.Records, out.Number); err != nil || len(out.Waits) > 0 {
			return err
		}
		return goOn(ctx, e, label, unlocked, rec, r, out)
	case lifecycle.Signed:
		c, _, err := e.FindCertificate(ctx, out.Number)
		if err != nil {
			return err
		}
		out.Certificate = &c
	}
	return nil
}

// Chain is a certificate with those above it, the root left out. A certificate that must not be used is refused.
func Chain(ctx context.Context, e *estate.Estate, c estate.CertificateRecord) ([][]byte, error) {
	if err := delivery.Fit(ctx, e.Records, c); err != nil {
		return nil, err
	}
	line, err := e.Line(ctx, c)
	out := [][]byte{c.Raw}
	for _, up := range line {
		if !up.SelfIssued() {
			out = append(out, up.Raw)
		}
	}
	return out, err
}

// Waits are the reasons why a machine's request waits for a person; none where it does not, or is no machine's.
func Waits(ctx context.Context, from store.DerivedReader, number string) ([]string, error) {
	en, found, err := from.DerivedOf(ctx, event.Persons, number)
	if err != nil || !found {
		return nil, err
	}
	told, err := event.As[event.PersonDecides](en)
	return told.Why, err
}
