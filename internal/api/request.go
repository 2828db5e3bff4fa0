package api

import (
	"fmt"

	"ironseal/internal/store"
	"ironseal/pki/label"
	"ironseal/pki/lifecycle"
)

// Request is a request in a list; show has more.
type Request struct {
	Name      string                 `json:"request" doc:"its number, such as R7"`
	State     lifecycle.RequestState `json:"state" doc:"waiting, sent, signed, declined, withdrawn"`
	Title     string                 `json:"title" doc:"the first of its names, or its subject"`
	From      string                 `json:"from,omitempty" doc:"who sent it"`
	Received  string                 `json:"received" doc:"when it was received"`
	Reason    string                 `json:"reason,omitempty" doc:"why it was declined"`
	CheckCode string                 `json:"check_code" doc:"the code that its sender can read out"`
	By        string                 `json:"by,omitempty" doc:"the protocol by which a machine sent it: est, acme, scep; absent for others"`
	Waits     []string               `json:"waits,omitempty" doc:"for a machine's request: why it waits for a person"`
	Known     bool                   `json:"known_already,omitempty" doc:"it was on record before"`
}

// RequestOf is a request on record as a row.
func RequestOf(r store.Request) Request {
	return Request{Name: fmt.Sprintf("R%d", r.Number), State: r.State, Title: r.Title, From: r.Sender,
		Received: Time(r.Received), Reason: r.Reason, CheckCode: label.CheckCode(r.DER)}
}
