package event

import "time"

// CodeMade records that a code was made, by which machines enrol. The object is its name.
type CodeMade struct {
	v1
	Digest   string    `json:"digest"`   // SHA-256 of the code, in hex
	Template string    `json:"template"` // by which it lets machines enrol
	Names    []string  `json:"names"`    // trees of names that may be asked for
	Count    int       `json:"count"`    // how many machines
	Until    time.Time `json:"until"`
}

// CodeEnded records that a code holds no more. The object is its name.
type CodeEnded struct {
	v1
	Because string `json:"because"`
}

// Enrolled records that a request came from a machine by an enrolment protocol. The object is the request's number.
type Enrolled struct {
	v1
	By       string `json:"by"` // the protocol
	Template string `json:"template"`
	Code     string `json:"code,omitempty"`   // the name of the code
	Nth      int    `json:"nth,omitempty"`    // of the machines by this code
	Renews   string `json:"renews,omitempty"` // the serial of the certificate by which the machine was known
}

// SigningGranted records that a request is signed without a person, before it is. The object is the request's number.
type SigningGranted struct {
	v1
	Template string `json:"template"`
	Day      string `json:"day"` // in UTC
	Nth      int    `json:"nth"` // by this template on this day
	Sheet    string `json:"sheet"`
}

// Act implements Event.
func (CodeMade) Act() string       { return "make code" }
func (CodeEnded) Act() string      { return "end code" }
func (Enrolled) Act() string       { return "enrol" }
func (SigningGranted) Act() string { return "grant signing" }

var _ = add(func() Event { return &CodeMade{} }, func() Event { return &CodeEnded{} },
	func() Event { return &Enrolled{} }, func() Event { return &SigningGranted{} })
