package event

import (
	"time"

	"ironseal/pki/revocation"
)

// Revoked records that certificates were revoked. The object names them.
type Revoked struct {
	v1
	Revoked []RevokedCertificate `json:"revoked"`
	Because string               `json:"because"`
	Reason  string               `json:"reason"`
	Waived  Waivers              `json:"waived,omitempty"`
}

// RevokedCertificate is one certificate of a revocation.
type RevokedCertificate struct {
	Certificate string `json:"certificate"` // SHA-256; empty for one that is not on record
	By          string `json:"by"`          // the authority
	Serial      string `json:"serial"`
	At          string `json:"at"`
	Reason      int    `json:"reason"`
	Ends        int64  `json:"ends"` // Unix seconds; 0 where it is not known
	Part        int    `json:"part"`
	Invalid     string `json:"invalid,omitempty"`
	Was         string `json:"was,omitempty"` // what was on record of it before
}

// Released records that certificates that were on hold are valid again. The object names them.
type Released struct {
	v1
	Released []RevokedCertificate `json:"released"`
	Because  string               `json:"because"`
}

// RevokeLater records that a certificate is to be revoked once another is in use. The object is its title.
type RevokeLater struct {
	v1
	Serial      string `json:"serial"`
	Certificate string `json:"certificate"`
	After       string `json:"after"` // a span
}

// ListNumber is the number of an authority's newest list, and of the one before.
type ListNumber struct {
	By     string `json:"by"`
	After  int64  `json:"after"`
	Number int64  `json:"number"`
}

// List is one revocation list that was signed, or is to be.
type List struct {
	List          string    `json:"list" doc:"the generation whose key signs it"`
	Part          int       `json:"part" doc:"the part of the generation's certificates that it is about; 0: all"`
	Delta         bool      `json:"delta" doc:"whether it tells only what changed since its base"`
	Number        int64     `json:"number" doc:"its number"`
	Base          int64     `json:"base" doc:"of a delta, the number of the list that it adds to; 0: of none"`
	This          time.Time `json:"this_update" doc:"its date"`
	Next          time.Time `json:"next_update" doc:"when its successor is there at the latest"`
	Entries       int       `json:"entries" doc:"how many certificates stand on it"`
	ContentDigest string    `json:"seal" doc:"BLAKE2b-256 of it, with that of its entries in the place of the entries"`
	SHA256        string    `json:"sha256,omitempty" doc:"of a list that was signed before there were such digests, SHA-256 of it"`

	Through int64     `json:"through" doc:"the last revocation on record that it tells of"`
	Gone    time.Time `json:"gone" doc:"the last release from hold on record that it knows of"`
	Proof   string    `json:"proof" doc:"hash of its entries, from which its successor is made"`
	Mark    string    `json:"mark" doc:"the mark that names its file in the estate"`
	Cut     int64     `json:"cut" doc:"what ended before this moment (Unix seconds) was left out"`
	Over    bool      `json:"over,omitempty" doc:"whether it stands for all before: it revokes more"`
	Aside   bool      `json:"aside,omitempty" doc:"whether it is on record only and is never served"`
	Seq     int64     `json:"-"` // the entry that tells of it
}

// Scope is what a list is about, apart from its time.
type Scope struct {
	List  string // the generation whose key signs it
	Part  int
	Delta bool
}

// Scope is what the list is about.
func (l List) Scope() Scope { return Scope{l.List, l.Part, l.Delta} }

// Title is what a list is called: the file under which it is served.
func (l List) Title() string {
	if l.Delta {
		return revocation.DeltaFile(l.List)
	}
	return revocation.ListFile(l.List, l.Part)
}

// ListsSigned records that lists were signed.
type ListsSigned struct {
	v1
	Authorities []ListNumber `json:"authorities"`
	Lists       []List       `json:"lists"`
}

// ListsImported records that lists that were signed elsewhere came here.
type ListsImported struct {
	v1
	Lists       []List       `json:"lists"`
	Authorities []ListNumber `json:"authorities"`
}

// PlacedList is a list in a folder.
type PlacedList struct {
	List   string `json:"list"`
	Part   int    `json:"part"`
	Delta  bool   `json:"delta"`
	Number int64  `json:"number"`
}

// Scope is what the list is about.
func (l PlacedList) Scope() Scope { return Scope{l.List, l.Part, l.Delta} }

// ListsPlaced records that lists were written into a folder that is served. The object is the folder.
type ListsPlaced struct {
	v1
	Lists []PlacedList `json:"lists"`
}

// IncidentOpened records that a key may be compromised. The object is the incident's name.
type IncidentOpened struct {
	v1
	About       string   `json:"about"`
	Serial      string   `json:"serial"`
	Authority   bool     `json:"ca"`
	Certificate string   `json:"certificate"`
	Key         string   `json:"key"`
	Because     string   `json:"because"`
	Stopped     []string `json:"stopped"` // generations that grant nothing for now
}

// IncidentClosed records that an incident is over. The object is its name.
type IncidentClosed struct {
	v1
	Because    string   `json:"because"`
	Left       []string `json:"left"`        // steps that were not done
	FalseAlarm *bool    `json:"false alarm"` // earlier versions do not say it, and tell what grants again
	GrantAgain []string `json:"grant again"`
}

// WasFalseAlarm reports whether the incident was a false alarm.
func (e IncidentClosed) WasFalseAlarm() bool {
	if e.FalseAlarm == nil {
		return len(e.GrantAgain) > 0
	}
	return *e.FalseAlarm
}

// Act implements Event.
func (Revoked) Act() string        { return "revoke" }
func (Released) Act() string       { return "unhold" }
func (RevokeLater) Act() string    { return "revoke later" }
func (ListsSigned) Act() string    { return "publish lists" }
func (ListsImported) Act() string  { return "import list" }
func (ListsPlaced) Act() string    { return "put lists in place" }
func (IncidentOpened) Act() string { return "open incident" }
func (IncidentClosed) Act() string { return "close incident" }

var revocationKinds = []maker{
	func() Event { return &Revoked{} }, func() Event { return &Released{} }, func() Event { return &RevokeLater{} },
	func() Event { return &ListsSigned{} }, func() Event { return &ListsImported{} },
	func() Event { return &ListsPlaced{} }, func() Event { return &IncidentOpened{} },
	func() Event { return &IncidentClosed{} },
}
