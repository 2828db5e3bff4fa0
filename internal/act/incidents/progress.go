package incidents

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironseal/internal/act/doubt"
	"ironseal/internal/act/listing"
	"ironseal/internal/act/parties"
	"ironseal/internal/act/renewing"
	"ironseal/internal/act/revoking"
	"ironseal/internal/act/signing"
	"ironseal/internal/act/trusting"
	"ironseal/internal/estate"
	"ironseal/internal/records"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/key"
	"ironseal/pki/revocation"
	"ironseal/pki/span"
	"ironseal/pki/trust"
)

// Step is one of the steps of an incident, in their order.
type Step struct {
	Name  string `json:"step" doc:"what is to be done"`
	Done  bool   `json:"done" doc:"whether nothing of it is left"`
	Words string `json:"words" doc:"how it stands"`
	Next  string `json:"next" doc:"the command that goes on; empty where none does"`
}

// Affected is a certificate that hangs on the key in doubt.
type Affected struct {
	Title       string   `json:"title" doc:"for whom it is"`
	Serial      string   `json:"serial" doc:"of it"`
	State       string   `json:"state" doc:"its state today"`
	Authority   bool     `json:"ca" doc:"whether it is an authority's"`
	Holders     []string `json:"held_by" doc:"who holds it"`
	Replacement string   `json:"replacement" doc:"serial of the one that was signed in its place; empty for none"`
	Handed      bool     `json:"handed_over" doc:"whether a holder has the replacement"`
	Seen        string   `json:"seen" doc:"what its endpoint was last seen to serve: replacement, old, or empty"`

	held estate.Held
}

// Vouching is a link certificate by which another authority vouches for the key in doubt: clients
// that hold that authority's root alone accept whatever the key signs.
type Vouching struct {
	By     string `json:"by" doc:"the generation that signed it"`
	Serial string `json:"serial" doc:"of it"`
	State  string `json:"state" doc:"its state today"`

	held estate.Held
	by   *hierarchy.Generation
}

// Progress is how an incident stands.
type Progress struct {
	doubt.Incident
	Steps    []Step     `json:"steps" doc:"in their order"`
	Affected []Affected `json:"affected" doc:"what hangs on the key"`
	Holders  []string   `json:"holders" doc:"who has to change something"`
	Links    []Vouching `json:"links" doc:"certificates by which another authority vouches for the key"`

	target revoking.Target
	h      hierarchy.Hierarchy
}

// Undone are the steps that are not done.
func (p Progress) Undone() (out []string) {
	for _, s := range p.Steps {
		if !s.Done {
			out = append(out, s.Name)
		}
	}
	return out
}

// Of works out how an incident stands.
func Of(ctx context.Context, e *estate.Estate, name string) (Progress, error) {
	return estate.AtOneMoment(ctx, e, func(e *estate.Estate) (Progress, error) { return of(ctx, e, name) })
}

func of(ctx context.Context, e *estate.Estate, name string) (Progress, error) {
	var p Progress
	var err error
	if p.Incident, err = Find(ctx, e, name); err != nil {
		return p, err
	}
	if p.h, err = e.Hierarchy(ctx); err != nil {
		return p, err
	}
	if p.target, err = revoking.Find(ctx, e, p.Certificate); err != nil {
		return p, err
	}
	if err := p.links(ctx, e); err != nil {
		return p, err
	}
	if err := p.affected(ctx, e); err != nil {
		return p, err
	}
	for _, step := range []func(context.Context, *estate.Estate) (Step, error){p.stopped, p.listed, p.prepared,
		p.handed,
		p.revoked, p.published, p.proven} {
		s, err := step(ctx, e)
		if err != nil {
			return p, err
		}
		p.Steps = append(p.Steps, s)
	}
	return p, nil
}

// links finds the link certificates for the key in doubt.
func (p *Progress) links(ctx context.Context, e *estate.Estate) error {
	p.Links = []Vouching{}
	for _, a := range p.h {
		for _, l := range a.Links {
			if !key.Same(l.Certificate.Key, p.target.Key) {
				continue
			}
			held, _, err := e.OnRecord(ctx, l.Certificate)
			if err != nil {
				return err
			}
			p.Links = append(p.Links, Vouching{By: l.By.Name(), Serial: l.Certificate.SerialHex(), State: held.State,
				held: held, by: l.By})
		}
	}
	return nil
}

// isLink reports whether a certificate is a link: it needs no replacement. It falls with the key
// that signed it, or is revoked where it vouches for the key in doubt.
func (p *Progress) isLink(c *cert.Certificate) bool {
	for _, a := range p.h {
		for _, l := range a.Links {
			if bytes.Equal(l.Certificate.Raw, c.Raw) {
				return true
			}
		}
	}
	return false
}

// affected gathers what hangs on the key, with what has become of each.
func (p *Progress) affected(ctx context.Context, e *estate.Estate) error {
	var list []revoking.Fallen
	var down []*hierarchy.Generation
	if g := p.target.Generation; g != nil {
		down = withKey(p.h, g.Certificate.Key)
		var err error
		if list, err = revoking.FallenWith(ctx, e, p.h, down); err != nil {
			return err
		}
	} else {
		var err error
		if list, err = withSameKey(ctx, e, p.target.Held); err != nil {
			return err
		}
	}
	instead, err := p.successors(ctx, e, down)
	if err != nil {
		return err
	}
	sights, err := parties.LastServed(ctx, e)
	if err != nil {
		return err
	}
	who := map[string]bool{}
	p.Affected, p.Holders = []Affected{}, []string{}
	for _, f := range list {
		if f.OneUse() || p.isLink(f.Certificate) {
			continue
		}
		a := Affected{Title: f.Title(), Serial: f.SerialHex(), State: f.State, Authority: f.Authority,
			Holders: append([]string{}, f.Holders...), held: f.Held}
		for _, h := range f.Holders {
			who[h] = true
		}
		if err := p.instead(ctx, e, &a, instead, sights); err != nil {
			return err
		}
		p.Affected = append(p.Affected, a)
	}
	for h := range who {
		p.Holders = append(p.Holders, h)
	}
	slices.Sort(p.Holders)
	return nil
}

// successors are what was signed in the place of certificates and counts, by what they replace.
func (p *Progress) successors(ctx context.Context, e *estate.Estate,
	down []*hierarchy.Generation) (map[int64]estate.Held, error) {
	all, err := e.Certificates(ctx)
	if err != nil {
		return nil, err
	}
	next := map[int64]estate.Held{}
	for _, c := range all {
		if c.Record.Replaces != 0 {
			next[c.Record.Replaces] = c
		}
	}
	counts := func(c estate.Held) bool {
		again := p.target.Generation == nil && c.Key.Fingerprint() == p.target.Key.Fingerprint()
		return !again && c.State != estate.Revoked && c.State != estate.Expired &&
			!slices.ContainsFunc(down, func(g *hierarchy.Generation) bool { return g.Name() == c.Record.Issuer })
	}
	instead := map[int64]estate.Held{}
	for id, c := range next {
		for there := true; there && !counts(c); { // its successor may do; each is younger than what it replaces
			c, there = next[c.Record.ID]
		}
		if c.Certificate != nil {
			instead[id] = c
		}
	}
	return instead, nil
}

// withSameKey lists a certificate, and those that have its key and still count.
func withSameKey(ctx context.Context, e *estate.Estate, target estate.Held) (out []revoking.Fallen, err error) {
	same, err := e.HeldAll(e.Records.CertificatesByKey(ctx, target.Key.Fingerprint(), records.NoLimit))
	if err != nil {
		return nil, err
	}
	for _, c := range same {
		if c.State == estate.Expired && c.Record.ID != target.Record.ID {
			continue
		}
		holders, err := e.Holders(ctx, c)
		if err != nil {
			return nil, err
		}
		out = append(out, revoking.Fallen{Held: c, Under: c.Record.Issuer, Holders: holders})
	}
	return out, nil
}

// instead finds what was signed in the place of a certificate, and what is known of it.
func (p *Progress) instead(ctx context.Context, e *estate.Estate, a *Affected, instead map[int64]estate.Held,
	sights parties.Served) error {
	if a.Authority {
		for _, g := range estate.AllGenerations(p.h) {
			if g.Certificate.SerialHex() == a.Serial && g != g.Authority.Generations[len(g.Authority.Generations)-1] {
				a.Replacement = g.Authority.Generations[len(g.Authority.Generations)-1].Certificate.SerialHex()
				a.Handed = true
			}
		}
		return nil
	}
	old := sights.By(a.held.Certificate)
	c, ok := instead[a.held.Record.ID]
	if ok {
		if a.Replacement = c.SerialHex(); sights.InUse(c.Certificate) {
			a.Seen, a.Handed = "replacement", true
		}
	}
	if old { // of several endpoints one is enough: whoever has the key can still pass for it
		a.Seen = "old"
	}
	if !ok {
		return nil
	}
	holders, err := e.Records.Handed(ctx, c.Record.ID)
	a.Handed = a.Handed || len(holders) > 0
	return err
}

func (p *Progress) count(is func(Affected) bool) (n int) {
	for _, a := range p.Affected {
		if is(a) {
			n++
		}
	}
	return n
}

func (p *Progress) stopped(context.Context, *estate.Estate) (Step, error) {
	s := Step{Name: "stop granting", Done: true, Words: "nothing is signed for its key"}
	if g := p.target.Generation; g != nil {
		s.Done = g.Stopped != "" || !g.Revoked.IsZero()
		if s.Words = g.Label() + " grants nothing since " + p.Opened.Format("2006-01-02 15:04 UTC"); !s.Done {
			s.Words = g.Label() + " grants again"
		}
	}
	return s, nil
}

func (p *Progress) listed(context.Context, *estate.Estate) (Step, error) {
	return Step{Name: "list what is affected", Done: true, Words: fmt.Sprintf("%s, held by %s",
		span.Count(len(p.Affected), "certificate"), span.Count(len(p.Holders), "party"))}, nil
}

func (p *Progress) prepared(context.Context, *estate.Estate) (Step, error) {
	done := p.count(func(a Affected) bool { return a.Replacement != "" })
	s := Step{Name: "prepare replacements", Done: done == len(p.Affected),
		Words: fmt.Sprintf("%d of %d have one", done, len(p.Affected))}
	g := p.target.Generation
	switch {
	case g == nil && !s.Done:
		s.Next = "ironseal certificate renew " + p.target.Serial.Short() + " --request REQUEST"
		s.Words += "; its holder must send a request with a new key"
	case g != nil && !p.renewed():
		s.Done = false
		s.Words = g.Authority.Handle + " has no generation with another key yet"
		if s.Next = renewing.RenewCommand(g.Authority); !p.elsewhere() && !g.Authority.Elsewhere {
			s.Next += " --suspect TEXT"
		}
	case !s.Done:
		s.Next = "ironseal incident replace " + p.Name
	}
	return s, nil
}

// renewed reports whether the authority has a generation with another key, now or prepared.
func (p *Progress) renewed() bool {
	g := p.target.Generation
	list := p.h.Find(g.Authority.Handle).Generations
	last := list[len(list)-1]
	return !hierarchy.SameList(last, g) && last.TakenBack() == nil && last.Stopped == ""
}

// elsewhere reports whether what is in doubt was signed by a key in another estate.
func (p *Progress) elsewhere() bool { return p.target.By != nil && p.target.By.Authority.Elsewhere }

func (p *Progress) handed(context.Context, *estate.Estate) (Step, error) {
	done := p.count(func(a Affected) bool { return a.Handed })
	s := Step{Name: "hand them over", Done: done == len(p.Affected),
		Words: fmt.Sprintf("%d of %d holders have theirs", done, len(p.Affected))}
	if i := slices.IndexFunc(p.Affected, func(a Affected) bool { return !a.Handed && a.Replacement != "" }); i >= 0 {
		s.Next = fmt.Sprintf("ironseal certificate handover %s --for RECEIVER --out DIR --party %s",
			cert.ShortSerial(p.Affected[i].Replacement), "PARTY")
	}
	return s, nil
}

// toRevoke is a certificate that the incident wants on a list, for the loss of its key.
type toRevoke struct {
	name string // as it is typed
	by   *hierarchy.Generation
	held estate.Held
}

// lost are the certificates for the key in doubt that another key signed and that have not ended:
// each must be revoked, since a client that finds one of them accepts what the key signs.
func (p *Progress) lost(ctx context.Context, e *estate.Estate) (out []toRevoke, err error) {
	add := func(name string, by *hierarchy.Generation, held estate.Held) {
		if by != nil && held.State != estate.Expired {
			out = append(out, toRevoke{name, by, held})
		}
	}
	for _, l := range p.Links {
		add(l.held.Serial.Short(), l.by, l.held)
	}
	if p.target.Generation == nil {
		for _, a := range p.Affected { // all that have its key
			add(a.held.Serial.Short(), p.h.Generation(a.held.Record.Issuer), a.held)
		}
		return out, nil
	}
	for _, g := range withKey(p.h, p.target.Key) {
		held, _, err := e.OnRecord(ctx, g.Certificate)
		if err != nil {
			return nil, err
		}
		add(g.Name(), g.Issuer, held)
	}
	return out, nil
}

// reason is why the certificates of an incident are revoked.
func (p *Progress) reason() revocation.Reason {
	if p.target.Generation != nil {
		return revocation.CACompromise
	}
	return revocation.KeyCompromise
}

func (p *Progress) revoked(ctx context.Context, e *estate.Estate) (Step, error) {
	s := Step{Name: "revoke"}
	list, err := p.lost(ctx, e)
	if err != nil {
		return s, err
	}
	var here, far, others []string
	for _, x := range list {
		switch {
		case x.held.Record.Reason >= 0 && revocation.Reason(x.held.Record.Reason).Compromise():
			continue
		case x.by.Authority.Elsewhere:
			far = append(far, x.name+" (signed by "+x.by.Authority.Handle+")")
			continue
		case x.held.State == estate.Revoked: // clients refuse it; why is told wrongly, and the key is not known as lost
			others = append(others, fmt.Sprintf("%s is revoked as %s", x.name,
				revocation.Reason(x.held.Record.Reason).Word()))
		}
		here = append(here, x.name)
	}
	root, err := p.rootStays(ctx, e)
	if err != nil {
		return s, err
	}
	s.Done = len(here)+len(far) == 0 && root == ""
	switch {
	case s.Done && p.target.By == nil:
		s.Words = "it is in no trust set any more"
	case s.Done:
		s.Words = "done"
	case len(here) > 0:
		s.Words = "not yet: " + strings.Join(here, ", ")
		if len(others) > 0 {
			s.Words += "; " + strings.Join(others, ", ")
		}
		s.Next = fmt.Sprintf("ironseal revoke %s --reason %s --because TEXT", strings.Join(here, " "),
			p.reason().Word())
	case len(far) > 0:
		s.Words = "not yet: " + strings.Join(far, ", ") + ", in another estate: have it revoked there, and take its " +
			"list in"
		s.Next = "ironseal revocations take-in FILE"
	default:
		s.Words, s.Next = root, "ironseal changeover progress "+p.target.Generation.Authority.Handle
	}
	return s, nil
}

// rootStays says why a root in doubt is still trusted; "" where it is not, or is no root.
func (p *Progress) rootStays(ctx context.Context, e *estate.Estate) (string, error) {
	if p.target.By != nil {
		return "", nil
	}
	sets, faults := trusting.Sets(ctx, e)
	if err := errors.Join(faults...); err != nil {
		return "", err
	}
	var in []string
	for _, set := range sets {
		if slices.ContainsFunc(set.Anchors, func(a trust.Anchor) bool {
			return key.Same(a.Certificate.Key,
				p.target.Key)
		}) {
			in = append(in, set.Name)
		}
	}
	if len(in) == 0 {
		return "", nil
	}
	return "a root cannot be revoked: those who trust it must learn another and drop it; it is in the trust set " +
		strings.Join(in, ", "), nil
}

// published asks whether a list that tells of every certificate for the key lies in a folder that
// is served.
func (p *Progress) published(ctx context.Context, e *estate.Estate) (Step, error) {
	s := Step{Name: "publish", Next: "ironseal revocations publish --to DIR"}
	list, err := p.lost(ctx, e)
	if err != nil {
		return s, err
	}
	if len(list) == 0 && p.target.By == nil {
		s.Done, s.Words, s.Next = true, "no list tells of a root", ""
		return s, nil
	}
	have, err := listing.Known(ctx, e.Records)
	if err != nil {
		return s, err
	}
	told := map[string]bool{}
	for _, x := range list {
		r, found, err := e.Records.RevocationOf(ctx, x.by.Authority.Handle, x.held.SerialHex())
		if err != nil {
			return s, err
		}
		if !found || !r.Released.IsZero() {
			s.Words, s.Next = "nothing is revoked yet", ""
			if len(told) > 0 {
				s.Words = x.name + " is not revoked yet"
			}
			return s, nil
		}
		if words := have.Untold(x.by, r.ID); words != "" {
			s.Words = words
			return s, nil
		}
		told[x.by.Label()] = true
	}
	s.Done, s.Words, s.Next = true, "the list of "+strings.Join(slices.Sorted(maps.Keys(told)), ", ")+" tells of it", ""
	if len(told) == 0 {
		s.Words = "nothing is left for a list to tell"
	}
	return s, nil
}

func (p *Progress) proven(context.Context, *estate.Estate) (Step, error) {
	old := p.count(func(a Affected) bool { return a.Seen == "old" })
	done := p.count(func(a Affected) bool { return a.Seen == "replacement" })
	ends := p.count(func(a Affected) bool { return !a.Authority })
	s := Step{Name: "prove it", Done: old == 0 && done == ends,
		Words: fmt.Sprintf("%d of %d were seen to serve the replacement, %d the old one", done, ends, old)}
	if !s.Done {
		s.Next = "ironseal probe --all --record"
	}
	return s, nil
}

// Replace plans a certificate in the place of every affected one that has none, under the
// newest generation of its authority, prepared or not.
func Replace(ctx context.Context, e *estate.Estate, p Progress, waivers []finding.Waiver) ([]signing.Planned, error) {
	g := p.target.Generation
	if g == nil {
		return nil, fmt.Errorf("incident %s is about the key of %s itself: its holder must send a request with a "+
			"new key; "+
			"then: ironseal certificate renew %s --request REQUEST", p.Name, p.About, p.target.Serial.Short())
	}
	if s, err := p.prepared(ctx, e); err != nil {
		return nil, err
	} else if !p.renewed() {
		return nil, fmt.Errorf("incident %s: %s: renew it first: %s", p.Name, s.Words, s.Next)
	}
	by := map[*hierarchy.Generation][]estate.Held{}
	for _, a := range p.Affected {
		if a.Replacement != "" || a.Authority {
			continue
		}
		signer := p.h.Generation(a.held.Record.Issuer)
		list := signer.Authority.Generations
		by[list[len(list)-1]] = append(by[list[len(list)-1]], a.held)
	}
	var out []signing.Planned
	for _, next := range estate.AllGenerations(p.h) {
		if len(by[next]) == 0 {
			continue
		}
		list, err := renewing.PlanThese(ctx, e, by[next], waivers, next)
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	return out, nil
}
