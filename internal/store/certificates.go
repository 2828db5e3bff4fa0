package store

import (
	"cmp"
	"context"
	"math"
	"slices"
	"strings"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/finding"
)

// Certificate is a certificate on record.
type Certificate struct {
	ID       int64
	DER      []byte
	Title    string
	Request  int64  // 0 when it came from no request
	Template string // the template's name at signing
	Source   []byte // the template as it was at signing
	Standing
	Replaces int64 // the certificate in whose place it was signed; 0 for none
	Part     int   // the part of its issuer's revocation lists that it is on; 0: the whole
}

// Standing is what the records say of a certificate's state.
type Standing struct {
	Issuer   string    // the issuing generation, such as "services.g1"; "" where none of ours signed it
	Prepared bool      // it waits for a switch day
	Replaced bool      // another was signed in its place
	Reason   int       // why it was revoked (RFC 5280 section 5.3.1); -1 where it was not
	Until    time.Time // its last moment, to the second
}

// Line is a certificate on record as lists and daily questions want it: from columns, without the certificate itself.
type Line struct {
	ID            int64
	Serial, Title string
	Request       int64  // 0 when it came from no request
	Template      string // the template's name at signing
	Standing
	Brief
}

// LineAsk says of which certificates lines are asked for; an empty field lets all through.
type LineAsk struct {
	Text     string    // in the title or in one of the names
	Key      string    // the first digits of the fingerprint of the key, in hex
	From, To time.Time // when they end, both included
	Ends     bool      // From and To count
	Leaves   bool      // no generations of authorities, and no links
	Serving  bool      // nothing was signed in their place, they are not revoked, and wait for no switch day
	After    int64     // those behind this one in the order of lists, by its place on record; 0 for all
	Limit    int       // 0 for all
	Names    bool      // the alternative names are needed
}

// NewCertificate is what is recorded with a new certificate.
type NewCertificate struct {
	Certificate    *cert.Certificate
	Columns        *Columns // of the certificate; worked out where it is nil
	Issuer         int64    // generation id; 0 for a root
	Request        int64    // 0 when it came from no request
	TemplateName   string
	TemplateSHA    [32]byte
	TemplateSource []byte
	Sheet          [32]byte
	SwitchDay      time.Time // the switch day that it waits for; zero for none
	Replaces       int64     // the certificate in whose place it is; 0 for none
	Part           int       // of its issuer's lists
	Waived         finding.List
}

// ServingCertificate is a certificate that serves a name.
type ServingCertificate struct {
	ID        int64
	Name      string // the one that was asked for
	Title     string
	Serial    string // in hex
	NotBefore time.Time
	Key       [32]byte // its fingerprint
	Request   int64
	Sender    string // who sent its request; "" where no one is known
}

// OnePerCertificate leaves one row of each certificate, that of its first name; and not more than MostServing.
func OnePerCertificate(list []ServingCertificate) []ServingCertificate {
	slices.SortStableFunc(list, func(a, b ServingCertificate) int {
		return cmp.Or(cmp.Compare(a.ID, b.ID), strings.Compare(a.Name, b.Name))
	})
	list = slices.CompactFunc(list, func(a, b ServingCertificate) bool { return a.ID == b.ID })
	return list[:min(len(list), MostServing)]
}

// MostServing is how many certificates of one name are looked at.
const MostServing = 20

// Counts are how many records of each kind there are. Certificates of authorities
// and links are not counted among the certificates.
type Counts struct {
	Authorities  int `json:"authorities"`
	Waiting      int `json:"waiting"`
	Requests     int `json:"requests"`
	Certificates int `json:"certificates"`
}

// TemplateUse is a template by which a generation signed something.
type TemplateUse struct {
	Generation, Template string
	Source               []byte
}

// GenerationCount says how many certificates that serve were signed by a generation that another
// has followed. What was revoked serves no more; what was signed by a template for no request
// was for one use of the program itself, and is never renewed.
type GenerationCount struct {
	Generation   string `json:"generation"`
	Certificates int    `json:"certificates"`
}

// NoLimit asks for all of a list, however long.
const NoLimit = math.MaxInt

// CertificatesReader answers questions about certificates.
type CertificatesReader interface {
	// Certificates lists all certificates, in the order in which they were signed.
	Certificates(ctx context.Context) ([]Certificate, error)
	// EachCertificate calls fn for every certificate that has a text in its title or in one
	// of its names, soonest end first; "" is in all. They are read as they are asked for,
	// however many there are.
	EachCertificate(ctx context.Context, text string, fn func(Certificate) error) error
	// EachLine calls fn for the lines that are asked for, soonest end first, as they are read.
	EachLine(ctx context.Context, ask LineAsk, fn func(*Line) error) error
	// Ending lists the certificates of end entities that serve and end between two
	// moments, soonest first: nothing was signed in their place, they are not revoked,
	// and wait for no switch day.
	Ending(ctx context.Context, from, to time.Time, limit int) ([]Certificate, error)
	// AuthoritiesByTemplates lists the certificates of authorities that were signed by templates with these
	// hashes and that serve, generations of our own authorities left out.
	AuthoritiesByTemplates(ctx context.Context, sums [][]byte) ([]Certificate, error)
	// CertificatesBySerial finds certificates by the first digits of their serial; one
	// whose serial is no more than that is meant before longer ones.
	CertificatesBySerial(ctx context.Context, prefix string) ([]Certificate, error)
	// CertificateByID finds a certificate by its place on record.
	CertificateByID(ctx context.Context, id int64) ([]Certificate, error)
	// CertificatesByRequest finds the certificates that came from a request.
	CertificatesByRequest(ctx context.Context, number int64) ([]Certificate, error)
	// CertificatesOf lists what a generation of an authority signed.
	CertificatesOf(ctx context.Context, handle string, generation int) ([]Certificate, error)
	// CertificatesByKey finds certificates by the fingerprint of their key, the newest first, up to a
	// number of them or NoLimit.
	CertificatesByKey(ctx context.Context, key [32]byte, limit int) ([]Certificate, error)
	// CertificatesByName finds certificates by an alternative name.
	CertificatesByName(ctx context.Context, name string) ([]Certificate, error)
	// CertificatesByTitle finds certificates by their title: the common name, or what lists show instead. Case
	// does not count.
	CertificatesByTitle(ctx context.Context, title string) ([]Certificate, error)
	// LatestCertificate is the number of the newest certificate on record; 0 for none.
	LatestCertificate(ctx context.Context) (id int64, err error)
	// ServingByNames finds certificates that serve one of some names for another key than this one: neither ended,
	// replaced nor revoked, no authority's, and not the one that is named. A certificate of several of the names
	// is in the list once for each. The list has at most MostServing times as many as there are names.
	ServingByNames(ctx context.Context, names []string, key [32]byte, now time.Time,
		but int64) (out []ServingCertificate, err error)
	// ServingOfNames finds, for each of many names, the certificates behind one that serve it, whatever their keys: by
	// their places on record. Where there are more than it tells, all is false.
	ServingOfNames(ctx context.Context, names []string, now time.Time, behind int64) (out []ServingCertificate,
		all bool,
		err error)
	// HoldersAmong tells who is known to hold certificates, by their places on record.
	HoldersAmong(ctx context.Context, certificates []int64) (map[int64][]string, error)
	// CertificatesHeldBy finds the certificates of which someone is a holder (see Holders).
	CertificatesHeldBy(ctx context.Context, who string) ([]Certificate, error)
	// CertificateOf finds the certificate of an authority's generation.
	CertificateOf(ctx context.Context, handle string, generation int) (Certificate, error)
	// KeysSeen tells, for every waiting request whose key is in certificates already,
	// their subjects, the earliest first.
	KeysSeen(ctx context.Context) (map[int64][]string, error)
	// Chain returns the recorded chain above such a certificate, its issuer first.
	Chain(ctx context.Context, certificate int64) ([][]byte, error)
	// CountSuperseded counts, by generation, the certificates that serve and that a generation signed which another
	// has followed.
	CountSuperseded(ctx context.Context, now time.Time) ([]GenerationCount, error)
	// CountCurrent counts the certificates that have not ended, were not replaced and were not revoked themselves, by
	// the generation that signed them.
	CountCurrent(ctx context.Context, now time.Time) ([]GenerationCount, error)
	// ServingGenerations names the generations that certificates which serve today were signed by.
	ServingGenerations(ctx context.Context, now time.Time) (out []string, err error)
	// CountIssued counts what a generation signed, by its name.
	CountIssued(ctx context.Context, generation string) (n int, err error)
	// LastPart is the last part of a generation's lists that anything it signed is on; 0 for none.
	LastPart(ctx context.Context, generation string) (part int, err error)
	// TemplatesUsed lists the templates by which each generation signed something.
	TemplatesUsed(ctx context.Context) (out []TemplateUse, err error)
	// EachTemplate calls fn for every state of a template that something was signed by.
	EachTemplate(ctx context.Context, fn func(sum []byte, name string, source []byte)) error
	// HandedTo tells to whom a certificate was handed over.
	HandedTo(ctx context.Context, certificate int64) (out []string, err error)
}

// CertificatesWriter records changes of certificates.
type CertificatesWriter interface {
	// AddCertificate records one certificate and its names.
	AddCertificate(n NewCertificate) (int64, error)
	// AddCertificates records certificates and their names, and returns the
	// identifier of the last.
	AddCertificates(list []NewCertificate) (last int64, err error)
	// AddChain records the chain above a certificate that an outside authority signed.
	AddChain(certificate int64, chain [][]byte) error
}
