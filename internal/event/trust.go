package event

import (
	"time"

	"ironseal/pki/finding"
	"ironseal/pki/kit"
	"ironseal/pki/trust"
)

// PartyKept records that a party is on record, or was changed. The object is its name.
type PartyKept struct {
	v1
	trust.Party
}

// PartyRemoved records that a party is on record no more. The object is its name.
type PartyRemoved struct{ v1 }

// EndpointObserved records that an endpoint was probed. The object is the endpoint.
type EndpointObserved struct {
	v1
	Trusted bool   `json:"trusted"`
	Set     string `json:"set"`
	Serial  string `json:"serial"`
	SHA256  string `json:"sha256"` // of the certificate that was served; empty where nothing was
	Proven  bool   `json:"proven"` // whether the endpoint proved that it has the key
	Why     string `json:"why"`    // the first thing that was wrong
}

// RootsConfirmed records that someone, or a look at an endpoint, tells which roots a party holds. The object is the
// party.
type RootsConfirmed struct {
	v1
	Authority string   `json:"authority"`
	Endpoint  string   `json:"endpoint,omitempty"`
	SHA256    []string `json:"sha256"`
	Missing   []string `json:"missing,omitempty"`
	Why       string   `json:"why"`
}

// RootsReported records that a machine reported what its store holds. The object is the machine.
type RootsReported struct {
	v1
	Platform string    `json:"platform"`
	Store    string    `json:"store"`
	Done     string    `json:"act"`
	SHA256   []string  `json:"sha256"`
	Missing  []string  `json:"missing"`
	When     time.Time `json:"when"`
}

// Report is the report of a machine.
func (e RootsReported) Report(host string) kit.Report {
	return kit.Report{Host: host, Platform: e.Platform, Store: e.Store, Act: e.Done, SHA256: e.SHA256,
		Missing: e.Missing, When: e.When}
}

// RootsInstalled records that roots were installed on this machine. The object is the trust set.
type RootsInstalled struct {
	v1
	Platforms    []string `json:"platforms"`
	Certificates []string `json:"certificates"`
}

// RootsRemoved records that roots were removed from this machine. The object is the trust set.
type RootsRemoved struct {
	v1
	Platforms    []string `json:"platforms"`
	Certificates []string `json:"certificates"`
}

// SetCreated records that a trust set was made. The object is its name.
type SetCreated struct {
	v1
	Title string `json:"title"`
}

// SetExtended records that anchors were added to a trust set. The object is its name.
type SetExtended struct {
	v1
	Certificates []string `json:"certificates"`
	Waived       Waivers  `json:"waived"`
}

// SetReduced records that anchors were removed from a trust set. The object is its name.
type SetReduced struct {
	v1
	Certificates []string `json:"certificates"`
}

// KitPacked records that a kit was packed. The object is the trust set.
type KitPacked struct {
	v1
	Platform string           `json:"platform"`
	Party    string           `json:"party,omitempty"` // that takes it
	Sums     string           `json:"sums"`            // SHA-256 of the list of hashes
	Waived   []finding.Waiver `json:"waived"`
}

// Moved is a party whose trust sets changed.
type Moved struct {
	Party  string   `json:"party"`
	Before []string `json:"before"`
	After  []string `json:"after"`
}

// ChangeOverPlanned records that parties of one trust set will hold another. The object is the earlier set.
type ChangeOverPlanned struct {
	v1
	To  string    `json:"to"`
	Day time.Time `json:"day"`
}

// ChangeOverSwitched records that they hold it now. The object is the earlier set.
type ChangeOverSwitched struct {
	v1
	To      string    `json:"to"`
	Day     time.Time `json:"day"`
	Parties []string  `json:"parties"`
	Moved   []Moved   `json:"moved"` // earlier versions tell the names alone
	Waived  Waivers   `json:"waived"`
}

// ChangeOverCancelled records that the plan, or the change, was undone. The object is the earlier set.
type ChangeOverCancelled struct {
	v1
	Parties []string `json:"parties"`
}

// Act implements Event.
func (PartyKept) Act() string           { return "keep party" }
func (PartyRemoved) Act() string        { return "remove party" }
func (EndpointObserved) Act() string    { return "see endpoint" }
func (RootsConfirmed) Act() string      { return "confirm roots" }
func (RootsReported) Act() string       { return "report roots" }
func (RootsInstalled) Act() string      { return "install roots here" }
func (RootsRemoved) Act() string        { return "remove roots here" }
func (SetCreated) Act() string          { return "create trust set" }
func (SetExtended) Act() string         { return "add to trust set" }
func (SetReduced) Act() string          { return "drop from trust set" }
func (KitPacked) Act() string           { return "pack kit" }
func (ChangeOverPlanned) Act() string   { return "plan change-over" }
func (ChangeOverSwitched) Act() string  { return "switch change-over" }
func (ChangeOverCancelled) Act() string { return "take back change-over" }

var trustKinds = []maker{
	func() Event { return &PartyKept{} }, func() Event { return &PartyRemoved{} },
	func() Event { return &EndpointObserved{} }, func() Event { return &RootsConfirmed{} },
	func() Event { return &RootsReported{} }, func() Event { return &RootsInstalled{} },
	func() Event { return &RootsRemoved{} }, func() Event { return &SetCreated{} },
	func() Event { return &SetExtended{} }, func() Event { return &SetReduced{} },
	func() Event { return &KitPacked{} }, func() Event { return &ChangeOverPlanned{} },
	func() Event { return &ChangeOverSwitched{} }, func() Event { return &ChangeOverCancelled{} },
}
