package event

import (
	"time"
)

// Proposed records an act that waits until enough operators agree to it. The object is its name, P1, P2 ...
type Proposed struct {
	v1
	Of      string    `json:"act"`     // the act that it is about, as the journal names it
	Title   string    `json:"title"`   // in a few words
	Args    []string  `json:"args"`    // the command that was given, without what is about one machine or person
	Planned time.Time `json:"planned"` // the moment for which it is planned
	Digest  string    `json:"digest"`  // of all that is agreed to, SHA-256 in hex
	Need    int       `json:"need"`    // how many must agree, the one who proposes among them
	Ends    time.Time `json:"ends"`    // it can be done until then
}

// Approved records that someone agrees to a proposal: their signature over its digest.
type Approved struct {
	v1
	Digest    string `json:"digest"`
	Signature string `json:"signature"` // in the form of SSH, in base 64
}

// ProposalEnded records that a proposal is no more.
type ProposalEnded struct {
	v1
	How string `json:"how"` // done, objected, void
	Why string `json:"why,omitempty"`
}

// Act implements Event.
func (Proposed) Act() string { return "propose" }

// Act implements Event.
func (Approved) Act() string { return "approve" }

// Act implements Event.
func (ProposalEnded) Act() string { return "end proposal" }

var proposalKinds = []maker{
	func() Event { return &Proposed{} }, func() Event { return &Approved{} },
	func() Event { return &ProposalEnded{} },
}

// ApprovalName names what someone said to a proposal.
func ApprovalName(proposal, who string) string { return proposal + "\x1f" + who }

// Guard is what acts are about that may need the agreement of several.
type Guard string

// The guards.
const (
	GuardAuthorities Guard = "authorities"
	GuardOperators   Guard = "operators"
	GuardTrustSets   Guard = "trust-sets"
	GuardRevocations Guard = "revoked-authorities"
)

var guards = map[string]Guard{}

func guard(g Guard, events ...Event) struct{} {
	for _, e := range events {
		guards[e.Act()] = g
	}
	return struct{}{}
}

var _ = guard(GuardAuthorities, AuthorityCreated{}, AuthorityRenewed{}, CrossCertified{}, AuthorityRetired{},
	AuthorityReinstated{}, KeyDestroyed{}, AuthorityAdopted{}, LinkAdopted{}, Applied{}, AnswerImported{}, Switched{},
	SwitchedBack{}, KeyHeld{}, PassphraseChangeBegun{})

var _ = guard(GuardOperators, OperatorKept{}, OperatorEnded{}, FileRecorded{}, FileDropped{})

var _ = guard(GuardTrustSets, SetCreated{}, SetExtended{}, SetReduced{})

// GuardOf is what an act is about, where several may have to agree to it; "" otherwise. Whether a revocation is one of
// an
// authority only the records know.
func GuardOf(act string) Guard { return guards[act] }
