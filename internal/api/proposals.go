package api

import (
	"time"

	"ironseal/internal/estate"
)

// Proposal is an act that waits for the agreement of several operators.
type Proposal struct {
	Name   string    `json:"name" doc:"its name, such as P1"`
	Title  string    `json:"title" doc:"what it is, in a few words"`
	State  string    `json:"state" doc:"proposed, agreed, done, objected, void or expired"`
	By     string    `json:"by" doc:"who proposed it"`
	At     time.Time `json:"at" doc:"when it was proposed"`
	Agree  []string  `json:"agree" doc:"who agrees, and counts"`
	Need   int       `json:"need" doc:"how many must agree"`
	Until  time.Time `json:"until" doc:"it can be done until then"`
	Digest string    `json:"digest" doc:"SHA-256 of all that is agreed to, in hex"`
	Args   []string  `json:"arguments" doc:"the command that it is"`
	Why    string    `json:"why,omitempty" doc:"why it ended"`
}

// ProposalOf is the shape of a proposal.
func ProposalOf(p estate.Proposal) Proposal {
	return Proposal{p.Name, p.Title, string(p.State), p.By, p.At, append([]string{}, p.Agree...), p.Need, p.Ends,
		p.Digest,
		p.Args, p.Why}
}
