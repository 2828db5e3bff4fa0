package transfer

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironseal/internal/app/ca/external"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/revoke/importing"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/key"
	"ironseal/pki/label"
	"ironseal/pki/path"
	"ironseal/pki/request"
)

// Opened is what a transfer folder brought.
type Opened struct {
	Errand   Folder
	Code     string
	Received []intake.Received // requests imported
	Answers  []Taken           // certificates imported
	Lists    importing.Taken   // revocation lists imported
	Faults   []error
	Approved []Voucher // who approved it over there
	Head     journal.Head
}

// Taken is one answer of a transfer.
type Taken struct {
	File string
	For  string // the request or the authority that it answers
	// Known says that it was imported before.
	Known bool
	Err   error
}

// OpenFolder imports a transfer folder that was read and verified. A folder is
// imported once; one of which something could not be imported may come again.
func OpenFolder(ctx context.Context, e *estate.Estate, c Carried, anchors []*cert.Certificate) (Opened, error) {
	m := c.Errand
	out := Opened{Errand: m, Code: c.Code}
	var err error
	if out.Approved, err = Vouchers(ctx, e, c); err != nil {
		return out, err
	}
	if err := enough(e, c, out.Approved); err != nil {
		return out, err
	}
	carry := func(what string) error {
		_, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
			return []event.Record{event.On("transfer", event.TransferOpened{ID: m.ID, Kind: m.Kind, From: m.From,
				CheckCode: c.Code, What: &what, Approved: known(out.Approved)})}, tx.AddTransfer(m.ID, what)
		})
		if err != nil {
			return fmt.Errorf("transfer %s: %w", c.Dir, err)
		}
		return nil
	}
	known, err := e.Records.Transfer(ctx, m.ID)
	if err != nil {
		return out, err
	}
	if known != "" {
		return out, fmt.Errorf("transfer %s: this folder was imported already", c.Dir)
	}
	if !slices.Contains(e.TemplateNames(), m.Template) {
		out.Errand.Template = "" // what the sender calls a template means nothing here, and is not put into a command
	}
	if m.Kind == RequestsFolder {
		var inputs []intake.Input
		for _, f := range m.Files {
			if f.Name != PageFile {
				inputs = append(inputs, intake.Input{Name: f.Name, Data: c.Content[f.Name]})
			}
		}
		out.Received, out.Head, out.Faults = intake.Receive(ctx, e, inputs, sender(m, out.Approved))
		var numbers []string
		for _, r := range out.Received {
			numbers = append(numbers, fmt.Sprintf("R%d", r.Record.Number))
		}
		if len(out.Received) == 0 && len(out.Faults) > 0 {
			return out, nil // nothing was imported: it may be tried again
		}
		return out, carry(strings.Join(numbers, " "))
	}
	if err := takeAnswers(ctx, e, &out, c.Content, anchors); err != nil {
		return out, err
	}
	if slices.ContainsFunc(out.Answers, func(t Taken) bool { return t.Err != nil }) {
		return out, nil // what failed may be tried again; what was imported is known then
	}
	return out, carry(m.Answers)
}

// sender is how lists and sheets name where a request came from: with those who approved it and are known here.
func sender(m Folder, approved []Voucher) string {
	if who := known(approved); len(who) > 0 {
		return SenderPrefix + m.From + ", approved by " + strings.Join(who, ", ")
	}
	return SenderPrefix + m.From
}

func takeAnswers(ctx context.Context, e *estate.Estate, out *Opened, content map[string][]byte,
	anchors []*cert.Certificate) error {
	open, err := e.Records.Applications(ctx)
	if err != nil {
		return err
	}
	var lists [][]byte
	for _, f := range out.Errand.Files {
		if strings.HasSuffix(f.Name, ".crl") && f.Code == "" {
			lists = append(lists, content[f.Name])
		}
		if f.Name == PageFile || f.Code == "" {
			continue
		}
		list, err := CertificatesIn(f.Name, content[f.Name])
		if err != nil {
			return err
		}
		out.Answers = append(out.Answers, takeAnswer(ctx, e, f, list, anchors, open, out))
	}
	out.Lists, err = importing.Carried(ctx, e, lists) // after the authorities that sign them
	return err
}

func takeAnswer(ctx context.Context, e *estate.Estate, f FolderFile, list, anchors []*cert.Certificate,
	open []store.Application, out *Opened) Taken {
	t := Taken{File: f.Name}
	if app := applicationFor(open, list); app != nil {
		t.For = app.Handle
		a, err := external.MatchAuthority(ctx, e, app.Handle, append(list, anchors...), anchors, nil)
		if err == nil {
			_, out.Head, err = external.AcceptAuthority(ctx, e, a)
		}
		t.Err = err
		return t
	}
	a, err := external.MatchAnswer(ctx, e, external.AnswerAsk{List: list, Anchors: anchors})
	if err == nil {
		t.For = a.About()
		out.Head, err = external.Accept(ctx, e, a)
	}
	if errors.Is(err, external.ErrKnown) { // it was imported when the folder came before
		t.For, t.Known, err = path.LeafOf(list).Title(), true, nil
	}
	t.Err = err
	return t
}

func applicationFor(open []store.Application, list []*cert.Certificate) *store.Application {
	for i, a := range open {
		r, err := request.Read(a.DER)
		if err != nil {
			continue
		}
		for _, c := range list {
			if key.Same(c.Key, r.Key) {
				return &open[i]
			}
		}
	}
	return nil
}

// CertificatesIn reads the certificates of a file's content.
func CertificatesIn(name string, data []byte) ([]*cert.Certificate, error) {
	c, err := bundle.Read(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	var out []*cert.Certificate
	for _, o := range c.Of(bundle.Certificate) {
		x, err := cert.Read(o.DER)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		out = append(out, x)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s: there is no certificate in it", name)
	}
	return out, nil
}

// PackAnswers packs the certificates that were signed for the requests of a
// transfer folder.
func PackAnswers(ctx context.Context, e *estate.Estate, from, dir string) (Folder, string, []string, error) {
	var out Folder
	brought, err := ReadFolder(from)
	if err != nil {
		return out, "", nil, err
	}
	asked := brought.Errand
	if asked.Kind != RequestsFolder {
		return out, "", nil, fmt.Errorf("transfer %s: it brought certificates, and asks for no answer", from)
	}
	what, err := e.Records.Transfer(ctx, asked.ID)
	if err != nil {
		return out, "", nil, err
	}
	if what == "" {
		return out, "", nil, fault.New(fault.NotFound, "transfer %s: it was not imported here",
			from).On(fault.File.Named("%s", from)).
			Then(advice.To("import it", advice.OpenTransfer, "folder", from))
	}
	var files []delivery.File
	var left []string
	for _, name := range strings.Fields(what) {
		h, _, err := e.FindCertificate(ctx, name)
		if err != nil {
			left = append(left, err.Error())
			continue
		}
		f, err := delivery.Export(ctx, e, h, "pem",
			delivery.WithAll) // with the links: clients over there may hold only an older root
		if err != nil {
			return out, "", nil, err
		}
		f.Name = label.FileName(name + "." + f.Name)
		files = append(files, f)
		out.Files = append(out.Files, FolderFile{Name: f.Name, Code: label.CheckCode(h.Raw), Title: h.Title()})
	}
	if len(files) == 0 {
		return out, "", left, fmt.Errorf("transfer %s: none of its requests is signed yet: %s", from,
			strings.Join(left, "; "))
	}
	if files, err = addLists(ctx, e, &out, files); err != nil {
		return out, "", left, err
	}
	out.Kind, out.Answers = AnswersFolder, asked.ID
	code, err := writeErrand(ctx, e, dir, &out, files, nil, func(store.Tx) error { return nil })
	return out, code, left, err
}
