package estate

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/operator"
	"ironseal/pki/span"
	"ironseal/pki/template"
)

// Some acts need the agreement of several operators. What one of them proposes waits; the others agree by signatures
// over
// the digest of all that is agreed to. When enough do, it can be done, by whoever can open the key. That it was agreed
// to
// is asked here, inside the change, for all acts.

// Approvals says how many must agree to what. 0 and 1 are one alone.
type Approvals struct {
	Authorities int `toml:"authorities"`
	Operators   int `toml:"operators"`
	TrustSets   int `toml:"trust-sets"`
	Revoked     int `toml:"revoked-authorities"`

	Transfers int      `toml:"transfers"`
	Approvers []string `toml:"approvers"`
	End       string   `toml:"proposals-end"`
}

// mostApprovals bounds how many may have to agree.
const mostApprovals = 9

func (a Approvals) check() error {
	for _, x := range []struct {
		key string
		n   int
	}{{"authorities", a.Authorities}, {"operators", a.Operators}, {"trust-sets", a.TrustSets},
		{"revoked-authorities", a.Revoked}, {"transfers", a.Transfers}} {
		if x.n < 0 || x.n > mostApprovals {
			return fmt.Errorf("approvals.%s = %d: from 0 to %d operators", x.key, x.n, mostApprovals)
		}
	}
	if _, err := span.Parse(a.End); err != nil {
		return fmt.Errorf("approvals.proposals-end: %w", err)
	}
	_, err := a.Named()
	return err
}

// Colleague is a person of another estate who approves its transfer folders.
type Colleague struct {
	Name string
	Key  operator.Key
}

// Named are the people of other estates whose approvals count here. Each is a line: a name, and an SSH public key.
func (a Approvals) Named() (out []Colleague, err error) {
	for _, line := range a.Approvers {
		name, key, _ := strings.Cut(strings.TrimSpace(line), " ")
		c := Colleague{Name: name}
		err := operator.CheckName(name)
		if err == nil {
			c.Key, err = operator.ParseKey(key)
		}
		if err != nil {
			return nil, fmt.Errorf("approvals.approvers: %q: write a name and an SSH public key, such as \"ana "+
				"ssh-ed25519 "+
				"AAAA...\": %w", line, err)
		}
		if slices.ContainsFunc(out, func(o Colleague) bool { return o.Name == c.Name || o.Key.Same(c.Key) }) {
			return nil, fmt.Errorf("approvals.approvers: %q: the name or the key is there twice", line)
		}
		out = append(out, c)
	}
	return out, nil
}

// For is how many must agree to what a guard is about.
func (a Approvals) For(g event.Guard) int {
	switch g {
	case event.GuardAuthorities:
		return a.Authorities
	case event.GuardOperators:
		return a.Operators
	case event.GuardTrustSets:
		return a.TrustSets
	case event.GuardRevocations:
		return a.Revoked
	}
	return 0
}

// Needs is how many must agree to an act.
func (e *Estate) Needs(act event.Event) int { return e.approvals().For(event.GuardOf(act.Act())) }

// NeedsToRevoke is how many must agree to the revocation of an authority.
func (e *Estate) NeedsToRevoke() int { return e.approvals().For(event.GuardRevocations) }

// NeedsFor is how many must agree to a signature by a template.
func (e *Estate) NeedsFor(t template.Template) int {
	if e.Rehearsal {
		return 0
	}
	return t.Approvals
}

// approvals are those of the settings; in a rehearsal one person plays all.
func (e *Estate) approvals() Approvals {
	if e.Rehearsal {
		return Approvals{}
	}
	return e.Settings.Approvals
}

// CheckAgreed refuses a signature by a template that several must agree to, unless they did.
func (e *Estate) CheckAgreed(t template.Template, act event.Event) error {
	if n := e.NeedsFor(t); n > 1 && e.Env.Approved == nil {
		return fault.New(fault.Refused, "%w", &NeedsApproval{Act: act.Act(), Need: n})
	}
	return nil
}

// ProposalState is where a proposal stands.
type ProposalState string

// The states.
const (
	ProposalWaiting ProposalState = "proposed" // others have to agree
	ProposalReady   ProposalState = "agreed"   // enough agree: it can be done
	ProposalExpired ProposalState = "expired"
)

// Proposal is a planned act that waits for the approval of others.
type Proposal struct {
	Name string
	event.Proposed
	By    string
	At    time.Time
	Agree []string // who agrees, and counts
	State ProposalState
	Why   string // of one that ended
}

// ProposalsIn reads all proposals, the newest last, as they stand at a moment.
func ProposalsIn(ctx context.Context, r store.DerivedReader, now time.Time) (out []Proposal, err error) {
	operators, err := OperatorsIn(ctx, r)
	if err != nil {
		return nil, err
	}
	if err := r.Derived(ctx, event.Proposals, func(name string, en journal.Entry) error {
		p, err := event.As[event.Proposed](en)
		out = append(out, Proposal{Name: name, Proposed: p, By: en.Actor, At: en.At})
		return err
	}); err != nil {
		return nil, err
	}
	for i := range out {
		if err := out[i].stand(ctx, r, operators, now); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// stand finds out who agrees, and where the proposal stands. Those count who are operators today, in a role that allows
// the act, and whose signature by today's key is over this digest. Each operator counts once.
func (p *Proposal) stand(ctx context.Context, r store.DerivedReader, operators []event.Operator, now time.Time) error {
	en, ended, err := r.DerivedOf(ctx, event.ProposalEnds, p.Name)
	if err != nil {
		return err
	}
	for _, o := range operators {
		en, there, err := r.DerivedOf(ctx, event.Approvals, event.ApprovalName(p.Name, o.Name))
		if err != nil {
			return err
		}
		if !there || event.May(o.Role, p.Of) != nil {
			continue
		}
		a, err := event.As[event.Approved](en)
		if err == nil && a.Digest == p.Digest && ApprovalBy(o.Key, p.Name, a) == nil {
			p.Agree = append(p.Agree, o.Name)
		}
	}
	switch {
	case ended:
		e, err := event.As[event.ProposalEnded](en)
		p.State, p.Why = ProposalState(e.How), e.Why
		return err
	case !now.Before(p.Ends):
		p.State = ProposalExpired
	case len(p.Agree) >= p.Need:
		p.State = ProposalReady
	default:
		p.State = ProposalWaiting
	}
	return nil
}

// ApprovedBytes are what someone signs who agrees to a proposal.
func ApprovedBytes(proposal, digest string) []byte {
	return []byte("approve " + proposal + " " + digest)
}

// ApprovalBy checks someone's signature over a proposal.
func ApprovalBy(k operator.Key, proposal string, a event.Approved) error {
	signature, err := base64.StdEncoding.DecodeString(a.Signature)
	if err != nil {
		return err
	}
	return k.Verify(ApprovedBytes(proposal, a.Digest), signature)
}

// Approval is a proposal that enough agreed to, as it is being done.
type Approval struct {
	Name    string
	Digest  [32]byte  // of what is being done
	Planned time.Time // the moment for which it was planned

	done bool // the act that ends the proposal is on record; what else belongs to it follows
}

// NeedsApproval says that several must agree to an act.
type NeedsApproval struct {
	Act  string
	Need int
}

func (n *NeedsApproval) Error() string {
	return fmt.Sprintf("nothing was changed: %d operators must agree to the act %q: propose it by the same "+
		"command, without "+
		"others in it", n.Need, n.Act)
}

// agreed refuses records that several must agree to, unless they did; and then says that the proposal is done.
func (s *speaking) agreed(ctx context.Context, tx store.Tx, w Env, records []event.Record) ([]event.Record, error) {
	need, about := 0, ""
	for _, r := range records {
		if n := w.Approvals.For(guardOf(ctx, tx, r)); n > need && s.who.Role != operator.Recovery {
			need, about = n, r.Event.Act()
		}
	}
	if w.Approved != nil && w.Approved.done {
		return nil, nil
	}
	if w.Approved == nil {
		if need > 1 && s.any {
			return nil, fault.New(fault.Refused, "%w", &NeedsApproval{about, need})
		}
		return nil, nil
	}
	p, err := openProposal(ctx, tx, w.Approved.Name, tx.Now())
	switch {
	case err != nil:
		return nil, err
	case p.State != ProposalReady:
		return nil, fault.New(fault.Changed, "%s is %s: nothing was changed", p.Name, p.State)
	case p.Digest != hex.EncodeToString(w.Approved.Digest[:]):
		return nil, fault.New(fault.Changed, "%s was agreed to for something else: nothing was changed", p.Name)
	case need > p.Need:
		return nil, fault.New(fault.Refused, "%s needed %d, and %d must agree now: propose it again", p.Name,
			p.Need, need)
	}
	return []event.Record{event.On(p.Name, event.ProposalEnded{How: "done"})}, nil
}

// guardOf is what a record is about, where several may have to agree to it.
func guardOf(ctx context.Context, tx store.Tx, r event.Record) event.Guard {
	revoked, ok := r.Event.(event.Revoked)
	if !ok {
		return event.GuardOf(r.Event.Act())
	}
	h, err := tx.Hierarchy()
	if err != nil {
		return event.GuardRevocations // what cannot be asked is taken for one
	}
	for _, g := range AllGenerations(h) {
		sum := fmt.Sprintf("%x", g.Certificate.SHA256())
		if slices.ContainsFunc(revoked.Revoked, func(c event.RevokedCertificate) bool { return c.Certificate == sum }) {
			return event.GuardRevocations
		}
	}
	return ""
}

func openProposal(ctx context.Context, r store.DerivedReader, name string, now time.Time) (Proposal, error) {
	list, err := ProposalsIn(ctx, r, now)
	if err != nil {
		return Proposal{}, err
	}
	for _, p := range list {
		if p.Name == name {
			return p, nil
		}
	}
	return Proposal{}, fault.New(fault.NotFound, "no proposal is called %q", strings.TrimSpace(name)).Then(
		advice.To("see which there are", advice.ListProposals))
}

// Proposal finds a proposal by its name.
func (e *Estate) Proposal(ctx context.Context, name string) (Proposal, error) {
	return openProposal(ctx, e.Records, name, e.Env.Now().UTC())
}

// Newest is the journal's newest entry and the latest time on record; of a plan for an earlier moment, that moment.
func (e *Estate) Newest(ctx context.Context) (journal.Head, time.Time, error) {
	head, at, err := e.Records.Newest(ctx)
	if p := e.Env.PlannedAt; !p.IsZero() && at.After(p) {
		at = p
	}
	return head, at, err
}
