// Package issue turns a request into a certificate, in two steps that are kept
// apart on purpose.
//
// Plan is pure: from a request, a template, an authority's generation, the
// amendments a person made and the time, it computes the draft of a certificate,
// the review sheet (what was asked beside what will be signed, each difference
// with its cause) and the findings. The same inputs give the same sheet and the
// same digest, so what a person agreed to can be proved to be what was signed.
//
// Sign signs a plan's draft. It refuses a plan that findings stand against, a
// key that is not the issuer's, and a result that does not verify.
//
// The digest of a sheet is SHA-256 over these parts, in order. A number is eight octets, big-endian; a text or octets
// have their length before them, as a number.
//
//	text    "ironseal sheet v2"
//	octets  the request, DER; the SHA-256 of the template's text; the issuer's certificate, DER;
//	        the issuer's name, the subject and the public key as they will be signed, DER;
//	        the certificate to be replaced, DER
//	number  the first moment, the last moment, in Unix seconds; the number of extensions
//	        for each extension: text its identifier, number 1 where it is critical, octets its value
//	number  how many findings are waived
//	        for each, in the order of the sheet: text its code, text the reason
//
// What is not there is empty. A plan can be stored with its inputs, and recomputed (Store, Recompute): another person
// then agrees to the same digest.
//
// A plan copies from a request only what the template names. Asking for more
// yields a finding, and not the thing.
package issue

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/key"
	"ironseal/pki/request"
	"ironseal/pki/san"
	"ironseal/pki/span"
	"ironseal/pki/template"
)

// Amendments are what a person changes at signing.
type Amendments struct {
	Add        []san.Name
	Drop       []san.Name
	Subject    *dn.Name // in place of the request's
	Lifetime   span.Span
	PathLength *int // for authorities
	Unlimited  bool // for authorities: no path length at all
	Permit     ext.Constraints
}

// Input is everything that a plan depends on.
type Input struct {
	Request      *request.Request // nil for an authority whose key is yet to be made
	KeyKind      key.Kind         // the kind of that key
	SameKey      *key.Public      // the key of an authority that is renewed with it, before its request is made
	KeyID        []byte           // the subject key identifier to keep; nil for the key's own
	Subject      dn.Name          // the subject of that authority
	Handle       string           // the handle of the authority that is made; "" for end entities
	Template     template.Template
	Issuer       *hierarchy.Generation // nil for a root
	Others       hierarchy.Hierarchy   // all authorities, for clashes of subject and key
	Amend        Amendments
	Now          time.Time
	Newest       time.Time // the newest record; zero if none exists
	BeginsBefore time.Duration
	Grants       span.Span        // the longest life that a new authority would grant by the templates
	Sender       string           // who sent the request
	Beside       []san.Name       // names that the sender typed beside the request
	Published    template.Publish // addresses that the certificate names, where the template has none of its own
	Part         int              // of the issuer's lists that the certificate will be on
	Upkeep       bool             // of revocation: retired authorities and those that were stopped sign this too
	Rehearse     bool             // mark what is made as made in a rehearsal
	SeenAs       string           // another subject under which the key was seen, or ""
	KeyFlaws     finding.List     // what was found out about the key when it came on record
}

// Row is one line of a review sheet.
type Row struct {
	Field  string `json:"field"`
	Asked  string `json:"asked"`
	Signed string `json:"signed"`
	Cause  string `json:"cause,omitempty"` // why the two differ
}

// Mark is how a row that differs is marked in the margin: ≠ changed, + added, − left out;
// "" where nothing does.
func (r Row) Mark() string {
	switch {
	case r.Cause == "":
		return ""
	case r.Asked == "":
		return "+"
	case r.Signed == "":
		return "−"
	}
	return "≠"
}

// Plan is what will be signed, with its findings.
type Plan struct {
	Draft    cert.Draft // without serial and, where the key is yet to be made, without key
	Rows     []Row
	Findings finding.List
	Replaces []byte // DER of the certificate in whose place it is; nil for none
	Names    []san.Name
	Grant    hierarchy.Grant
	Part     int  // of the issuer's lists that it will be on; 0: the whole
	Status   bool // it names a revocation list or an OCSP responder
	in       *Input
}

type planner struct {
	status   bool
	in       *Input
	rows     []Row
	findings finding.List
	part     int
}

// Most sheets have no more rows, and most certificates no more extensions.
const (
	usualRows       = 16
	usualExtensions = 12
)

func (p *planner) row(field, asked, signed, cause string) {
	p.rows = append(p.rows, Row{field, asked, signed, cause})
}

func (p *planner) find(code finding.Code, format string, args ...any) {
	p.findings = append(p.findings, finding.New(code, format, args...))
}

// New plans a certificate. It fails only on inputs that cannot be encoded; what
// speaks against signing is in the findings.
func New(in Input) (Plan, error) {
	p := &planner{in: &in, rows: make([]Row, 0, usualRows)}
	out := Plan{in: &in}
	p.clock()
	p.issuer()
	kind := p.key()
	subject := p.subject()
	out.Names = p.names(subject)
	out.Grant = p.life()
	d := cert.Draft{Subject: subject, NotBefore: out.Grant.NotBefore, NotAfter: out.Grant.NotAfter, Issuer: subject}
	if in.Issuer != nil {
		d.Issuer = in.Issuer.Certificate.Subject
	}
	if in.Request != nil {
		d.SPKI = in.Request.Key.Canonical() // readers refuse odd encodings
	}
	var err error
	if d.Extensions, err = p.extensions(kind, subject, out.Names); err != nil {
		return out, err
	}
	p.constraints(subject, out.Names)
	if in.Request != nil {
		p.request()
	}
	out.Part, out.Status = p.part, p.status
	out.Draft, out.Rows, out.Findings = d, p.rows, in.Template.Weigh(dedupe(p.findings)).Ranked()
	return out, nil
}

func (p *planner) clock() {
	if p.in.Now.Before(p.in.Newest.Add(-time.Second)) {
		p.find(finding.ClockBehind, "The clock says %s, and the newest record is of %s.", stamp(p.in.Now),
			stamp(p.in.Newest))
	}
}

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }

func (p *planner) issuer() {
	in, t := p.in, &p.in.Template
	p.row("template", "", t.Name+", "+strings.ToLower(t.Title), "")
	if in.Issuer == nil {
		p.row("signed by", "", "itself", "")
		if in.Handle != "" && !t.IsAuthority() {
			p.find(finding.NoAuthorityMade, "The template %s makes no authority, and %s is to be one.", t.Name,
				in.Handle)
		} else if t.Makes != template.Root {
			p.find(finding.NotListed, "The template %s makes no root; a root needs one with makes = \"root\".", t.Name)
		}
		return
	}
	a := in.Issuer
	p.row("signed by", "", a.Label()+", "+a.Certificate.Subject.String(), "")
	if in.Handle != "" && !t.IsAuthority() {
		p.find(finding.NoAuthorityMade, "The template %s makes no authority, and %s is to be one.", t.Name, in.Handle)
	}
	if a.Descends(in.Handle) {
		p.find(finding.BelowItself, "%s is below %s, or is the same authority.", a.Authority.Handle, in.Handle)
	}
	if t.Makes == template.Root {
		p.find(finding.NotListed, "The template %s makes roots, which sign themselves.", t.Name)
	} else if !t.SignedBy(a.Authority.Handle, a.IsRoot()) {
		p.findings = append(p.findings, finding.New(finding.NotListed,
			"%s may not issue from %s: its issuers are %s.",
			a.Authority.Handle, t.Name, strings.Join(t.Issuers, ", ")).
			WithNext(advice.To("sign by another authority", advice.SignBy), advice.To("or let this one sign by the "+
				"template", advice.AllowTemplate, "template", t.Name, "authority", a.Authority.Handle)))
	}
	switch {
	case !a.Authority.Retired.IsZero() && !in.Upkeep:
		p.find(finding.Retired, "%s was retired on %s.", a.Authority.Handle, a.Authority.Retired.Format("2006-01-02"))
	case a.Stopped != "" && !in.Upkeep:
		p.find(finding.Stopped, "%s grants nothing for now: %s.", a.Label(), a.Stopped)
	case a.RevokedAbove() != nil:
		up := a.RevokedAbove()
		p.find(finding.IssuerRevoked, "%s was revoked on %s.", up.Label(), up.Revoked.Format("2006-01-02"))
	case a.Authority.External():
		p.find(finding.KeyElsewhere, "The key of %s is not in this estate.", a.Authority.Handle)
	}
	c := a.Certificate
	if !c.IsAuthority() || c.HasUsage && c.Usage&ext.KeyCertSign == 0 {
		p.find(finding.IssuerNotUsable, "The certificate of %s does not allow it to sign certificates.", a.Label())
	}
}

func (p *planner) key() key.Kind {
	in := p.in
	kind, bits, words := in.KeyKind, 0, string(in.KeyKind)+", to be made"
	if in.Request != nil {
		kind, bits = in.Request.Key.Kind, in.Request.Key.Bits
		words = in.Request.Key.Words()
		p.row("key", words, words, "")
		if a := in.Others.KeyTaken(in.Request.Key); a != nil && a.Handle != in.Handle {
			p.find(finding.AuthorityKey, "The key is the key of the authority %s.", a.Handle)
		}
		if in.SeenAs != "" {
			p.find(finding.KeyReused, "The key was seen before, for %s.", in.SeenAs)
		}
	} else if in.SameKey != nil {
		kind, bits = in.SameKey.Kind, in.SameKey.Bits
		p.row("key", "", in.SameKey.Words()+", the same as before", "")
	} else {
		p.row("key", "", words, "")
		fmt.Sscanf(string(kind), "rsa-%d", &bits)
	}
	if !in.Template.TakesKey(kind, bits) {
		p.find(finding.KeyNotAllowed, "The template %s does not take a key of kind %s: it takes %s.", in.Template.Name,
			kind, strings.Join(in.Template.Keys, ", "))
	}
	server := slices.ContainsFunc(in.Template.Extended,
		func(u string) bool { return strings.EqualFold(u, "serverAuth") })
	if server && (kind == key.Ed25519 || kind == key.P521) {
		p.find(finding.RefusedByBrowsers, "Browsers refuse a server's key of kind %s.", kind)
	}
	return kind
}

// subject decides what the subject will be: what the person set, else what the
// template takes from the request, with the template's fixed fields.
func (p *planner) subject() dn.Name {
	in, t := p.in, &p.in.Template
	asked, causes := in.Subject, []string{}
	askedText := ""
	if in.Request != nil {
		asked = in.Request.Subject
		askedText = asked.String()
	}
	if in.Amend.Subject != nil {
		asked = *in.Amend.Subject
		causes = append(causes, "subject set at signing")
	}
	var left []string
	kept, err := asked.Keep(func(a dn.Attribute) bool {
		_, fixed := t.Subject.Fixed[a.Short()]
		ok := (in.Amend.Subject != nil || t.TakesField(a.Short())) && !fixed
		if !ok && !fixed {
			left = append(left, a.Short())
		}
		return ok
	})
	if err != nil {
		p.find(finding.BadField, "The subject cannot be encoded: %v.", err)
	}
	kept, faults := kept.Clean()
	for _, f := range faults {
		p.find(finding.BadField, "Left out of the subject: %s.", f)
	}
	if len(left) > 0 {
		causes = append(causes, strings.Join(left, ", ")+" not taken over by the template")
	}
	if len(t.Subject.Fixed) > 0 {
		kept = p.withFixed(kept)
		causes = append(causes, "fixed fields of the template")
	}
	signed := kept.String()
	cause := ""
	if signed != askedText && askedText != "" || len(faults) > 0 {
		cause = strings.Join(causes, "; ")
	}
	p.row("subject", askedText, signed, cause)
	p.subjectFindings(kept)
	return kept
}

func (p *planner) withFixed(kept dn.Name) dn.Name {
	var pairs []dn.Pair
	for _, short := range slices.Sorted(maps.Keys(p.in.Template.Subject.Fixed)) { // always in one order
		pairs = append(pairs, dn.Pair{Type: short, Value: p.in.Template.Subject.Fixed[short]})
	}
	slices.SortStableFunc(pairs, func(a, b dn.Pair) int { return rank(a.Type) - rank(b.Type) })
	fixed, err := dn.New(pairs...)
	if err == nil {
		fixed, err = fixed.Join(kept)
	}
	if err != nil {
		p.find(finding.BadField, "The fixed fields of the template cannot be encoded: %v.", err)
		return kept
	}
	return fixed
}

func rank(short string) int {
	i := slices.Index([]string{"C", "DC", "ST", "L", "O", "OU"}, short)
	if i < 0 {
		return 100
	}
	return i
}

func (p *planner) subjectFindings(subject dn.Name) {
	in, t := p.in, &p.in.Template
	for _, need := range t.Subject.Need {
		if subject.First(need) == "" {
			p.find(finding.SubjectMissing, "The template %s needs %s in the subject.", t.Name, need)
		}
	}
	for _, f := range request.SubjectFindings(subject) {
		if f.Code != finding.CommonNameOdd || t.Names.CommonName {
			p.findings = append(p.findings, f)
		}
	}
	if a := in.Others.SubjectTaken(subject, in.Handle); a != nil && !subject.IsEmpty() {
		p.find(finding.SubjectTaken, "The subject is that of the authority %s.", a.Handle)
	}
}

func (p *planner) life() hierarchy.Grant {
	in, t := p.in, &p.in.Template
	wanted, cause := t.Lifetime, ""
	if !in.Amend.Lifetime.IsZero() {
		wanted = in.Amend.Lifetime
		if wanted.Longer(t.Longest, in.Now) {
			p.find(finding.LifeLimited, "%s were asked for; the template %s allows %s.", wanted.Words(), t.Name,
				t.Longest.Words())
			wanted, cause = t.Longest, "cut to the template's longest lifetime"
		}
	}
	var line []*hierarchy.Generation
	if in.Issuer != nil {
		line = in.Issuer.Line()
	}
	g := hierarchy.Life(line, in.Now, in.BeginsBefore, wanted)
	switch {
	case !g.NotAfter.After(g.NotBefore) || !g.NotAfter.After(in.Now):
		p.lifeOver(g, line)
	case g.CutBy != nil:
		cause = "shortened: " + g.CutBy.Label() + " ends then"
		p.findings = append(p.findings, finding.New(finding.LifeShortened, "Shortened by %s: %s ends on %s.",
			span.Length(g.NotAfter, g.Full), g.CutBy.Label(), g.NotAfter.Format("2006-01-02")).
			WithRemedy("if the full %s are needed, renew %s first, then sign", wanted.Words(),
				g.CutBy.Authority.Handle))
	}
	if t.IsAuthority() && !in.Grants.IsZero() && twice(in.Grants).After(in.Now).After(g.NotAfter) {
		p.find(finding.NestsBadly, "It lives %s and will grant up to %s: grants begin to shrink %s from now.",
			span.Length(in.Now, g.NotAfter), in.Grants.Words(), whenShort(in, g))
	}
	p.row("from", "", stamp(g.NotBefore), "")
	asked := "" // only where it is not what will be
	if cause != "" {
		asked = wanted.Words()
		if !in.Amend.Lifetime.IsZero() {
			asked = in.Amend.Lifetime.Words()
		}
	}
	p.row("until", asked, stamp(g.NotAfter)+", "+span.Distance(in.Now, g.NotAfter), cause)
	return g
}

// lifeOver says why there is nothing to grant: an authority above has ended, or by
// this clock has not begun.
func (p *planner) lifeOver(g hierarchy.Grant, line []*hierarchy.Generation) {
	for _, a := range line {
		if begins := a.Certificate.NotBefore; begins.After(p.in.Now) {
			p.find(finding.LifeOver, "%s begins on %s, and the clock says %s: nothing can be granted before that.",
				a.Label(), stamp(begins), stamp(p.in.Now))
			return
		}
	}
	if g.CutBy == nil {
		p.find(finding.LifeOver, "The life would end on %s, before it begins.", stamp(g.NotAfter))
		return
	}
	p.find(finding.LifeOver, "%s ended on %s and can grant nothing.", g.CutBy.Label(), g.NotAfter.Format("2006-01-02"))
}

// whenShort says how long from now grants stay full.
func whenShort(in *Input, g hierarchy.Grant) string {
	day := g.NotAfter.Add(-in.Grants.After(in.Now).Sub(in.Now))
	if !day.After(in.Now) {
		return "at once, 0 days"
	}
	return span.Length(in.Now, day)
}

func twice(s span.Span) span.Span {
	return span.Span{Years: 2 * s.Years, Months: 2 * s.Months, Days: 2 * s.Days, Hours: 2 * s.Hours}
}

// request adds what the request on its own gives cause for, unless the plan has
// already dealt with it.
func (p *planner) request() {
	r := p.in.Request
	if err := r.Proven(); err != nil {
		p.find(finding.NoProof, "%v.", err)
	}
	if r.Algorithm.Weak() {
		p.find(finding.WeakHash, "The request is signed with %s.", r.Algorithm.Name)
	}
	p.findings = append(p.findings, r.Key.Weakness()...)
	if r.AsksAuthority() && !p.in.Template.IsAuthority() {
		p.find(finding.AsksAuthority, "The request asks to be an authority; the template %s makes none.",
			p.in.Template.Name)
	}
	if p.in.Handle == "" && p.in.Template.IsAuthority() && !r.AsksAuthority() {
		p.find(finding.AuthorityNotAsked, "The template %s makes an authority; the request did not ask to be one.",
			p.in.Template.Name)
	}
	p.findings = append(p.findings, p.in.KeyFlaws...)
	if t := &p.in.Template; len(t.Senders) > 0 && !slices.Contains(t.Senders, p.in.Sender) {
		p.find(finding.SenderNotListed, "The request came from %q; under the template %s only %s may submit.",
			p.in.Sender, t.Name, strings.Join(t.Senders, ", "))
	}
	if r.Challenge {
		p.find(finding.ChallengePresent, "The request carries a challenge password.")
	}
}

func dedupe(l finding.List) finding.List {
	var out finding.List
	for _, f := range l {
		if !slices.ContainsFunc(out, func(o finding.Finding) bool {
			return o.Code == f.Code &&
				o.Message == f.Message
		}) {
			out = append(out, f)
		}
	}
	return out
}
