package event

import "time"

// CodeMade records that a credential was made, by which machines enrol. The object is its name.
type CodeMade struct {
	v1
	Digest   string    `json:"digest"`           // SHA-256 of the code, in hex; of the secret, for accounts
	KeyID    string    `json:"key_id,omitempty"` // for ACME accounts: the key identifier; empty for a code
	Template string    `json:"template"`         // by which it lets machines enrol
	Names    []string  `json:"names"`            // trees of names that may be asked for
	Count    int       `json:"count"`            // how many machines
	Until    time.Time `json:"until"`
	Party    string    `json:"party,omitempty"` // whose machines they are
}

// CodeEnded records that a credential holds no more. The object is its name.
type CodeEnded struct {
	v1
	Because string `json:"because"`
}

// Enrolled records that a request came from a machine by an enrolment protocol. The object is the request's number.
type Enrolled struct {
	v1
	By       string `json:"by"` // the protocol
	Template string `json:"template"`
	Code     string `json:"code,omitempty"`        // the name of the code
	Nth      int    `json:"nth,omitempty"`         // of the machines by this code
	Renews   string `json:"renews,omitempty"`      // the serial of the certificate by which the machine was known
	Account  string `json:"account,omitempty"`     // of ACME
	Order    string `json:"order,omitempty"`       // of ACME
	ID       string `json:"transaction,omitempty"` // the transaction of SCEP
}

// SigningGranted records that a request is signed without a person, before it is. The object is the request's number.
type SigningGranted struct {
	v1
	Template string `json:"template"`
	Day      string `json:"day"` // in UTC
	Nth      int    `json:"nth"` // by this template on this day
	Sheet    string `json:"sheet"`
}

// PersonDecides records why a machine's request waits for a person. The object is the request's number.
type PersonDecides struct {
	v1
	Why []string `json:"why"`
}

// AccountKept records an ACME account as it is from now on. The object is its identifier.
type AccountKept struct {
	v1
	Thumbprint string   `json:"thumbprint"` // of its key (RFC 7638)
	Key        string   `json:"key"`        // the public key, as a JSON Web Key
	Template   string   `json:"template"`
	Code       string   `json:"code,omitempty"`  // the name of the credential that it registered with
	Nth        int      `json:"nth,omitempty"`   // of the accounts by this credential
	Names      []string `json:"names,omitempty"` // trees of names that may be ordered; none: any
	Party      string   `json:"party,omitempty"`
	Contacts   []string `json:"contacts,omitempty"`
	Change     bool     `json:"change,omitempty"` // of an account that was registered before
}

// AccountEnded records that an ACME account holds no more. The object is its identifier.
type AccountEnded struct {
	v1
	Because string `json:"because"`
}

// OrderMade records that an ACME account ordered a certificate. The object is the order's identifier.
type OrderMade struct {
	v1
	Account  string    `json:"account"`
	Template string    `json:"template"`
	Names    []string  `json:"names"`            // with their kinds
	Seed     string    `json:"seed"`             // from which the tokens of its challenges are made
	Held     []int     `json:"held,omitempty"`   // of the names, that need no challenge
	Renews   string    `json:"renews,omitempty"` // the serial of the certificate that it is in place of
	Before   string    `json:"before,omitempty"` // the order of the account before it
	Day      string    `json:"day"`              // in UTC
	Nth      int       `json:"nth"`              // of the account on this day
	Until    time.Time `json:"until"`
}

// ChallengeTried records the outcome of a challenge. The object is the order's identifier, a dot, and the name's
// number.
type ChallengeTried struct {
	v1
	Name   string `json:"name"`
	Method string `json:"method"`
	Kind   string `json:"kind,omitempty"` // of the problem; empty where control of the name was proven
	Why    string `json:"why,omitempty"`
}

// Act implements Event.
func (CodeMade) Act() string       { return "make code" }
func (CodeEnded) Act() string      { return "end code" }
func (Enrolled) Act() string       { return "enrol" }
func (SigningGranted) Act() string { return "grant signing" }
func (PersonDecides) Act() string  { return "wait for a person" }
func (AccountKept) Act() string    { return "keep account" }
func (AccountEnded) Act() string   { return "end account" }
func (OrderMade) Act() string      { return "order" }
func (ChallengeTried) Act() string { return "challenge" }

var enrolKinds = []maker{
	func() Event { return &CodeMade{} }, func() Event { return &CodeEnded{} }, func() Event { return &Enrolled{} },
	func() Event { return &SigningGranted{} }, func() Event { return &PersonDecides{} },
	func() Event { return &AccountKept{} }, func() Event { return &AccountEnded{} },
	func() Event { return &OrderMade{} }, func() Event { return &ChallengeTried{} },
}
