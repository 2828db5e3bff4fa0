package enrol

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/pkcs"
	"ironseal/pki/request"
	"ironseal/pki/revocation"
	"ironseal/pki/scep"
	"ironseal/pki/template"
)

// Device is a message of SCEP that was opened.
type Device struct {
	Label    string // the template
	Message  scep.Message
	Content  []byte
	Unlocked func(handle string) bool
	// List is a revocation list in force, by the name of its file; nil where it is not there.
	List func(file string) []byte
}

// Answered is the outcome of a message.
type Answered struct {
	scep.Answer
	Outcome       // of a request; empty for other messages
	Why     error // for the log: why it failed; nil where it did not
}

// Serve answers a message (RFC 8894 section 3.3). A fault of the message is a failure in the answer; an error is of the
// records. Everything that cannot be read once it was opened has one answer, whatever the reason.
func (d Device) Serve(ctx context.Context, e *estate.Estate) (Answered, error) {
	var out Answered
	var err error
	switch d.Message.Type {
	case scep.PKCSReq, scep.RenewalReq:
		out.Outcome, err = d.enrol(ctx, e)
	case scep.CertPoll:
		out.Outcome, err = d.poll(ctx, e)
	case scep.AskCertificate:
		out.Content, err = d.certificate(ctx, e)
	case scep.AskList:
		out.Content, err = d.list(ctx, e)
	default:
		err = scep.BadRequest
	}
	fail, known := errors.AsType[scep.Fail](err)
	switch kind := fault.KindOf(err); {
	case err == nil:
	case known:
		out.Answer, out.Why = scep.Answer{Status: scep.Failure, Fail: fail}, err
		return out, nil
	case errors.Is(err, ErrCredentials), kind == fault.Refused, kind == fault.BadInput, kind == fault.NotFound:
		out.Answer, out.Why = scep.Answer{Status: scep.Failure, Fail: scep.BadRequest}, err
		return out, nil
	default:
		return out, err
	}
	if out.Content != nil {
		return out, nil
	}
	return out, out.tell(ctx, e)
}

// tell puts the outcome of a request into an answer.
func (a *Answered) tell(ctx context.Context, e *estate.Estate) error {
	switch {
	case a.Certificate != nil:
		if err := delivery.Fit(ctx, e.Records, *a.Certificate); err != nil {
			a.Answer, a.Why = scep.Answer{Status: scep.Failure, Fail: scep.BadRequest}, err
			return nil
		}
		var err error
		a.Content, err = pkcs.WriteSignedData([][]byte{a.Certificate.Raw})
		return err
	case a.State == lifecycle.Waiting || a.State == lifecycle.Sent:
		a.Status = scep.Pending
	default:
		a.Answer = scep.Answer{Status: scep.Failure, Fail: scep.BadRequest}
		a.Why = fmt.Errorf("%s was %s", a.Number, a.State)
	}
	return nil
}

// read reads the request in a message. What is wrong with it has one answer.
func (d Device) read() (*request.Request, error) {
	r, err := request.Read(d.Content)
	if err == nil {
		err = r.Proven()
	}
	if err != nil {
		return nil, scep.BadMessageCheck
	}
	return r, nil
}

// enrol takes the request of a device (section 3.3.1). A first request is signed by the key that it is for; a renewal
// by
// the certificate that is renewed.
func (d Device) enrol(ctx context.Context, e *estate.Estate) (Outcome, error) {
	r, err := d.read()
	if err != nil {
		return Outcome{}, err
	}
	ask := Ask{By: template.SCEP, Label: d.Label, Request: r.Raw, Transaction: d.Message.Transaction,
		Unlocked: d.Unlocked}
	ours, onRecord, err := e.OnRecord(ctx, d.Message.Signer)
	if err != nil {
		return Outcome{}, err
	}
	switch {
	case onRecord && !ours.IsAuthority(): // devices that know no RenewalReq send a PKCSReq by their certificate
		ask.Certificate, ask.Again = d.Message.Signer, true
	case d.Message.Type == scep.RenewalReq:
		return Outcome{}, fmt.Errorf("%w: a renewal is not signed by a certificate of ours", scep.BadRequest)
	case !key.Same(d.Message.Signer.Key, r.Key):
		return Outcome{}, fmt.Errorf("%w: the message and the request are of different keys", scep.BadRequest)
	default:
		ask.Code = r.Password()
	}
	if err := d.alone(ctx, e, r); err != nil {
		return Outcome{}, err
	}
	return Enrol(ctx, e, ask)
}

// alone refuses a transaction that another request began.
func (d Device) alone(ctx context.Context, e *estate.Estate, r *request.Request) error {
	en, found, err := e.Records.DerivedOf(ctx, event.Transactions, event.TransactionName(d.Label,
		d.Message.Transaction))
	if err != nil || !found {
		return err
	}
	before, _, err := e.Request(ctx, en.Object)
	if err == nil && !slices.Equal(before.DER, r.Raw) {
		err = fmt.Errorf("%w: another request began this transaction", scep.BadRequest)
	}
	return err
}

// poll asks after a request that waits (section 3.3.3): by the key that signed it, or by the certificate that it
// renews.
func (d Device) poll(ctx context.Context, e *estate.Estate) (Outcome, error) {
	_, subject, err := scep.ReadSubject(d.Content)
	if err != nil {
		return Outcome{}, err
	}
	none := fmt.Errorf("%w: no request began this transaction", scep.BadCertID)
	en, found, err := e.Records.DerivedOf(ctx, event.Transactions, event.TransactionName(d.Label,
		d.Message.Transaction))
	if err != nil || !found {
		return Outcome{}, errors.Join(err, none)
	}
	told, err := event.As[event.Enrolled](en)
	if err != nil {
		return Outcome{}, err
	}
	_, r, err := e.Request(ctx, en.Object)
	if err != nil {
		return Outcome{}, err
	}
	mine := key.Same(d.Message.Signer.Key, r.Key)
	if told.Renews != "" {
		ours, onRecord, err := e.OnRecord(ctx, d.Message.Signer)
		if err != nil {
			return Outcome{}, err
		}
		before, _, err := e.FindCertificate(ctx, told.Renews)
		if err != nil {
			return Outcome{}, err
		}
		mine = onRecord && key.Same(ours.Key, before.Key) && Standing(ctx, e, ours)
	}
	if !mine || !subject.Equal(r.Subject) {
		return Outcome{}, none
	}
	out := Outcome{Number: en.Object}
	return out, Result(ctx, e, d.Label, d.Unlocked, &out)
}

// known is the certificate that a device asks about; it must be known by one of ours itself.
func (d Device) known(ctx context.Context, e *estate.Estate) (estate.CertificateRecord, error) {
	var none estate.CertificateRecord
	issuer, serial, err := scep.ReadSerial(d.Content)
	if err != nil {
		return none, err
	}
	ours, onRecord, err := e.OnRecord(ctx, d.Message.Signer)
	if err != nil {
		return none, err
	}
	if !onRecord || !Standing(ctx, e, ours) {
		return none, fmt.Errorf("%w: the signer has no certificate of ours", scep.BadRequest)
	}
	list, err := e.ReadCertificates(e.Records.CertificatesBySerial(ctx, serial.Hex()))
	if err != nil {
		return none, err
	}
	for _, c := range list {
		if c.Serial.Hex() == serial.Hex() && c.Issuer.Equal(issuer) {
			return c, nil
		}
	}
	return none, fmt.Errorf("%w: there is no such certificate", scep.BadCertID)
}

// certificate hands out a certificate (section 3.3.4).
func (d Device) certificate(ctx context.Context, e *estate.Estate) ([]byte, error) {
	c, err := d.known(ctx, e)
	if err != nil {
		return nil, err
	}
	if c.State == lifecycle.Prepared {
		return nil, fmt.Errorf("%w: it waits for its switch day", scep.BadCertID)
	}
	return pkcs.WriteSignedData([][]byte{c.Raw})
}

// list hands out the revocation list that a certificate is on (section 3.3.4).
func (d Device) list(ctx context.Context, e *estate.Estate) ([]byte, error) {
	c, err := d.known(ctx, e)
	if err != nil {
		return nil, err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	var der []byte
	if g := h.Generation(c.Record.Issuer); g != nil {
		der = d.List(revocation.ListFile(g.ListName(), c.Record.Part))
	}
	if der == nil {
		return nil, fmt.Errorf("%w: there is no list", scep.BadCertID)
	}
	return pkcs.WriteLists([][]byte{der})
}

// Next are the certificates of the generation that takes over from an authority's, and of those above it: prepared, and
// known to everybody but machines (section 4.6). Without a prepared change-over it is empty.
func Next(h hierarchy.Hierarchy, handle string) (out [][]byte) {
	a := h.Find(handle)
	if a == nil || a.Prepared() == nil {
		return nil
	}
	for _, g := range a.Prepared().Line() {
		out = append(out, g.Certificate.Raw)
	}
	return out
}
