// Package status judges whether certificates still stand: whether a list or an OCSP
// answer says that one was revoked (RFC 5280 section 6.3, RFC 6960 section 3.2).
//
// The evidence is whatever a client was given: lists, answers, certificates of those who
// signed them. Every piece is examined first: is it about this certificate, of the right
// authority, signed by a key that may, fresh? Only then is it asked. What was not believed is
// kept with the reason, so that "unknown" can be explained.
//
// A certificate is revoked when any piece that is believed says so; it is good when lists for
// every reason, or an answer, say that it is not.
package status

import (
	"fmt"
	"math/big"
	"slices"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/distpoint"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/key"
	"ironseal/pki/ocsp"
	"ironseal/pki/path"
	"ironseal/pki/revocation"
	"ironseal/pki/span"
)

// State is a certificate's revocation status.
type State string

// States.
const (
	Good      State = "good"
	Revoked   State = "revoked"
	OnHold    State = "on hold"
	Unknown   State = "unknown"
	NotNeeded State = "not needed" // it says that no status exists (RFC 9608, RFC 6960 section 4.2.2.2.1)
)

// Status is what the evidence tells of one certificate.
type Status struct {
	State    State
	Reason   revocation.Reason
	At       time.Time // when it was revoked
	By       string    // the piece that decided, in words
	Until    time.Time // how long that piece is fresh; zero where it does not say
	Rejected []string  // why other pieces were not believed

	circular bool // its own status is being judged already: only lists may rest on that
}

// Evidence is what a client has available.
type Evidence struct {
	Lists   []*revocation.List
	Answers []*ocsp.Response
	Signers []*cert.Certificate // who may have signed lists and answers, besides those of the chain
	Late    time.Duration       // by how much clocks may differ
}

// ClocksDiffer is by how much the clock of whoever signed may be ahead of ours, and for answers
// behind: what was signed while a question was asked is dated after it. Neither RFC 5280 nor
// RFC 6960 names a figure; five minutes is our choice.
const ClocksDiffer = 5 * time.Minute

// OldestAnswer is how old an OCSP answer may be that does not say when the next one is there. By
// RFC 6960 section 4.2.2.1 its responder has newer information at any time, so it tells of the
// moment at which it was given. The hour is our choice.
const OldestAnswer = time.Hour

// Judge judges by evidence. It is for one run and one goroutine.
type Judge struct {
	Evidence
	Require bool // a certificate of unknown status is refused
	q       path.Question
	busy    map[[32]byte]bool
	trusted map[trustedKey]string
	said    map[saidKey]Status
	signed  map[signedKey]bool
	scopes  map[*revocation.List]distpoint.Names // what lists are about
}

type signedKey struct {
	list *revocation.List
	by   [32]byte
}

type saidKey struct {
	certificate, issuer, anchor [32]byte
}

type trustedKey struct {
	signer, anchor, issuer [32]byte
}

// MostChecks bounds the signatures of lists that are checked for one question.
const MostChecks = 2_000

// mostDepth bounds how far the signers of lists are themselves judged by lists.
const mostDepth = 4

// New makes a judge for a question about chains. It sorts the lists once, the newest first.
// The number of a list says which of two is newer (RFC 5280 section 5.2.3). The date does not:
// a list that was signed ahead has a later date than an urgent one that was signed after it.
func New(e Evidence, q path.Question, require bool) *Judge {
	e.Lists = slices.Clone(e.Lists)
	slices.SortStableFunc(e.Lists, func(a, b *revocation.List) int {
		if c := numberOf(b).Cmp(numberOf(a)); c != 0 {
			return c
		}
		return b.ThisUpdate.Compare(a.ThisUpdate)
	})
	return &Judge{Evidence: e, Require: require, q: q, busy: map[[32]byte]bool{}, trusted: map[trustedKey]string{},
		said: map[saidKey]Status{}, signed: map[signedKey]bool{}, scopes: map[*revocation.List]distpoint.Names{}}
}

// numberOf is the number of a list. A list without one counts as the oldest.
func numberOf(l *revocation.List) *big.Int {
	if l.Number == nil {
		return big.NewInt(-1)
	}
	return l.Number
}

// Ask says what speaks against the first certificate of a line, the anchor being its last, and
// what tells; path.Question calls it for every certificate of a chain.
func (j *Judge) Ask(line []*cert.Certificate) (finding.List, string) {
	s := j.Of(line)
	return j.findings(line, s), s.Words(j.q.Now)
}

// Words says what tells of a certificate, and how fresh that is.
func (s Status) Words(now time.Time) string {
	switch {
	case s.State == Unknown:
		return "whether it was revoked is not known"
	case s.State == NotNeeded:
		return "it says itself that no revocation information exists"
	case s.Until.IsZero():
		return string(s.State) + ", by " + s.By
	}
	return fmt.Sprintf("%s, by %s, fresh until %s, %s", s.State, s.By, s.Until.Format("2006-01-02 15:04 UTC"),
		span.Distance(now, s.Until))
}

func (j *Judge) findings(line []*cert.Certificate, s Status) finding.List {
	title := line[0].Title()
	switch s.State {
	case Revoked, OnHold:
		word := "was revoked on"
		if s.State == OnHold {
			word = "is on hold since"
		}
		return finding.List{finding.New(finding.Revoked, "%s %s %s (%s), %s: according to %s.", title, word,
			s.At.Format("2006-01-02"), s.Reason.Word(), span.Distance(j.q.Now, s.At), s.By)}
	case Unknown:
		why := "no list and no answer was given that tells"
		if len(s.Rejected) > 0 {
			why = s.Rejected[0]
		}
		f := finding.New(finding.StatusUnknown, "Whether %s was revoked is not known: %s.", title, why)
		if !j.Require {
			f.Severity = finding.Note
		}
		return finding.List{f}
	}
	return nil
}

// Of tells whether the first certificate of a line stands; its issuer is the second, and
// the anchor the last.
func (j *Judge) Of(line []*cert.Certificate) Status {
	c := line[0]
	name := c.SHA256()
	k := saidKey{name, line[1].SHA256(), line[len(line)-1].SHA256()}
	if s, known := j.said[k]; known {
		return s
	}
	if j.busy[name] {
		return Status{State: Unknown, circular: true, Rejected: []string{"its status rests on itself"}}
	}
	if len(j.busy) > mostDepth {
		return Status{State: Unknown, Rejected: []string{fmt.Sprintf("more than %d signers would have to be judged, "+
			"each by what the next one signed", mostDepth)}}
	}
	j.busy[name] = true
	defer delete(j.busy, name)
	s := j.judge(c, line)
	if len(j.busy) == 1 { // what was found on the way to something else rests on what was not judged
		j.said[k] = s
	}
	return s
}

// judge asks the lists, then the answers, whatever the certificate says of itself. A mark that
// no status exists counts only where none was found.
func (j *Judge) judge(c *cert.Certificate, line []*cert.Certificate) Status {
	byLists := j.byLists(c, line)
	if byLists.State == Revoked || byLists.State == OnHold {
		return byLists
	}
	byAnswers := j.byAnswers(c, line)
	byAnswers.Rejected = append(byAnswers.Rejected, byLists.Rejected...)
	switch {
	case byAnswers.State != Unknown:
		return byAnswers
	case byLists.State == Good:
		return byLists
	case marked(c):
		return Status{State: NotNeeded, By: "the certificate itself", Rejected: byAnswers.Rejected}
	}
	return byAnswers
}

// marked reports whether a certificate says that its status is not published: noRevAvail (RFC 9608), which
// no authority may have, or the mark of a responder (RFC 6960 section 4.2.2.2.1), which counts for
// one that is for nothing else.
func marked(c *cert.Certificate) bool {
	if _, never := c.Extensions.Find(ext.NoRevocationID); never && !c.IsAuthority() {
		return true
	}
	return ocsp.NoCheck(c) && len(c.Extended) == 1 && c.Extended[0].Equal(ext.OCSPUsage) && !c.IsAuthority()
}

func (j *Judge) byAnswers(c *cert.Certificate, line []*cert.Certificate) Status {
	out := Status{State: Unknown}
	issuer := line[1]
	for _, a := range j.Answers {
		s, signer, err := a.Judge(ocsp.Expectation{Issuer: issuer, Serial: c.Serial, Now: j.q.Now, Late: j.Late,
			Oldest: OldestAnswer, Signers: append(slices.Clone(line[1:]), j.Signers...)})
		if err == nil && !key.Same(signer.Key, issuer.Key) {
			st := j.Of(append([]*cert.Certificate{signer}, line[1:]...))
			if st.State != Good && st.State != NotNeeded {
				err = fmt.Errorf("the answer was signed by %s, whose own status is: %s%s", signer.Title(), st.State,
					lacking(signer))
			}
		}
		if err != nil {
			if slices.ContainsFunc(a.Responses, func(x ocsp.SingleResponse) bool {
				return x.ID.Serial.Hex() == c.
					SerialHex()
			}) {
				out.Rejected = append(out.Rejected, err.Error())
			}
			continue
		}
		by := "an OCSP answer of " + s.This.Format("2006-01-02 15:04 UTC")
		switch s.Status {
		case ocsp.Revoked:
			return Status{State: stateOf(s.Reason), Reason: s.Reason, At: s.At, By: by, Until: s.Next}
		case ocsp.Good:
			out = Status{State: Good, By: by, Until: s.Next, Rejected: out.Rejected}
		case ocsp.Unknown:
			out.Rejected = append(out.Rejected, "its issuer's responder says that it never issued it")
		}
	}
	return out
}

// lacking says what would let a responder of unknown status answer.
func lacking(c *cert.Certificate) string {
	if marked(c) {
		return ""
	}
	return "; it lacks the mark that clients need not check it (RFC 6960 section 4.2.2.2.1)"
}

func stateOf(r revocation.Reason) State {
	if r == revocation.CertificateHold {
		return OnHold
	}
	return Revoked
}

// verified reports whether a list was signed by a key. Lists and certificates of one name can come
// in any number from strangers, so the checks of one question are counted.
func (j *Judge) verified(list *revocation.List, by *cert.Certificate) bool {
	k := signedKey{list, by.SHA256()}
	ok, known := j.signed[k]
	if !known && len(j.signed) < MostChecks {
		ok = list.VerifiedBy(by.Key) == nil
		j.signed[k] = ok
	}
	return ok
}
