// Package endpoint judges what a live endpoint presents: exactly as verify judges a file, by
// the name that people use, and then further, since someone has to put it right. The same
// refusal has many causes, and clients tell most of them with the same words: here each has
// its own, with what to do.
package endpoint

import (
	"bytes"
	"slices"
	"strings"
	"time"

	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/lifecycle"
	"ironseal/pki/path"
	"ironseal/pki/san"
)

// Seen is what an endpoint did.
type Seen struct {
	Name       string              // the name that people use
	Presented  []*cert.Certificate // the leaf first, as far as it can be read
	Unreadable []error             // of each that cannot
	Proven     bool                // whether it has the private key
	Failed     string              // why the connection came to no end; "" where it did
	Protocol   string              // such as TLS 1.3
	OldOnly    bool                // it speaks nothing newer than TLS 1.1
	Weak       string              // the suite that it chose, where it is a weak one
	WeakOnly   bool                // no client of today offers what it insists on
	Declines   string              // why it answers and does not continue to TLS; "" where it does
	Differs    bool                // who does not name the host gets another certificate
	Asks       bool                // for a client's certificate
	Accepts    []string            // from these authorities
	Given      bool                // a client's certificate was given
}

// Known is what the records say.
type Known struct {
	State   lifecycle.State     // of the leaf, where it is on record: valid, replaced, revoked …
	Unread  string              // why the records could not be read; "" where they could
	Title   string              // how the leaf on record is named there: its request or serial
	Newest  *cert.Certificate   // the newest that was issued for the name, where it is another
	Issuers []Issuer            // authorities that may stand in the middle
	Roots   []*cert.Certificate // every root that is known, in the set or not
}

// Issuer is an authority that is known, and how to get its certificate.
type Issuer struct {
	*cert.Certificate
	Get advice.Step // exports its certificate
}

// Question is what an endpoint is judged by.
type Question struct {
	path.Question
	Set string // what the anchors are called
}

// Judgement is what clients would think of what the endpoint presents.
type Judgement struct {
	Trusted  bool
	Anchor   *cert.Certificate // on which it hangs; nil where it depends on none
	Until    time.Time         // the first end in the chain; zero where nothing is presented
	Verdict  path.Verdict
	Findings finding.List // what refuses first, and what to do
}

// Judge answers.
func Judge(s Seen, q Question, k Known) Judgement {
	out := Judgement{}
	q.Name = s.Name
	if len(s.Presented) > 0 && len(s.Unreadable) == 0 || len(s.Presented) > 0 && s.Proven {
		out.Verdict = path.Verify(s.Presented[0], s.Presented[1:], q.Question)
		out.chain(s, q, k)
	}
	out.faults(s)
	out.connection(s)
	if len(s.Presented) > 0 {
		out.onRecord(s.Presented[0], s, k)
	}
	out.Findings = out.Findings.Ranked()
	out.Trusted = out.Verdict.Valid && s.Proven && len(out.Findings.Refusing()) == 0
	return out
}

// chain says what is wrong with what was presented.
func (j *Judgement) chain(s Seen, q Question, k Known) {
	leaf := s.Presented[0]
	for _, st := range j.Verdict.Steps {
		if c := st.Certificate; j.Until.IsZero() || c.NotAfter.Before(j.Until) {
			j.Until = c.NotAfter
		}
		if st.Role == path.Anchor {
			j.Anchor = st.Certificate
		}
	}
	if j.Until.IsZero() {
		j.Until = leaf.NotAfter
	}
	reasons := j.Verdict.Reasons()
	broken := slices.IndexFunc(reasons, func(f finding.Finding) bool {
		return f.Code == finding.MissingIssuer || f.Code == finding.UnknownAnchor || f.Code == finding.BadSignature
	})
	if broken >= 0 {
		reasons[broken] = explain(s, q, k, reasons[broken])
		if self := reasons[broken]; self.Code == finding.SelfMade {
			reasons = finding.List{self} // what else is wrong with it goes with it
		}
	}
	for i, f := range reasons {
		if f.Code == finding.WrongName && addressAsName(leaf, s.Name) {
			reasons[i] = finding.New(finding.WrongName, "It has %s as a DNS name, and clients that connect to an "+
				"address look for a name of the kind IP.", s.Name).WithNext(advice.To("have it signed again with the "+
				"address as one", advice.Sign, "name", "ip:"+s.Name))
		}
		if f.Code == finding.NotYetValid && k.Title != "" {
			reasons[i] = f.WithRemedy("it was signed here, so it is the clock of this machine that is behind: set it")
		}
	}
	j.Findings = append(j.Findings, reasons...)
	j.Findings = append(j.Findings, path.OrderFindings(s.Presented)...)
}

// addressAsName reports whether a certificate has an address as a DNS name.
func addressAsName(leaf *cert.Certificate, name string) bool {
	return slices.ContainsFunc(leaf.Names, func(n san.Name) bool { return n.IsAddress() && n.Value() == name })
}

// faults says what is malformed in what was presented, where the verdict has not said it.
func (j *Judgement) faults(s Seen) {
	if j.Findings.Has(finding.Malformed) || j.Findings.Has(finding.Broken) {
		return
	}
	for _, c := range s.Presented {
		if wrong := slices.Concat(c.Faults, c.Broken); len(wrong) > 0 {
			j.Findings = append(j.Findings, finding.New(finding.Malformed, "%s: %s.", c.Title(), strings.Join(wrong,
				"; ")))
		}
	}
}

// explain says why a chain does not reach an anchor: clients say the same of all of these.
func explain(s Seen, q Question, k Known, f finding.Finding) finding.Finding {
	leaf := s.Presented[0]
	if leaf.SelfSigned() {
		f := finding.New(finding.SelfMade, "%s still serves a self-signed certificate, its own or its factory's.",
			leaf.Title())
		if n := k.Newest; n != nil {
			f = f.WithNext(advice.To("import what was signed for it, serial "+n.Serial.Short(), advice.HandOver,
				"certificate", n.Serial.Short()))
		}
		return f
	}
	if f, ok := otherGeneration(s, k); ok {
		return f
	}
	q.Name, q.Usage = "", nil
	pool := slices.Clone(s.Presented[1:])
	for _, i := range k.Issuers {
		pool = append(pool, i.Certificate)
	}
	if v := path.Verify(leaf, pool, q.Question); reaches(v) {
		missing, get := skipped(v, s.Presented, k.Issuers)
		if len(missing) > 0 {
			return withWords(finding.New(finding.MissingIssuer,
				"It does not send %s, which is between its certificate and the root.", strings.Join(missing,
					" and ")),
				"add it to its chain file", get)
		}
	}
	q.Anchors = k.Roots
	if v := path.Verify(leaf, pool, q.Question); reaches(v) {
		root := v.Steps[len(v.Steps)-1].Certificate
		return finding.New(finding.UnknownAnchor, "It depends on %s, which is not in the trust set %s.", root.Title(),
			q.Set).
			WithNext(advice.To("look whether it should be", advice.ShowSet, "set", q.Set))
	}
	return foreign(s, q, f)
}

// otherGeneration tells of an authority's certificate that is sent with another key than the one that signed
// the certificate before it.
func otherGeneration(s Seen, k Known) (finding.Finding, bool) {
	for i, c := range s.Presented[:len(s.Presented)-1] {
		next := s.Presented[i+1]
		if !c.Issuer.Equal(next.Subject) || c.VerifiedBy(next.Key) == nil {
			continue
		}
		f := finding.New(finding.BadSignature, "It sends %s with another key than the one that signed %s: it is "+
			"another generation of that authority.", next.Title(), c.Title())
		for _, i := range k.Issuers {
			if c.Issuer.Equal(i.Subject) && c.VerifiedBy(i.Key) == nil {
				return withWords(f, "put the one that signed it into its chain file", i.Get), true
			}
		}
		return f.WithRemedy("put the one that signed it into its chain file"), true
	}
	return finding.Finding{}, false
}

// foreign says of a chain that reaches no root that is known what its last certificate tells.
func foreign(s Seen, q Question, f finding.Finding) finding.Finding {
	last := s.Presented[len(s.Presented)-1]
	if f.Code == finding.MissingIssuer && len(s.Presented) > 1 && last.IsAuthority() && !last.SelfIssued() {
		return finding.New(finding.UnknownAnchor, "It leads to %s, which is not in the trust set %s.", last.Issuer,
			q.Set).WithNext(advice.To("look whether it should be", advice.ShowSet, "set", q.Set))
	}
	if f.Code == finding.MissingIssuer {
		return f.WithRemedy("add the certificate of its issuer to the server's chain file")
	}
	return f
}

// reaches reports whether a chain ends at an anchor, whatever else is wrong with it.
func reaches(v path.Verdict) bool {
	return len(v.Steps) > 0 && v.Steps[len(v.Steps)-1].Role == path.Anchor
}

// skipped names the certificates of a chain that were not presented, and how to get the first.
func skipped(v path.Verdict, presented []*cert.Certificate, known []Issuer) (titles []string, get advice.Step) {
	for _, st := range v.Steps[:len(v.Steps)-1] {
		if slices.ContainsFunc(presented, same(st.Certificate)) {
			continue
		}
		titles = append(titles, st.Certificate.Title())
		at := slices.IndexFunc(known, func(i Issuer) bool { return same(st.Certificate)(i.Certificate) })
		if at >= 0 && get.IsZero() {
			get = known[at].Get
		}
	}
	return titles, get
}

func same(c *cert.Certificate) func(*cert.Certificate) bool {
	return func(x *cert.Certificate) bool { return bytes.Equal(c.Raw, x.Raw) }
}

// connection says what is wrong with how it speaks.
func (j *Judgement) connection(s Seen) {
	add := func(code finding.Code, format string, args ...any) {
		j.Findings = append(j.Findings, finding.New(code, format, args...))
	}
	for _, err := range s.Unreadable {
		add(finding.Malformed, "It presents something that cannot be read as a certificate: %v.", err)
	}
	switch {
	case s.OldOnly:
		add(finding.OldProtocol, "It speaks nothing newer than %s.", s.Protocol)
	case s.WeakOnly:
		add(finding.DeadSuite, "It speaks no suite that clients of today offer: it insists on %s.", s.Weak)
	case s.Weak != "":
		add(finding.WeakSuite, "It chose %s, although newer suites were offered.", s.Weak)
	}
	switch {
	case s.Failed != "" && s.Asks && s.Given:
		add(finding.ClientWanted, "It refuses the client's certificate: %s. It accepts certificates%s.", s.Failed,
			orAny(s.Accepts))
	case s.Failed != "" && s.Asks && s.Proven, s.Asks && s.Failed != "" && len(s.Presented) > 0:
		add(finding.ClientWanted, "It wants a client's certificate%s: %s.", from(s.Accepts), s.Failed)
	case s.Failed != "" && len(s.Presented)+len(s.Unreadable) > 0:
		add(finding.HandshakeFailed, "The handshake does not come to its end: %s.", s.Failed)
	case s.Declines != "":
		add(finding.NoTLS, "It answers and does not start TLS: %s.", s.Declines)
	case s.Failed != "":
		add(finding.NoAnswer, "%s.", upper(s.Failed))
	case s.Asks && !s.Given:
		add(finding.ClientAsked, "It asks for a client's certificate%s, and continues without one.", from(s.Accepts))
	}
	if s.Differs {
		add(finding.NamelessDiffers, "Clients that do not name the host get another certificate.")
	}
}

func orAny(authorities []string) string {
	if len(authorities) == 0 {
		return ", and does not say from whom"
	}
	return from(authorities)
}

func from(authorities []string) string {
	if len(authorities) == 0 {
		return ""
	}
	more := ""
	if len(authorities) > 3 {
		authorities, more = authorities[:3], " and others"
	}
	return " from " + strings.Join(authorities, " or ") + more
}

func upper(s string) string { return strings.ToUpper(s[:min(1, len(s))]) + s[min(1, len(s)):] }

// onRecord says what the records know.
func (j *Judgement) onRecord(leaf *cert.Certificate, s Seen, k Known) {
	if leaf.SelfSigned() && j.Anchor == nil {
		return // the device's own is reported as that
	}
	if k.Unread != "" {
		j.Findings = append(j.Findings, finding.New(finding.StatusUnknown, "Whether %s stands is not known: the "+
			"records cannot be read: %s.", leaf.Title(), k.Unread).WithNext(advice.To("look what is wrong",
			advice.CheckEstate)))
	}
	switch {
	case k.State.Rejected():
		j.Findings = append(j.Findings, finding.New(finding.ServedRevoked, "%s is on record as %s.", k.Title, k.State))
	case k.State == lifecycle.Replaced && k.Newest != nil, k.Newest != nil && k.Newest.NotBefore.After(leaf.NotBefore):
		f := finding.New(finding.ServedOlder,
			"It serves serial %s, until %s; the newest for %s is serial %s, until %s.",
			leaf.Serial.Short(), day(leaf.NotAfter), s.Name, k.Newest.Serial.Short(), day(k.Newest.NotAfter))
		j.Findings = append(j.Findings, f)
	case k.State == lifecycle.Replaced:
		j.Findings = append(j.Findings, finding.New(finding.ServedOlder, "It serves %s, which was replaced.", k.Title))
	case k.State == lifecycle.Prepared:
		j.Findings = append(j.Findings, finding.New(finding.ServedOlder,
			"It serves %s, which waits for its switch day.", k.Title))
	}
}

func day(t time.Time) string { return t.Format("2006-01-02") }

// withWords replaces the remedy of a finding by a step with words of its own.
func withWords(f finding.Finding, words string, step advice.Step) finding.Finding {
	step.Words = words
	return f.WithNext(step)
}
