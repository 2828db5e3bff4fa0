// Package lifecycle names the states of requests and certificates, and says which state can
// follow which. The tables here decide; docs/states.md is written from them.
package lifecycle

import (
	"fmt"
	"slices"
	"strings"
)

// RequestState is the outcome of a request.
type RequestState string

// States of a request.
const (
	AnyRequest RequestState = "" // in questions: whatever the state
	Waiting    RequestState = "waiting"
	Signed     RequestState = "signed"
	Declined   RequestState = "declined"
	Withdrawn  RequestState = "withdrawn"
	Sent       RequestState = "sent"
)

// requestStates says what each state means and what can follow. Every request begins as waiting.
var requestStates = []struct {
	state   RequestState
	meaning string
	next    []RequestState
}{
	{Waiting, "It was received. It is not signed or declined yet.", []RequestState{Signed, Declined, Withdrawn, Sent}},
	{Sent, "An authority elsewhere has it. Its answer is expected. It can be sent again.",
		[]RequestState{Signed, Declined, Withdrawn, Sent}},
	{Signed, "There is a certificate for it.", nil},
	{Declined, "The administrator declined it, with a reason.", nil},
	{Withdrawn, "Its sender took it back.", nil},
}

// CanBecome reports whether a request in this state can move to another.
func (s RequestState) CanBecome(next RequestState) bool {
	for _, row := range requestStates {
		if row.state == s {
			return slices.Contains(row.next, next)
		}
	}
	return false
}

// State is the state of a certificate on record, as of a moment. It is computed from dates and from what is on
// record, and never stored.
type State string

// States of a certificate.
const (
	AnyState      State = "any" // in questions: whatever the state
	Valid         State = "valid"
	Expiring      State = "expiring"
	Expired       State = "expired"
	Replaced      State = "replaced"
	Prepared      State = "prepared"
	Revoked       State = "revoked"
	OnHold        State = "on hold"
	IssuerRevoked State = "issuer revoked"
)

// certificateStates says what each state means and what can follow.
var certificateStates = []struct {
	state   State
	meaning string
	next    []State
}{
	{Valid, "It serves.", []State{Expiring, Replaced, Revoked, OnHold, IssuerRevoked}},
	{Expiring, "It serves, and ends soon.", []State{Expired, Replaced, Revoked, OnHold, IssuerRevoked}},
	{Prepared, "It waits for a switch day.", []State{Valid, Expiring, Revoked, OnHold, IssuerRevoked}},
	{Replaced, "Another was signed in its place. It is accepted until its end.",
		[]State{Expired, Revoked, OnHold, IssuerRevoked, Valid, Expiring}},
	{OnHold, "It is revoked for now, and can be released.", []State{Valid, Expiring, Expired, Replaced, Prepared,
		Revoked}},
	{IssuerRevoked, "An authority above it was revoked.", []State{Expired, Revoked}},
	{Revoked, "It is revoked for good.", nil},
	{Expired, "Its last moment has passed.", []State{Revoked}},
}

// States are all states of a certificate.
func States() []State {
	return []State{Valid, Expiring, Expired, Replaced, Prepared, Revoked, OnHold, IssuerRevoked}
}

// StateWords are all states of a certificate, as words.
func StateWords() []string {
	var out []string
	for _, s := range States() {
		out = append(out, string(s))
	}
	return out
}

// RequestStateWords are all states of a request, as words.
func RequestStateWords() []string {
	var out []string
	for _, r := range requestStates {
		out = append(out, string(r.state))
	}
	return out
}

// Serves reports whether a certificate in this state is one that servers should show today.
func (s State) Serves() bool { return s == Valid || s == Expiring }

// Rejected reports whether clients refuse a certificate in this state because it, or an authority above it, was
// revoked, for now or permanently.
func (s State) Rejected() bool { return s == Revoked || s == OnHold || s == IssuerRevoked }

// Reference writes the tables as the page docs/states.md.
func Reference() string {
	var b strings.Builder
	b.WriteString("# States\n\nThe program writes this page from its own tables. Do not edit it.\n\n## " +
		"Requests\n\nEvery request begins as `waiting`.\n\n| state | meaning | what can follow |\n|---|---|---|\n")
	for _, r := range requestStates {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", r.state, r.meaning, words(r.next))
	}
	b.WriteString("\n## Certificates\n\nThe state is computed from the dates and the records whenever it is " +
		"shown.\n\n| state | meaning | what can follow |\n|---|---|---|\n")
	for _, r := range certificateStates {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", r.state, r.meaning, words(r.next))
	}
	return b.String()
}

func words[T ~string](list []T) string {
	var out []string
	for _, s := range list {
		out = append(out, "`"+string(s)+"`")
	}
	if len(out) == 0 {
		return "nothing"
	}
	return strings.Join(out, ", ")
}
