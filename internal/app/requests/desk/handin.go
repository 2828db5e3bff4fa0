package desk

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
	"ironseal/pki/describe"
	"ironseal/pki/fault"
	"ironseal/pki/handover"
	"ironseal/pki/label"
	"ironseal/pki/lifecycle"
	"ironseal/pki/receiver"
	"ironseal/pki/request"
	"ironseal/pki/runes"
	"ironseal/pki/san"
)

// Submission is what a person hands in.
type Submission struct {
	Data       []byte // a file or a paste, with one request
	From       string // who the person says to be
	Purpose    string
	Template   string // that the person asks for; "" for none
	Receiver   string // that the person asks for; "" for none
	Names      string // typed beside the request: separated by blanks, commas or lines
	Invitation string // the secret of an invitation; "" for none
	Renews     string // the secret of an earlier request; "" for none
}

// Preview is a submission as it was read. Nothing is on record yet.
type Preview struct {
	Request    *request.Request
	Object     describe.Object // the request in words, with its findings
	CheckCode  string
	Beside     []san.Name
	Invitation *Invitation
	Renews     string // the number of the earlier request; "" for none

	received intake.Received
}

// Choices are what a person can ask for.
type Choices struct {
	Templates []Choice
	Receivers []Choice
}

// Choice is one thing that can be asked for.
type Choice struct{ Name, Title string }

// Offered are the templates for devices and the receivers; those of an invitation where one is given.
func Offered(e *estate.Estate, i *Invitation) (out Choices) {
	templates, _ := e.Templates() // the commands for templates report those that cannot be read
	for _, t := range templates {
		if t.Makes != "end-entity" || i != nil && len(i.Templates) > 0 && !slices.Contains(i.Templates, t.Name) {
			continue
		}
		out.Templates = append(out.Templates, Choice{t.Name, t.Title})
	}
	receivers, _ := e.Receivers()
	for _, r := range receivers {
		if !r.Demands.Exportable { // the key stays with the person
			out.Receivers = append(out.Receivers, Choice{r.Name, r.Title})
		}
	}
	return out
}

// Read reads a submission. The error says in words what the sender has to do.
func Read(ctx context.Context, e *estate.Estate, s Submission) (Preview, error) {
	var p Preview
	if err := s.check(); err != nil {
		return p, err
	}
	var err error
	if p.received, err = intake.ReadOne(intake.Input{Name: "what you sent", Data: s.Data}); err != nil {
		return p, err
	}
	p.Request = p.received.Request
	p.Object = describe.Request(p.Request)
	p.CheckCode = label.CheckCode(p.Request.Raw)
	if p.Beside, err = namesIn(s.Names); err != nil {
		return p, err
	}
	if err := s.offered(e); err != nil {
		return p, err
	}
	switch {
	case e.Settings.Serve.Open == estate.DeskToNobody: // not to those who were invited either
		return p, Open(e)
	case s.Invitation != "":
		i, err := Invited(ctx, e, s.Invitation)
		if err != nil {
			return p, err
		}
		p.Invitation = &i
		return p, i.allows(p, s.Template)
	case s.Renews != "":
		return p, p.renewing(ctx, e, s.Renews)
	}
	return p, Open(e)
}

// Open refuses where the desk is not open to everybody.
func Open(e *estate.Estate) error {
	switch e.Settings.Serve.Open {
	case estate.DeskToInvited:
		return fault.New(fault.Refused, "this desk is open to those who have an invitation: use the address that "+
			"you were "+
			"given")
	case estate.DeskToNobody:
		return fault.New(fault.Refused, "this desk is closed")
	}
	return nil
}

func (s Submission) check() error {
	for _, x := range []struct {
		what, text string
		most       int
	}{{"your name", s.From, mostName}, {"the purpose", s.Purpose, mostPurpose}} {
		if len([]rune(x.text)) > x.most {
			return fault.New(fault.BadInput, "%s is longer than %d characters", x.what, x.most)
		}
	}
	if strings.TrimSpace(s.From) == "" {
		return fault.New(fault.BadInput, "say who you are")
	}
	return nil
}

// offered refuses a template or a receiver that is not offered.
func (s Submission) offered(e *estate.Estate) error {
	all := Offered(e, nil)
	for _, x := range []struct {
		what, name string
		list       []Choice
	}{{"kind of certificate", s.Template, all.Templates}, {"device", s.Receiver, all.Receivers}} {
		if x.name != "" && !slices.ContainsFunc(x.list, func(c Choice) bool { return c.Name == x.name }) {
			return fault.New(fault.BadInput, "there is no %s %q to choose", x.what, x.name)
		}
	}
	return nil
}

// namesIn reads the names that were typed beside a request.
func namesIn(typed string) (out []san.Name, err error) {
	fields := strings.FieldsFunc(typed, func(r rune) bool { return strings.ContainsRune(" \t\r\n,;", r) })
	if len(fields) > mostBeside {
		return nil, fault.New(fault.BadInput, "there are more than %d names beside the request", mostBeside)
	}
	for _, f := range fields {
		n, err := san.ParseTyped(f)
		if err == nil && n.Fault() != "" {
			err = errors.New(n.Fault())
		}
		if err != nil {
			return nil, fault.New(fault.BadInput, "the name %q: %w", runes.Escape(f), err)
		}
		out = append(out, n)
	}
	return out, nil
}

// wanted are all names that are asked for, in the request, as its common name, and beside it.
func (p Preview) wanted() []san.Name {
	return slices.Concat(p.Request.Names, request.Hosts(p.Request.Subject), p.Beside)
}

// allows refuses what an invitation does not allow.
func (i Invitation) allows(p Preview, template string) error {
	if i.Ended != "" {
		return fault.New(fault.Refused, "this invitation holds no more: %s", i.Ended)
	}
	if len(i.Templates) > 0 && !slices.Contains(i.Templates, template) {
		return fault.New(fault.Refused, "this invitation is for %s: choose it", strings.Join(i.Templates, ", "))
	}
	if len(i.Names) == 0 {
		return nil
	}
	for _, n := range p.wanted() {
		if !slices.ContainsFunc(i.Names, func(tree string) bool {
			c, err := san.ParseConstraint(tree)
			return err == nil && c.Covers(n, false)
		}) {
			return fault.New(fault.Refused, "this invitation is for names within %s, and the request asks for %s",
				strings.Join(i.Names, ", "), n.Value())
		}
	}
	return nil
}

// renewing refuses a request that asks for names which the earlier certificate does not have.
func (p *Preview) renewing(ctx context.Context, e *estate.Estate, secret string) error {
	before, err := Find(ctx, e, secret)
	if err != nil {
		return err
	}
	if before.Certificate == nil {
		return fault.New(fault.Refused, "%s was not signed: there is nothing to renew", before.Number)
	}
	for _, n := range p.wanted() {
		if !slices.ContainsFunc(before.Certificate.Names, n.Same) {
			return fault.New(fault.Refused, "%s is not in the certificate of %s: hand in a new request for other names",
				n.Value(), before.Number)
		}
	}
	p.Renews = before.Number
	return nil
}

// Receipt is what a sender gets for a request.
type Receipt struct {
	Number string // such as R7
	Secret string // of the private address
}

// HandIn reads a submission again and puts the request on record, with what the sender said.
func HandIn(ctx context.Context, e *estate.Estate, s Submission) (Receipt, error) {
	p, err := Read(ctx, e, s)
	if err != nil {
		return Receipt{}, err
	}
	secret, digest, err := newSecret(e.Env.Random)
	if err != nil {
		return Receipt{}, err
	}
	counts, err := e.Records.Count(ctx)
	if err != nil {
		return Receipt{}, err
	}
	if counts.Waiting >= mostWaiting {
		return Receipt{}, fault.New(fault.Busy, "%d requests wait already: try again tomorrow", counts.Waiting)
	}
	told := event.HandedIn{Address: digest, From: clean(s.From), Purpose: clean(s.Purpose), Template: s.Template,
		Receiver: s.Receiver, Renews: p.Renews}
	for _, n := range p.Beside {
		told.Names = append(told.Names, n.String())
	}
	number, err := intake.ReceiveOne(ctx, e, p.received, signing.DeskSender+told.From, func(tx store.Tx,
		number string) ([]event.Record, error) {
		if p.Invitation != nil { // others may have used it meanwhile
			i, err := invited(ctx, tx, s.Invitation, tx.Now())
			if err == nil {
				err = i.allows(p, s.Template)
			}
			if err != nil {
				return nil, err
			}
			told.Invitation, told.Nth = i.Name, i.Used+1
		}
		return []event.Record{event.On(number, told)}, nil
	})
	return Receipt{Number: number, Secret: secret}, err
}

// clean is a text in one line, without what is not shown.
func clean(s string) string {
	return strings.Join(strings.Fields(runes.Escape(strings.Join(strings.Fields(s), " "))), " ")
}

// Held is a request that was handed in, as its sender sees it.
type Held struct {
	Number      string
	Record      store.Request
	Request     *request.Request
	Told        event.HandedIn
	CheckCode   string
	Certificate *estate.CertificateRecord // nil until it is signed
}

// Find finds a request by the secret of its private address.
func Find(ctx context.Context, e *estate.Estate, secret string) (Held, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (Held, error) {
		en, found, err := e.Records.DerivedOf(ctx, event.SubmissionAddress, digestOf(secret))
		if err != nil {
			return Held{}, err
		}
		if !found {
			return Held{}, fault.New(fault.NotFound, "there is no request at this address")
		}
		out := Held{Number: en.Object}
		if out.Told, err = event.As[event.HandedIn](en); err != nil {
			return out, err
		}
		if out.Record, out.Request, err = e.Request(ctx, en.Object); err != nil {
			return out, err
		}
		out.CheckCode = label.CheckCode(out.Request.Raw)
		if out.Record.State != lifecycle.Signed {
			return out, nil
		}
		c, _, err := e.FindCertificate(ctx, en.Object)
		if err != nil {
			return out, err
		}
		out.Certificate = &c
		return out, nil
	})
}

// Shapes are the forms in which a sender fetches a certificate, by their names in addresses.
var Shapes = map[string]struct {
	Format handover.Format
	With   string
}{
	"certificate.pem": {handover.PEM, delivery.Alone},
	"certificate.cer": {handover.DER, delivery.Alone},
	"chain.pem":       {handover.PEM, delivery.WithIssuers},
	"chain.p7b":       {handover.P7B, delivery.WithRoot},
}

// Fetch makes the file of one shape for a request that was signed. What should not be used any more is refused.
func (h Held) Fetch(ctx context.Context, e *estate.Estate, shape string) (delivery.File, error) {
	form, known := Shapes[shape]
	if !known || h.Certificate == nil {
		return delivery.File{}, fault.New(fault.NotFound, "there is no such file")
	}
	if err := delivery.Fit(ctx, e.Records, *h.Certificate); err != nil {
		return delivery.File{}, err
	}
	return delivery.Export(ctx, e, *h.Certificate, form.Format, form.With)
}

// Handover makes the files and the page for the receiver that was asked for, in memory; it is put on record.
func (h Held) Handover(ctx context.Context, e *estate.Estate, name string) ([]delivery.File, receiver.Receiver, error) {
	r, err := e.Receiver(name)
	if err != nil {
		return nil, r, err
	}
	if h.Certificate == nil || r.Demands.Exportable {
		return nil, r, fault.New(fault.Refused, "there is nothing to hand over for %s", r.Title)
	}
	out, err := delivery.InMemory(ctx, e, delivery.HandoverAsk{Certificate: *h.Certificate, Receiver: r,
		To: h.Record.Sender})
	if err != nil {
		return nil, r, err
	}
	var files []delivery.File
	for _, f := range out.Files {
		files = append(files, delivery.File{Name: f.Name, Data: f.Data})
	}
	return append(files, delivery.File{Name: delivery.ReadMeFile, Data: out.Page}), r, nil
}

// String names the shape of a submission for logs: never its content.
func (s Submission) String() string { return fmt.Sprintf("a submission of %d bytes", len(s.Data)) }
