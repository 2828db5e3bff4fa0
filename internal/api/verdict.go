package api

import (
	"ironseal/pki/client"
	"ironseal/pki/finding"
	"ironseal/pki/path"
)

// Verdict says whether a client would accept a certificate, and why.
type Verdict struct {
	Valid    bool         `json:"valid" doc:"whether it would"`
	Subject  string       `json:"subject" doc:"whose certificate"`
	Name     string       `json:"name,omitempty" doc:"the host that the client connects to"`
	Steps    []Step       `json:"steps" doc:"the chain, the leaf first"`
	Findings finding.List `json:"findings" doc:"what was found"`
	Checks   int          `json:"signatures_checked" doc:"how many signatures were verified"`

	Clients []client.Answer `json:"clients" doc:"what kinds of client make of it, where it was asked"`
}

// Step is one certificate of the chain.
type Step struct {
	Role             path.Role    `json:"role" doc:"leaf, intermediate, anchor"`
	Subject          string       `json:"subject" doc:"whose certificate"`
	Serial           string       `json:"serial" doc:"its serial number, in hex"`
	Good             bool         `json:"good" doc:"whether this step holds"`
	Words            string       `json:"words" doc:"why, in words"`
	RevocationStatus string       `json:"standing" doc:"how its revocation status is known; empty if it was not checked"`
	Findings         finding.List `json:"findings" doc:"what was found"`
}
