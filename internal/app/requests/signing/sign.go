// Package signing plans certificates from requests and signs them, one or many.
//
// A plan reads one snapshot of the records, so that a thousand can be made in
// parallel and all fit together. Signing is a line of workers with one writer at
// its end: signed certificates leave this package only after the transaction
// that records them is committed.
package signing

import (
	"context"
	"fmt"
	"reflect"
	"strings"
	"sync"
	"time"
	"unique"

	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
	"ironseal/pki/lifecycle"
	"ironseal/pki/receiver"
	"ironseal/pki/request"
	"ironseal/pki/san"
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
	Template *template.Template
	Issuer   *hierarchy.Generation
	Plan     *issue.Plan // nil once it is settled, see settle
	Head     journal.Head
	Replaces int64           // the record of the certificate in whose place it is; 0 for none
	Was      lifecycle.State // the state of that certificate, as the sheet knows it
	Again    bool            // the request was signed before
	For      string          // the receiver that was named; "" for none
	HandedIn *event.HandedIn // what the sender said at the desk; nil where the request came another way

	newest   int64          // the newest certificate that was on record
	together map[int64]bool // the requests that are signed by the same act

	settled settled
}

// settled is what is left of a plan that nothing refuses, where very many are made: what a combined sheet
// shows,
// and the certificate but for its signature.
type settled struct {
	found  finding.List
	marks  string
	names  int
	until  time.Time
	digest [32]byte
	part   int
	ready  issue.Prepared
}

// settle encodes what will be signed, and lets go of what it was made from. What is the same on many sheets is kept
// once.
func (s *Sheet) settle(e *estate.Estate, p *Planning) error {
	r := prepare(e, s)
	if r.Err != nil {
		return r.Err
	}
	s.settled = settled{found: p.found.same(s.Plan.Findings), marks: unique.Make(s.Marks()).Value(),
		names: len(s.Plan.Names), until: s.Plan.Draft.NotAfter, digest: s.Plan.Digest(), part: s.Plan.Part,
		ready: r.ready}
	s.Request, s.Record.DER, s.Plan = nil, nil, nil
	return nil
}

// sameFindings keeps the findings of the sheet before: most sheets of a batch have the same.
type sameFindings struct {
	mu   sync.Mutex
	last finding.List
}

func (f *sameFindings) same(list finding.List) finding.List {
	if len(list) == 0 {
		return nil
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if !reflect.DeepEqual(f.last, list) {
		f.last = list
	}
	return f.last
}

// Findings are those about the plan.
func (s *Sheet) Findings() finding.List {
	if s.Plan == nil {
		return s.settled.found
	}
	return s.Plan.Findings
}

// Marks are those of the rows that differ, each once.
func (s *Sheet) Marks() (out string) {
	if s.Plan == nil {
		return s.settled.marks
	}
	for _, r := range s.Plan.Rows {
		if mark := r.Mark(); !strings.Contains(out, mark) {
			out += mark
		}
	}
	return out
}

// Digest is the digest of all that is agreed to.
func (s *Sheet) Digest() [32]byte {
	if s.Plan == nil {
		return s.settled.digest
	}
	return s.Plan.Digest()
}

// Title is the shortest text by which a person knows the request.
func (s *Sheet) Title() string {
	if s.Request == nil {
		return s.Record.Title
	}
	return s.Request.Title()
}

// Names is how many alternative names there will be.
func (s *Sheet) Names() int {
	if s.Plan == nil {
		return s.settled.names
	}
	return len(s.Plan.Names)
}

// Until is the last moment of the certificate.
func (s *Sheet) Until() time.Time {
	if s.Plan == nil {
		return s.settled.until
	}
	return s.Plan.Draft.NotAfter
}

// Part is the part of its issuer's lists that the certificate will be on; 0: the whole.
func (s *Sheet) Part() int {
	if s.Plan == nil {
		return s.settled.part
	}
	return s.Plan.Part
}

// Planning is the snapshot of the records from which sheets are planned.
type Planning struct {
	Authorities hierarchy.Hierarchy
	asking      *sync.Mutex // records are asked by one at a time
	latest      int64       // the newest certificate on record
	head        journal.Head
	newest      time.Time
	now         time.Time
	Templates   map[string]*template.Template
	receivers   map[string]receiver.Receiver
	drafted     map[[32]byte]bool // keys that were drafted here; read once a receiver needs to know
	flaws       map[[32]byte]finding.List
	served      map[string][]store.ServingCertificate // by names that were asked for ahead
	issued      map[*hierarchy.Generation]int         // by those that sign, where lists have parts
	first       int64                                 // the lowest number of a batch of requests
	batch       int                                   // how many it has
	found       *sameFindings
}

// NewPlanning reads what plans have in common, at one moment.
func NewPlanning(ctx context.Context, e *estate.Estate) (*Planning, error) {
	p := &Planning{Templates: map[string]*template.Template{}, receivers: map[string]receiver.Receiver{},
		asking: &sync.Mutex{}, found: &sameFindings{}, served: map[string][]store.ServingCertificate{}}
	var err error
	if p.latest, err = e.Records.LatestCertificate(ctx); err != nil {
		return nil, err
	}
	if p.head, p.newest, err = e.Newest(ctx); err != nil { // before the clock: others keep recording
		return nil, err
	}
	p.now = e.Now()
	if p.Authorities, err = e.Hierarchy(ctx); err != nil {
		return nil, err
	}
	if p.flaws, err = e.Records.Flaws(ctx); err != nil {
		return nil, err
	}
	compromised, err := compromise.Keys(ctx, e.Records)
	if err != nil {
		return nil, err
	}
	for k, why := range compromised {
		p.flaws[k] = append(p.flaws[k], why)
	}
	p.issued = map[*hierarchy.Generation]int{}
	if e.NextPart(0) > 0 {
		for _, g := range estate.AllGenerations(p.Authorities) {
			if p.issued[g], err = e.Records.CountIssued(ctx, g.Name()); err != nil {
				return nil, err
			}
		}
	}
	return p, nil
}

// part is the part of its issuer's lists that a certificate will be on. In a batch it goes
// by the request's place, so that a part does not take the whole batch, and the same plan
// gives the same sheet.
func (p *Planning) part(e *estate.Estate, g *hierarchy.Generation, request int64) int {
	place := 0
	if p.batch > 0 {
		place = int(min(max(request-p.first, 0), int64(p.batch-1)))
	}
	return e.NextPart(p.issued[g] + place)
}

// Learn reads the template and the receiver that an ask names, once.
func (p *Planning) Learn(ctx context.Context, e *estate.Estate, ask SignAsk) error {
	if _, known := p.Templates[ask.Template]; !known {
		t, err := e.Template(ask.Template)
		if err != nil {
			return err
		}
		p.Templates[ask.Template] = &t
	}
	if _, known := p.receivers[ask.For]; !known && ask.For != "" {
		r, err := e.Receiver(ask.For)
		if err != nil {
			return err
		}
		p.receivers[ask.For] = r
		if r.Demands.Exportable && p.drafted == nil {
			if p.drafted, err = e.Records.DraftKeys(ctx); err != nil {
				return err
			}
		}
	}
	return nil
}

// Plan plans the signing of one request.
func Plan(ctx context.Context, e *estate.Estate, ask SignAsk) (*Sheet, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (*Sheet, error) { return planOne(ctx, e, ask) })
}

func planOne(ctx context.Context, e *estate.Estate, ask SignAsk) (*Sheet, error) {
	rec, r, err := e.Request(ctx, ask.Request)
	if err != nil {
		return nil, err
	}
	if rec.State != lifecycle.Waiting {
		return nil, fault.New(fault.Refused, "R%d is %s since %s", rec.Number, rec.State,
			rec.Decided.Format("2006-01-02")).
			On(fault.Request.Named("R%d", rec.Number)).Then(afterState(rec)...)
	}
	p, err := NewPlanning(ctx, e)
	if err != nil {
		return nil, err
	}
	if err := p.Learn(ctx, e, ask); err != nil {
		return nil, err
	}
	seen, err := e.Records.KeySeenAs(ctx, r.Key.Fingerprint())
	if err != nil {
		return nil, err
	}
	return PlanRead(ctx, e, p, ask, rec, r, seen, 0)
}

// PlanUnrecorded plans the signing of a request that is not on record yet: rec says what will be recorded of it.
func PlanUnrecorded(ctx context.Context, e *estate.Estate, ask SignAsk, rec store.Request, r *request.Request) (*Sheet,
	error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (*Sheet, error) {
		p, err := NewPlanning(ctx, e)
		if err == nil {
			err = p.Learn(ctx, e, ask)
		}
		if err != nil {
			return nil, err
		}
		seen, err := e.Records.KeySeenAs(ctx, r.Key.Fingerprint())
		if err != nil {
			return nil, err
		}
		return PlanRead(ctx, e, p, ask, rec, r, seen, 0)
	})
}

// PlanRead computes one sheet, of a certificate in place of another where replaces is not 0. Many can be
// computed at once.
func PlanRead(ctx context.Context, e *estate.Estate, p *Planning, ask SignAsk, rec store.Request, r *request.Request,
	seen []string, replaces int64) (*Sheet, error) {
	t := p.Templates[ask.Template]
	s := &Sheet{Record: rec, Request: r, Template: t, Head: p.head, For: ask.For, newest: p.latest}
	var err error
	if s.Issuer, err = chooseIssuer(p.Authorities, *t, ask.By); err != nil {
		return nil, err
	}
	part := p.part(e, s.Issuer, rec.Number)
	var beside []san.Name
	if s.HandedIn, beside, err = p.handedIn(ctx, e, rec); err != nil {
		return nil, err
	}
	plan, err := issue.New(issue.Input{Request: r, Template: *t, Issuer: s.Issuer, Others: p.Authorities,
		Amend: ask.Amend, Now: p.now, Newest: p.newest,
		BeginsBefore: e.Settings.BeginsBefore(), Rehearse: e.Rehearsal, Sender: rec.Sender, Beside: beside,
		SeenAs:    another(seen, r),
		Published: e.Published(s.Issuer, part), Part: part,
		KeyFlaws: p.flaws[r.Key.Fingerprint()]})
	if err != nil {
		return nil, err
	}
	s.Plan = &plan
	if ask.For != "" {
		s.Plan.Findings = append(s.Plan.Findings, p.unmet(p.receivers[ask.For], s)...).Ranked()
	}
	more, err := p.nameLive(ctx, e, s, replaces)
	if err != nil {
		return nil, err
	}
	if more = append(more, p.noListNamed(e, s)...); len(more) > 0 {
		s.Plan.Findings = append(s.Plan.Findings, more...).Ranked()
	}
	if s.Plan.Findings, err = s.Plan.Findings.Waive(rec.Number, ask.Waivers); err != nil {
		return nil, fmt.Errorf("R%d: %w", rec.Number, err)
	}
	return s, nil
}

// noListNamed tells, on the first sheets, that the certificate will name no list and no responder.
func (p *Planning) noListNamed(e *estate.Estate, s *Sheet) finding.List {
	const first = 20
	if p.latest > first || e.Rehearsal || s.Template.NoRevocation || s.Plan.Status {
		return nil
	}
	return finding.List{finding.New(finding.NoListNamed, "The certificate will name no revocation list.")}
}

// another is the first subject of a key that is not the request's own: the same
// subject again is a renewal.
func another(seen []string, r *request.Request) string {
	own := r.Subject.String()
	for _, s := range seen {
		if s != own {
			return s
		}
	}
	return ""
}

// unmet checks what the receiver demands against what will be signed.
func (p *Planning) unmet(r receiver.Receiver, s *Sheet) finding.List {
	o := receiver.Offer{Extended: s.Template.ExtendedUsage(), Names: s.Plan.Names, Key: s.Request.Key.Kind,
		Bits: s.Request.Key.Bits, KeyHere: p.drafted[s.Request.Key.Fingerprint()]}
	for _, g := range s.Issuer.Line() {
		o.Issuers = append(o.Issuers, g.Certificate)
	}
	return r.Unmet(o)
}

func afterState(r store.Request) advice.List {
	if r.State == lifecycle.Signed {
		return advice.List{advice.To("see its certificate", advice.ShowCertificate, "certificate", fmt.Sprintf("R%d",
			r.Number))}
	}
	if r.State == lifecycle.Sent {
		return advice.List{advice.To("import its answer", advice.ImportCertificate),
			advice.To("or the folder that brings it", advice.OpenTransfer)}
	}
	return advice.List{advice.Say("ask for a new request")}
}

// IssuerFor is the generation that would sign what an ask is about, and the template by which.
func IssuerFor(ctx context.Context, e *estate.Estate, ask SignAsk) (*hierarchy.Generation, template.Template, error) {
	t, err := e.Template(ask.Template)
	if err != nil {
		return nil, t, err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, t, err
	}
	g, err := chooseIssuer(h, t, ask.By)
	return g, t, err
}

// chooseIssuer takes the authority that was named, or the only one that signs
// by the template.
func chooseIssuer(h hierarchy.Hierarchy, t template.Template, by string) (*hierarchy.Generation, error) {
	if by != "" {
		return estate.FindGeneration(h, by)
	}
	var fit []*hierarchy.Generation
	var handles []string
	for _, a := range h {
		if g := a.Current(); a.Signs() && t.SignedBy(a.Handle, g.IsRoot()) {
			fit, handles = append(fit, g), append(handles, a.Handle)
		}
	}
	switch {
	case len(fit) == 1:
		return fit[0], nil
	case len(fit) > 1:
		return nil, fault.New(fault.Ambiguous, "template %s: more than one authority signs by it (%s)", t.Name,
			strings.Join(handles, ", ")).On(fault.Template.Named("%s", t.Name)).Then(advice.To("choose one",
			advice.SignBy))
	case len(h) == 0:
		return nil, fault.New(fault.NotFound, "there is no authority yet to sign with").Then(
			advice.To("make one", advice.CreateAuthority, "authority", "root"))
	}
	handle, under := "services", h[0].Handle
	if h.Find(handle) != nil {
		handle = "HANDLE"
	}
	for _, a := range h {
		if a.Signs() && a.Current().IsRoot() {
			under = a.Handle
			break
		}
	}
	next := advice.List{advice.To("make one", advice.CreateAuthority, "authority", handle, "parent", under),
		advice.To("or let "+under+" sign by it", advice.AllowTemplate, "template", t.Name, "authority", under)}
	if h[len(h)-1].Current() != nil && len(t.Issuers) > 0 && t.Issuers[0] != template.AnyIntermediate {
		next = advice.List{advice.To("let one of them sign by it", advice.AllowTemplate, "template", t.Name,
			"authority",
			h[len(h)-1].Handle)}
	}
	return nil, fault.New(fault.Refused, "template %s: none of the authorities signs by it (issuers: %s)", t.Name,
		strings.Join(t.Issuers, ", ")).On(fault.Template.Named("%s", t.Name)).Then(next...)
}
