package status

import (
	"crypto"
	"crypto/rand"
	"fmt"
	mrand "math/rand/v2"
	"os"
	"slices"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/distpoint"
	"ironseal/pki/ext"
	"ironseal/pki/ocsp"
	"ironseal/pki/path"
	"ironseal/pki/revocation"
	"ironseal/pki/specimen"
)

// This is a second opinion on revocation status. It is written from RFC 5280 section 6.3.3 and RFC 6960 section 3.2
// about what lists and answers say, and knows nothing of their encoding, of signatures or of the judge. It is
// slow: it asks for every reason on its own. Random evidence is judged by both.

// person is a certificate of the model's world.
type person struct {
	*specimen.Entity
	name      string  // its subject
	by        *person // who issued it; nil for the anchor
	authority bool
	signs     bool   // its key usage names the signing of lists
	responder bool   // it may answer for who issued it
	mark      bool   // nobody need tell of it
	part      string // the address of the part of lists that it stands on; "" for the whole
}

// told is a list of the model: nine reasons are nine bits.
type told struct {
	by         *person
	number     int
	base       int
	this, next time.Duration // from now
	users, cas bool
	attributes bool
	reasons    distpoint.Reasons
	part       string
	entries    map[*person]revocation.Reason
	made       *revocation.List
}

type replied struct {
	by         *person
	this, next time.Duration // from now; next 0 for none
	says       map[*person]revocation.Reason
	good       []*person
	made       *ocsp.Response
}

type model struct {
	lists   []*told
	answers []*replied
	pool    []*person
	require bool
	busy    []*person
}

// line is the chain of a certificate, itself first.
func line(p *person) (out []*person) {
	for ; p != nil; p = p.by {
		out = append(out, p)
	}
	return out
}

func (m *model) of(p *person) State {
	if slices.Contains(m.busy, p) {
		return Unknown
	}
	m.busy = append(m.busy, p)
	defer func() { m.busy = m.busy[:len(m.busy)-1] }()
	byLists := m.byLists(p)
	if byLists == Revoked || byLists == OnHold {
		return byLists
	}
	switch s := m.byAnswers(p); {
	case s != Unknown:
		return s
	case byLists == Good:
		return Good
	case p.mark:
		return NotNeeded
	}
	return Unknown
}

// believed are the complete lists that speak for a certificate at an address, the newest first.
func (m *model) believed(p *person, address string) (out []*told) {
	for _, l := range m.lists {
		switch {
		case l.base > 0 || l.by.name != p.by.name || l.attributes || l.users && p.authority || l.cas && !p.authority:
		case l.part != "" && l.part != address:
		case l.this > 0 || l.next == 0 || l.next < 0:
		case !m.maySign(l.by, p):
		default:
			out = append(out, l)
		}
	}
	slices.SortStableFunc(out, func(a, b *told) int {
		if a.number != b.number {
			return b.number - a.number
		}
		return int(b.this - a.this)
	})
	return out
}

// maySign is section 6.3.3 f and g, with our rule for signers that are no part of the chain.
func (m *model) maySign(signer, about *person) bool {
	chain := line(about)[1:]
	if slices.Contains(chain, signer) {
		return signer.signs
	}
	if !slices.Contains(m.pool, signer) || !signer.signs || line(signer)[len(line(signer))-1] != chain[len(chain)-1] {
		return false
	}
	if signer.by != chain[0] && (len(chain) < 2 || signer.by != chain[1]) {
		return false
	}
	for _, up := range line(signer) {
		if up.by == nil {
			continue
		}
		if s := m.of(up); s == Revoked || s == OnHold || m.require && s == Unknown && !slices.Contains(m.busy, up) {
			return false
		}
	}
	return true
}

func (m *model) byLists(p *person) State {
	good := distpoint.Reasons(0)
	for _, address := range addresses(p) {
		lists := m.believed(p, address)
		for bit := distpoint.Reasons(1); bit <= distpoint.AllReasons; bit <<= 1 {
			if distpoint.AllReasons&bit == 0 || good&bit != 0 {
				continue
			}
			for _, l := range lists {
				if l.reasons&bit == 0 {
					continue
				}
				good |= bit
				break
			}
		}
	}
	// what is said: of the lists that are the newest for some reason, in order
	covered := distpoint.Reasons(0)
	for _, address := range addresses(p) {
		for _, l := range m.believed(p, address) {
			if l.reasons&^covered == 0 {
				continue
			}
			if why, on := m.entry(l, p); on {
				if why == revocation.CertificateHold {
					return OnHold
				}
				return Revoked
			}
			covered |= l.reasons
		}
	}
	if good == distpoint.AllReasons {
		return Good
	}
	return Unknown
}

// addresses are where a certificate's lists may speak of it: at its part, and then for all of its issuer.
func addresses(p *person) []string {
	if p.part != "" {
		return []string{p.part, ""}
	}
	return []string{""}
}

// entry is what a complete list and the newest delta of it say.
func (m *model) entry(l *told, p *person) (revocation.Reason, bool) {
	var delta *told
	for _, d := range m.lists {
		if d.base == 0 || d.by != l.by || d.base > l.number || d.number <= l.number || d.users != l.users ||
			d.cas != l.cas || d.attributes != l.attributes || d.part != l.part || d.reasons != l.reasons ||
			d.this > 0 || d.next < 0 {
			continue
		}
		if delta == nil || d.number > delta.number || d.number == delta.number && d.this > delta.this {
			delta = d
		}
	}
	if delta != nil {
		if why, on := delta.entries[p]; on {
			return why, why != revocation.RemoveFromCRL
		}
	}
	why, on := l.entries[p]
	return why, on && why != revocation.RemoveFromCRL
}

func (m *model) byAnswers(p *person) State {
	state := Unknown
	for _, a := range m.answers {
		why, revoked := a.says[p]
		if !revoked && !slices.Contains(a.good, p) {
			continue
		}
		if a.this > 0 || a.next != 0 && a.next < 0 || a.next == 0 && -a.this > time.Hour {
			continue
		}
		if a.by != p.by {
			if !a.by.responder || a.by.by != p.by {
				continue
			}
			if s := m.of(a.by); s != Good && s != NotNeeded {
				continue
			}
		}
		if revoked {
			if why == revocation.CertificateHold {
				return OnHold
			}
			return Revoked
		}
		state = Good
	}
	return state
}

// harbour is the world of the model.
type harbour struct {
	anchor, mid, second, inner, other, twin *person
	about                                   []*person
	pool                                    []*person
	signers                                 []*person // of lists
	responders                              []*person
}

func newHarbour(t *testing.T) harbour {
	t.Helper()
	made := func(name string, by *person, p specimen.Plan) *person {
		var issuer *specimen.Entity
		if by != nil {
			issuer = by.Entity
		}
		p.Subject = name
		return &person{Entity: specimen.Make(t, issuer, p), name: name, by: by, authority: p.Authority,
			signs: p.Authority}
	}
	ca := specimen.Plan{Authority: true}
	var w harbour
	w.anchor = made("CN=Root", nil, ca)
	w.mid = made("CN=Services", w.anchor, ca)
	w.second = made("CN=Services", w.anchor, ca) // another key of the same authority
	w.inner = made("CN=Services", w.mid, ca)     // it appointed this one itself
	w.other = made("CN=Depot", w.anchor, ca)
	w.twin = made("CN=Services", w.other, ca) // a thief's: named like ours, and issued by another
	leaf := made("CN=a.ternbay.example", w.mid, specimen.Plan{})
	part := made("CN=b.ternbay.example", w.mid, specimen.Plan{Extra: ext.Set{ext.ListAddresses([]string{partAt})}})
	part.part = partAt
	short := made("CN=c.ternbay.example", w.mid, specimen.Plan{Extra: ext.Set{ext.NoRevocation()}})
	short.mark = true
	answers := made("CN=Answers", w.mid, specimen.Plan{Extended: []string{"OCSPSigning"},
		Extra: ext.Set{ext.NoCheck()}})
	answers.responder, answers.mark = true, true
	unmarked := made("CN=More answers", w.mid, specimen.Plan{Extended: []string{"OCSPSigning"}})
	unmarked.responder = true
	w.about = []*person{leaf, part, short, answers, unmarked, w.mid, w.second}
	w.pool = []*person{w.second, w.inner, w.twin, w.other}
	w.signers = []*person{w.mid, w.mid, w.mid, w.anchor, w.anchor, w.second, w.inner, w.twin}
	w.responders = []*person{w.mid, answers, answers, unmarked, w.anchor}
	return w
}

const partAt = "http://pki.ternbay.example/services.g1-1.crl"

func (w harbour) list(t *testing.T, r *mrand.Rand) *told {
	t.Helper()
	l := &told{by: w.signers[r.IntN(len(w.signers))], number: 1 + r.IntN(6), reasons: distpoint.AllReasons,
		this: -time.Duration(1+r.IntN(100)) * time.Minute, next: time.Duration(1+r.IntN(100)) * time.Hour,
		entries: map[*person]revocation.Reason{}}
	switch r.IntN(8) {
	case 0:
		l.this = time.Hour
		l.next = 2 * time.Hour
	case 1:
		l.next = -time.Second
	}
	if l.number > 1 && r.IntN(3) == 0 {
		l.base = 1 + r.IntN(l.number-1)
	}
	switch r.IntN(8) {
	case 0:
		l.users = true
	case 1:
		l.cas = true
	case 2:
		l.attributes = true
	case 3, 4:
		l.part = partAt
	}
	if r.IntN(5) == 0 {
		l.reasons = distpoint.Reasons(1+r.IntN(int(distpoint.AllReasons))) & distpoint.AllReasons
	}
	why := []revocation.Reason{revocation.KeyCompromise, revocation.CertificateHold, revocation.Superseded,
		revocation.RemoveFromCRL}
	for _, p := range w.about {
		if p.by.name == l.by.name && r.IntN(4) == 0 {
			l.entries[p] = why[r.IntN(len(why))]
		}
	}
	l.make(t)
	return l
}

func (l *told) make(t *testing.T) {
	t.Helper()
	d := revocation.Draft{Issuer: l.by.Cert.Subject, KeyID: l.by.Cert.SubjectKey, Number: int64(l.number),
		Base: int64(l.base), This: specimen.Now.Add(l.this), Next: specimen.Now.Add(l.next)}
	if l.users || l.cas || l.attributes || l.part != "" || l.reasons != distpoint.AllReasons {
		s := distpoint.Scope{Names: []distpoint.Name{{URI: l.part}}, Reasons: distpoint.AllReasons}
		if l.part == "" {
			s.Names = nil
		}
		s.OnlyUsers, s.OnlyAuthorities, s.OnlyAttributes, s.Reasons = l.users, l.cas, l.attributes, l.reasons
		d.Scope = &s
	}
	var entries []byte
	for p, why := range l.entries {
		var err error
		if entries, err = revocation.AppendEntry(entries, revocation.Entry{Serial: p.Cert.Serial,
			At: specimen.Now.Add(-time.Hour), Reason: why}); err != nil {
			t.Fatal(err)
		}
	}
	der, err := d.Sign([][]byte{entries}, l.by.Signer, rand.Reader, nil)
	if err == nil {
		l.made, err = revocation.ReadList(der)
	}
	if err != nil {
		t.Fatal(err)
	}
	if l.made.Scoped && l.made.Scope.Reasons != l.reasons {
		t.Fatalf("reasons %x became %x", l.reasons, l.made.Scope.Reasons)
	}
}

func (w harbour) answer(t *testing.T, r *mrand.Rand) *replied {
	t.Helper()
	a := &replied{by: w.responders[r.IntN(len(w.responders))], this: -time.Duration(1+r.IntN(100)) * time.Minute,
		next: time.Hour, says: map[*person]revocation.Reason{}}
	switch r.IntN(6) {
	case 0:
		a.next = 0
	case 1:
		a.next = -time.Second
	case 2:
		a.this = time.Hour
		a.next = 2 * time.Hour
	}
	d := ocsp.Draft{Responder: a.by.Cert, Attach: true, At: specimen.Now.Add(a.this)}
	for _, p := range w.about {
		if r.IntN(3) > 0 {
			continue
		}
		id, err := ocsp.IDOf(crypto.SHA1, p.by.Cert, p.Cert.Serial)
		if err != nil {
			t.Fatal(err)
		}
		s := ocsp.SingleResponse{ID: id, Status: ocsp.Good, This: specimen.Now.Add(a.this)}
		if a.next != 0 {
			s.Next = specimen.Now.Add(a.next)
		}
		if r.IntN(3) == 0 {
			a.says[p] = []revocation.Reason{revocation.KeyCompromise, revocation.CertificateHold}[r.IntN(2)]
			s.Status, s.Reason, s.At = ocsp.Revoked, a.says[p], specimen.Now.Add(-time.Hour)
		} else {
			a.good = append(a.good, p)
		}
		d.Responses = append(d.Responses, s)
	}
	if len(d.Responses) == 0 {
		return nil
	}
	der, err := d.Sign(a.by.Signer, rand.Reader)
	if err == nil {
		a.made, err = ocsp.ReadResponse(der)
	}
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// generated is for how long random cases are tried: IRONSEAL_GENERATE says it, such as 60m; a few without.
func generated(t *testing.T, few int, try func(seed uint64)) {
	t.Helper()
	long, _ := time.ParseDuration(os.Getenv("IRONSEAL_GENERATE"))
	end, n := time.Now().Add(long), 0
	from := uint64(time.Now().UnixNano())
	if long == 0 {
		from = 1
	}
	for ; !t.Failed() && (n < few || time.Now().Before(end)); n++ {
		try(from + uint64(n))
	}
	t.Logf("%d cases", n)
}

func TestStandingAgreesWithASlowModel(t *testing.T) {
	w := newHarbour(t)
	states := map[State]int{}
	generated(t, 400, func(seed uint64) {
		r := mrand.New(mrand.NewPCG(seed, 17))
		m := &model{require: r.IntN(2) == 0}
		e := Evidence{}
		for range r.IntN(7) {
			l := w.list(t, r)
			m.lists, e.Lists = append(m.lists, l), append(e.Lists, l.made)
		}
		for range r.IntN(4) {
			if a := w.answer(t, r); a != nil {
				m.answers, e.Answers = append(m.answers, a), append(e.Answers, a.made)
			}
		}
		for _, p := range w.pool {
			if r.IntN(2) == 0 {
				m.pool, e.Signers = append(m.pool, p), append(e.Signers, p.Cert)
			}
		}
		for _, p := range w.about {
			var chain []*cert.Certificate
			for _, up := range line(p) {
				chain = append(chain, up.Cert)
			}
			q := path.Question{Now: specimen.Now, Anchors: chain[len(chain)-1:]}
			want, got := m.of(p), New(e, q, m.require).Of(chain)
			if states[want]++; got.State != want {
				t.Errorf("seed %d: %s %s is %s by %s, and the model says %s; %q\n%s", seed, p.name, p.part, got.State,
					got.By,
					want, got.Rejected, m.words())
			}
		}
	})
	if len(states) < 5 {
		t.Errorf("the cases are all of one kind: %v", states)
	}
	t.Logf("%v", states)
}

func (m *model) words() (out string) {
	for _, l := range m.lists {
		on := []string{}
		for p, why := range l.entries {
			on = append(on, fmt.Sprintf("%s %d", p.name, why))
		}
		out += fmt.Sprintf("list %d+%d of %s, issued by %v, %s to %s, users %t cas %t attributes %t reasons %x part "+
			"%q: %v\n",
			l.number, l.base, l.by.name, l.by.by != nil && l.by.by.by != nil, l.this, l.next, l.users, l.cas,
			l.attributes,
			l.reasons, l.part, on)
	}
	for _, a := range m.answers {
		out += fmt.Sprintf("answer by %s, %s to %s: %d revoked, %d good\n", a.by.name, a.this, a.next, len(a.says),
			len(a.good))
	}
	return out
}
