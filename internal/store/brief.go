package store

import (
	"encoding/json"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/ocsp"
)

// Brief is what lists and daily questions want to know of a certificate. It stands in columns of its own, written when
// the certificate is recorded and compared with it when the estate is checked, so that no list parses certificates.
type Brief struct {
	NotBefore time.Time // its first moment, to the second
	KeyKind   string    // as package key names it
	NameList  string    // the alternative names with their kinds, as a list in JSON; "" for none
	Traits    Traits
}

// Traits are what a certificate is, and in the upper bits how many alternative names it has.
type Traits int64

// The traits.
const (
	TraitAuthority  Traits = 1 << iota // it may sign certificates
	TraitSelfIssued                    // its issuer is its subject
	TraitNoCheck                       // its revocation need not be checked (RFC 6960 section 4.2.2.2.1)

	traitNames = 8 // where the number of names begins, in bits
)

// Has reports whether a trait is there.
func (t Traits) Has(one Traits) bool { return t&one != 0 }

// Names is how many alternative names there are.
func (t Traits) Names() int { return int(t >> traitNames) }

// BriefOf is the brief of a certificate.
func BriefOf(c *cert.Certificate) Brief {
	b := Brief{NotBefore: c.NotBefore, KeyKind: string(c.Key.Kind), Traits: Traits(len(c.Names)) << traitNames}
	for _, t := range [...]struct {
		trait Traits
		has   bool
	}{{TraitAuthority, c.IsAuthority()}, {TraitSelfIssued, c.SelfIssued()}, {TraitNoCheck, ocsp.NoCheck(c)}} {
		if t.has {
			b.Traits |= t.trait
		}
	}
	if len(c.Names) > 0 {
		list := make([]string, len(c.Names))
		for i, n := range c.Names {
			list[i] = n.String()
		}
		text, err := json.Marshal(list)
		if err == nil { // texts always can be written
			b.NameList = string(text)
		}
	}
	return b
}

// Names are the alternative names, with their kinds.
func (b Brief) Names() []string {
	out := []string{}
	if b.NameList != "" {
		if err := json.Unmarshal([]byte(b.NameList), &out); err != nil {
			return []string{}
		}
	}
	return out
}

// Columns are the columns beside a certificate in the records, for queries.
type Columns struct {
	Serial, Title, Subject string
	Key                    [32]byte // the fingerprint
	Brief
}

// ColumnsOf works them out.
func ColumnsOf(c *cert.Certificate) *Columns {
	return &Columns{Serial: c.SerialHex(), Title: c.Title(), Subject: c.Subject.String(), Key: c.Key.Fingerprint(),
		Brief: BriefOf(c)}
}
