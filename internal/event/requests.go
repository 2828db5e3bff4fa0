package event

import (
	"fmt"
	"slices"
)

// Received records that a request was received. The object is its number. Where many come at once, an entry tells of
// several, and its object says so.
type Received struct {
	SHA256 string            `json:"sha256"` // of the request
	Title  string            `json:"title"`
	From   string            `json:"from"` // who sent it
	Source string            `json:"source"`
	Number string            `json:"number,omitempty"` // that of the first of several
	Others []ReceivedRequest `json:"others,omitempty"` // those behind it, from the same sender
}

// ReceivedRequest is one request that was received.
type ReceivedRequest struct {
	Number string `json:"number"`
	SHA256 string `json:"sha256"`
	Title  string `json:"title"`
	Source string `json:"source"`
}

// Version implements Event. Earlier versions of the program told of one request alone.
func (r Received) Version() int {
	if len(r.Others) > 0 {
		return 2
	}
	return 1
}

// mostTogether is the most requests that one entry tells of.
const mostTogether = 250

// ReceivedOf are the records of requests that came from one sender.
func ReceivedOf(list []ReceivedRequest, from string) (out []Record) {
	for some := range slices.Chunk(list, mostTogether) {
		one := some[0]
		r := Received{SHA256: one.SHA256, Title: one.Title, From: from, Source: one.Source}
		if len(some) > 1 {
			r.Number, r.Others = one.Number, some[1:]
		}
		out = append(out, On(severalOf(one.Number, len(some)), r))
	}
	return out
}

// severalOf is the object of an entry that tells of several requests.
func severalOf(first string, n int) string {
	if n == 1 {
		return first
	}
	return fmt.Sprintf("%s and %d more", first, n-1)
}

// Each calls fn for each request of an entry with this object.
func (r *Received) Each(object string, fn func(ReceivedRequest)) {
	if r.Number != "" {
		object = r.Number
	}
	fn(ReceivedRequest{object, r.SHA256, r.Title, r.Source})
	for _, o := range r.Others {
		fn(o)
	}
}

// Declined records that a request was declined. The object is its number.
type Declined struct {
	v1
	Because string `json:"because"`
}

// Withdrawn records that a request was withdrawn. The object is its number.
type Withdrawn struct {
	v1
	Because     string `json:"because"`
	KeyKept     string `json:"key kept,omitempty"` // the file of a draft's key that stays
	Key         string `json:"key,omitempty"`
	ToBeRemoved string `json:"key to be destroyed,omitempty"`
	Destroyed   string `json:"key_destroyed,omitempty"` // as earlier versions told it
}

// DraftKeyDestroyed records that the key of a draft was destroyed, or was gone. The object is the request's number.
type DraftKeyDestroyed struct {
	v1
	File      string `json:"file"`
	Destroyed bool   `json:"destroyed"`
	Key       string `json:"key"`
}

// Drafted records that a request was drafted here. The object is its title.
type Drafted struct {
	v1
	SHA256    string  `json:"sha256"`
	Key       string  `json:"key"`
	File      *string `json:"file"` // earlier versions do not say it
	Encrypted bool    `json:"sealed"`
}

// DraftKeyEncrypted records that the key file of a draft got a passphrase. The object is the request's number.
type DraftKeyEncrypted struct {
	v1
	File string `json:"file"`
	Key  string `json:"key"`
}

// Signed records that certificates were signed and recorded in one commit. The object is the first request.
type Signed struct {
	v1
	Signed []SignedCertificate `json:"signed"`
}

// SignedCertificate is one certificate that was signed.
type SignedCertificate struct {
	Request     string  `json:"request"`
	Certificate string  `json:"certificate"` // SHA-256, in hex
	Serial      string  `json:"serial"`
	Title       string  `json:"title"`
	By          string  `json:"by"` // the generation
	Template    string  `json:"template"`
	Until       string  `json:"until"`
	Sheet       string  `json:"sheet"`              // the digest of the review sheet
	Replaces    int64   `json:"replaces,omitempty"` // the record of the certificate in whose place it is
	SwitchDay   string  `json:"switch_day,omitempty"`
	Waived      Waivers `json:"waived,omitempty"`
}

// HandedOver records that a certificate was handed over. The object is its title.
type HandedOver struct {
	v1
	Certificate string   `json:"certificate"`
	Serial      string   `json:"serial"`
	Receiver    string   `json:"receiver"`
	Holder      string   `json:"holder"`
	Files       []string `json:"files"`
	Waived      Waivers  `json:"waived"`
}

// CertificateImported records that a certificate that another authority signed came here. The object is the request's
// number,
// or the certificate's title.
type CertificateImported struct {
	v1
	By          *string  `json:"by"` // the generation that signed it; earlier versions do not say it
	Chain       []string `json:"chain"`
	Certificate string   `json:"certificate"`
	Serial      string   `json:"serial"`
	Title       string   `json:"title"`
	Issuer      string   `json:"issuer"`
	Waived      Waivers  `json:"waived"`
}

// SignedOf are the records of certificates that were recorded in one commit.
func SignedOf(list []SignedCertificate) (out []Record) {
	for some := range slices.Chunk(list, mostTogether) {
		out = append(out, On(severalOf(some[0].Request, len(some)), Signed{Signed: some}))
	}
	return out
}

// Act implements Event.
func (Received) Act() string            { return "receive" }
func (Declined) Act() string            { return "decline" }
func (Withdrawn) Act() string           { return "withdraw" }
func (DraftKeyDestroyed) Act() string   { return "destroy draft key" }
func (Drafted) Act() string             { return "draft" }
func (DraftKeyEncrypted) Act() string   { return "encrypt draft key" }
func (Signed) Act() string              { return "sign" }
func (HandedOver) Act() string          { return "handover" }
func (CertificateImported) Act() string { return "import certificate" }

var requestKinds = []maker{
	func() Event { return &Received{} }, func() Event { return &Declined{} }, func() Event { return &Withdrawn{} },
	func() Event { return &DraftKeyDestroyed{} }, func() Event { return &Drafted{} },
	func() Event { return &DraftKeyEncrypted{} }, func() Event { return &Signed{} },
	func() Event { return &HandedOver{} }, func() Event { return &CertificateImported{} },
}
