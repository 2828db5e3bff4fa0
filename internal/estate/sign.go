package estate

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"ironseal/internal/custody"
	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/handover"
	"ironseal/pki/hierarchy"
	"ironseal/pki/issue"
	"ironseal/pki/request"
	"ironseal/pki/template"
)

// SignAsk is what a person asks for when signing a request.
type SignAsk struct {
	Request  string // "R7"
	Template string
	By       string // a handle; "" when only one authority signs by the template
	For      string // a receiver whose demands are checked; "" for none
	Amend    issue.Amendments
	Waivers  []finding.Waiver
}

// Sheet is a review sheet: what will be signed, ready to be agreed to.
type Sheet struct {
	Record   store.Request
	Request  *request.Request
	Template template.Template
	Issuer   *hierarchy.Generation
	Plan     issue.Plan
	Head     store.Head
}

// PlanSign plans the signing of one request.
func (e *Estate) PlanSign(ctx context.Context, ask SignAsk) (*Sheet, error) {
	rec, r, err := e.Request(ctx, ask.Request)
	if err != nil {
		return nil, err
	}
	if rec.State != store.Waiting {
		return nil, fmt.Errorf("R%d is %s since %s: %s", rec.Number, rec.State, rec.Decided.Format("2006-01-02"), afterState(rec))
	}
	t, err := e.Template(ask.Template)
	if err != nil {
		return nil, err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	s := &Sheet{Record: rec, Request: r, Template: t}
	if s.Issuer, err = chooseIssuer(h, t, ask.By); err != nil {
		return nil, err
	}
	in := issue.Input{Request: r, Template: t, Issuer: s.Issuer, Others: h, Amend: ask.Amend, Now: e.Now(), Backdate: e.Settings.backdate(), Sender: rec.Sender}
	if s.Head, in.Newest, err = e.records.Newest(ctx); err != nil {
		return nil, err
	}
	if in.SeenAs, err = e.records.KeySeenAs(ctx, r.Key.Fingerprint(), r.Subject.String()); err != nil {
		return nil, err
	}
	if s.Plan, err = issue.New(in); err != nil {
		return nil, err
	}
	if ask.For != "" {
		unmet, err := e.unmet(ask.For, s)
		if err != nil {
			return nil, err
		}
		s.Plan.Findings = append(s.Plan.Findings, unmet...).Ranked()
	}
	if s.Plan.Findings, err = s.Plan.Findings.Waive(rec.Number, ask.Waivers); err != nil {
		return nil, fmt.Errorf("R%d: %w", rec.Number, err)
	}
	return s, nil
}

// unmet checks what the receiver demands against what will be signed.
func (e *Estate) unmet(receiver string, s *Sheet) (finding.List, error) {
	r, err := e.Receiver(receiver)
	if err != nil {
		return nil, err
	}
	o := handover.Offer{Extended: s.Template.ExtendedUsage(), Names: s.Plan.Names, Key: s.Request.Key.Kind, Bits: s.Request.Key.Bits}
	for _, g := range s.Issuer.Line() {
		o.Issuers = append(o.Issuers, g.Certificate)
	}
	return r.Unmet(o), nil
}

func afterState(r store.Request) string {
	if r.State == store.Signed {
		return fmt.Sprintf("see its certificate with: ironseal certificate show R%d", r.Number)
	}
	return "ask for a new request"
}

// chooseIssuer takes the authority that was named, or the only one that signs
// by the template.
func chooseIssuer(h hierarchy.Hierarchy, t template.Template, by string) (*hierarchy.Generation, error) {
	if by != "" {
		return findGeneration(h, by)
	}
	var fit []*hierarchy.Generation
	var handles []string
	for _, a := range h {
		if g := a.Current(); g != nil && t.SignedBy(a.Handle, g.IsRoot()) {
			fit, handles = append(fit, g), append(handles, a.Handle)
		}
	}
	switch {
	case len(fit) == 1:
		return fit[0], nil
	case len(fit) > 1:
		return nil, fmt.Errorf("template %s: more than one authority signs by it (%s): choose one with --by", t.Name, strings.Join(handles, ", "))
	case len(h) == 0:
		return nil, errors.New("there is no authority yet to sign with: make one with: ironseal authority create root")
	}
	next := "make one with: ironseal authority create services --under " + h[0].Handle
	if h[len(h)-1].Current() != nil && len(t.Issuers) > 0 && t.Issuers[0] != template.AnyIntermediate {
		next = fmt.Sprintf("change issuers in templates/%s.toml", t.Name)
	}
	return nil, fmt.Errorf("template %s: none of the authorities signs by it (issuers: %s): %s", t.Name, strings.Join(t.Issuers, ", "), next)
}

// SignResult is what became of one sheet.
type SignResult struct {
	Sheet       *Sheet
	Certificate *cert.Certificate
	Head        store.Head
	Err         error
}

// Sign signs sheets that a person agreed to. Each is recorded by itself before
// it is told; the key of an authority is opened once. tell is called for each as
// soon as it is done; a failure of one does not keep the others back.
func (e *Estate) Sign(ctx context.Context, sheets []*Sheet, tell func(SignResult)) error {
	if err := e.world.Step(StepPlanned); err != nil {
		return err
	}
	opened := map[string]*custody.Opened{}
	defer func() {
		for _, o := range opened {
			o.Close()
		}
	}()
	for _, s := range sheets {
		if err := context.Cause(ctx); err != nil {
			return fmt.Errorf("stopped before R%d: %w", s.Record.Number, err)
		}
		label := s.Issuer.Label()
		if opened[label] == nil {
			if r := s.Plan.Findings.Refusing(); len(r) > 0 {
				tell(SignResult{Sheet: s, Err: &issue.Refused{About: fmt.Sprintf("R%d", s.Record.Number), Findings: r}})
				continue
			}
			o, err := e.custody.Open(ctx, s.Issuer.Certificate.Key, s.Issuer.Authority.Handle, custody.ForCertificate)
			if err != nil {
				return err
			}
			opened[label] = o
		}
		if err := e.world.Step(StepOpened); err != nil {
			return err
		}
		tell(e.signOne(ctx, s, opened[label]))
	}
	return nil
}

func (e *Estate) signOne(ctx context.Context, s *Sheet, signer *custody.Opened) SignResult {
	out := SignResult{Sheet: s}
	serial, err := issue.Serial(e.world.Random)
	if err != nil {
		out.Err = err
		return out
	}
	c, err := issue.Seal(s.Plan, serial, signer, e.world.Random)
	if err == nil {
		err = e.world.Step(StepSealed)
	}
	if err != nil {
		out.Err = fmt.Errorf("R%d: %w", s.Record.Number, err)
		return out
	}
	out.Head, err = e.act(ctx, func(tx *store.Tx) ([]store.Entry, error) { return e.recordSigned(tx, s, c) })
	if err == nil {
		err = e.world.Step(StepRecorded)
	}
	if err != nil {
		out.Err = fmt.Errorf("R%d: nothing was signed: %w", s.Record.Number, err)
		return out
	}
	out.Certificate = c
	return out
}

func (e *Estate) recordSigned(tx *store.Tx, s *Sheet, c *cert.Certificate) ([]store.Entry, error) {
	if err := tx.Decide(s.Record.Number, store.Signed, "", e.world.Now()); err != nil {
		return nil, fmt.Errorf("the record changed while the sheet was on screen: %w", err)
	}
	if err := e.unchanged(s.Template); err != nil {
		return nil, err
	}
	issuer, err := tx.GenerationID(s.Issuer)
	if err != nil {
		return nil, fmt.Errorf("the record changed while the sheet was on screen: %w", err)
	}
	if _, err := tx.AddCertificate(store.NewCertificate{Certificate: c, Issuer: issuer, Request: s.Record.Number, TemplateName: s.Template.Name,
		TemplateSHA: s.Template.SHA256(), TemplateSource: s.Template.Source(), Sheet: s.Plan.Digest, Waived: waived(s.Plan.Findings), Actor: e.world.Actor}); err != nil {
		return nil, err
	}
	sum := c.SHA256()
	return []store.Entry{entry("sign", fmt.Sprintf("R%d", s.Record.Number), "certificate", fmt.Sprintf("%x", sum), "serial", c.SerialHex(), "title", c.Title(),
		"by", fmt.Sprintf("%s.g%d", s.Issuer.Authority.Handle, s.Issuer.Number), "template", s.Template.Name, "until", c.NotAfter.Format(time.RFC3339),
		"sheet", fmt.Sprintf("%x", s.Plan.Digest), "waived", waivedCodes(s.Plan.Findings))}, nil
}

// Fit says how a template suits a request.
type Fit struct {
	Template string `json:"template"`
	Title    string `json:"title"`
	By       string `json:"by,omitempty"`
	Fits     bool   `json:"fits"`
	Reason   string `json:"reason"`
}

// Fitting ranks the templates that make end entities by how they suit a
// request: first those that nothing speaks against.
func (e *Estate) Fitting(ctx context.Context, ask SignAsk) ([]Fit, error) {
	if _, _, err := e.Request(ctx, ask.Request); err != nil {
		return nil, err
	}
	list, faults := e.Templates()
	var good, bad []Fit
	for _, t := range list {
		if t.IsAuthority() {
			continue
		}
		f := Fit{Template: t.Name, Title: t.Title}
		ask.Template, ask.Waivers = t.Name, nil
		s, err := e.PlanSign(ctx, ask)
		if err != nil {
			f.Reason = err.Error()
			bad = append(bad, f)
			continue
		}
		f.By = s.Issuer.Authority.Handle
		if r := s.Plan.Findings.Refusing(); len(r) > 0 {
			f.Reason = r[0].Message
			bad = append(bad, f)
			continue
		}
		f.Fits, f.Reason = true, t.Purpose
		if usage := lacking(s.Plan.Findings); usage != "" {
			f.Reason = usage
			good = append(good, f)
			continue
		}
		good = append([]Fit{f}, good...)
	}
	for _, err := range faults {
		bad = append(bad, Fit{Reason: err.Error()})
	}
	return append(good, bad...), nil
}

func lacking(l finding.List) string {
	for _, f := range l {
		if f.Code == finding.AsksUsage {
			return f.Message
		}
	}
	return ""
}
