package event

import (
	"encoding/json"
	"strings"

	"ironseal/pki/journal"
)

// EstateCreated records that the estate was made. The object is "estate" or "rehearsal".
type EstateCreated struct {
	v1
	Organisation string `json:"organisation"`
	ID           string `json:"id"`
}

// DataFileCopied records that a template, receiver or platform was copied. The object is the copy's name.
type DataFileCopied struct {
	v1
	Kind string `json:"-"` // template, receiver, platform or set; a part of the act's name
	From string `json:"from"`
}

// IssuerAllowed records that an authority may sign by a template. The object is the template.
type IssuerAllowed struct {
	v1
	Issuer string `json:"issuer"`
}

// BackedUp records that a backup was made.
type BackedUp struct {
	v1
	Head  string `json:"head"`
	Files int    `json:"files"`
}

// Restored records that the estate was restored from a backup.
type Restored struct {
	v1
	Backup      string `json:"backup"` // the journal's head in it
	Made        string `json:"made"`
	NextRequest int64  `json:"next request"`
}

// RehearsedGeneration is a generation in a rehearsal.
type RehearsedGeneration struct {
	Imported
	SwitchDay string `json:"switch_day,omitempty"`
	Retired   string `json:"retired,omitempty"`
}

// Rehearsed records that a rehearsal of an estate was made.
type Rehearsed struct {
	v1
	Authorities int                   `json:"authorities"`
	Generations []RehearsedGeneration `json:"generations"`
	Links       Sums                  `json:"links"`
}

// ClockSettled records that entries before this one were dated by a clock that was ahead.
type ClockSettled struct {
	v1
	Because string `json:"because"`
	Ahead   string `json:"ahead"` // the latest time on record
}

// KeyMovedAside records that a key file that no record names was moved aside. The object is the file.
type KeyMovedAside struct{ v1 }

// TransferPacked records that a folder for another estate was packed.
type TransferPacked struct {
	v1
	ID        string  `json:"id"`
	Kind      string  `json:"kind"`
	Files     int     `json:"files"`
	CheckCode string  `json:"check code"`
	Requests  []int64 `json:"requests"` // earlier versions do not say it
}

// TransferOpened records that a folder from another estate was imported.
type TransferOpened struct {
	v1
	ID        string  `json:"id"`
	Kind      string  `json:"kind"`
	From      string  `json:"from"`
	CheckCode string  `json:"check code"`
	What      *string `json:"what"` // what it brought; earlier versions do not say it

	Approved []string `json:"approved,omitempty"` // who approved it over there and is known here
}

// TransferApproved records that an operator agrees to what a transfer folder holds.
type TransferApproved struct {
	v1
	ID        string `json:"id"`
	CheckCode string `json:"check code"`
	Digest    string `json:"digest"`    // of its manifest, SHA-256 in hex
	Signature string `json:"signature"` // in the form of SSH, in base 64
}

// FlawFound records that something is known against a key. The object is the key's fingerprint.
type FlawFound struct {
	v1
	Code    string `json:"code"`
	Message string `json:"message"`
}

// fromText reads what earlier versions wrote: the code, a colon and the message.
func (e *FlawFound) fromText(detail string) bool {
	if json.Valid([]byte(detail)) {
		return false
	}
	e.Code, e.Message, _ = strings.Cut(detail, ": ")
	return true
}

// RecordsMoved records that the records are kept elsewhere from now on. It is the last entry where they were, and the
// newest where they are when they begin there.
type RecordsMoved struct {
	v1
	From string `json:"from"`
	To   string `json:"to"`
}

// RecordsStayed records that they are not, since they could not be copied.
type RecordsStayed struct {
	v1
	To string `json:"to"`
}

// RecordsUpgraded records that the records were brought to a newer form.
type RecordsUpgraded struct {
	v1
	From string `json:"from"`
	To   string `json:"to"`
}

// fromText reads what earlier versions wrote, a sentence.
func (e *RecordsUpgraded) fromText(detail string) bool {
	rest, ok := strings.CutPrefix(detail, "from form ")
	if ok {
		e.From, e.To, _ = strings.Cut(rest, " to form ")
	}
	return ok
}

// Act implements Event.
func (EstateCreated) Act() string    { return "create" }
func (e DataFileCopied) Act() string { return "copy " + e.Kind }
func (IssuerAllowed) Act() string    { return "allow issuer" }
func (BackedUp) Act() string         { return "backup" }
func (Restored) Act() string         { return "restore" }
func (Rehearsed) Act() string        { return "rehearse" }
func (ClockSettled) Act() string     { return journal.ClockAct }
func (KeyMovedAside) Act() string    { return "move key aside" }
func (TransferPacked) Act() string   { return "pack" }
func (TransferOpened) Act() string   { return "open" }
func (TransferApproved) Act() string { return "approve transfer" }
func (FlawFound) Act() string        { return "flaw" }
func (RecordsUpgraded) Act() string  { return "take up" }
func (RecordsMoved) Act() string     { return "move records" }
func (RecordsStayed) Act() string    { return "keep records" }

var estateKinds = []maker{
	func() Event { return &EstateCreated{} }, func() Event { return &IssuerAllowed{} },
	func() Event { return &BackedUp{} }, func() Event { return &Restored{} }, func() Event { return &Rehearsed{} },
	func() Event { return &ClockSettled{} }, func() Event { return &KeyMovedAside{} },
	func() Event { return &TransferPacked{} }, func() Event { return &TransferOpened{} },
	func() Event { return &TransferApproved{} }, func() Event { return &FlawFound{} },
	func() Event { return &RecordsUpgraded{} }, func() Event { return &RecordsMoved{} },
	func() Event { return &RecordsStayed{} }, func() Event { return &DataFileCopied{Kind: "template"} },
	func() Event { return &DataFileCopied{Kind: "receiver"} }, func() Event { return &DataFileCopied{Kind: "set"} },
	func() Event { return &DataFileCopied{Kind: "platform"} },
}
