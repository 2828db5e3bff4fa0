// Package ext turns certificate extensions into values and back (RFC 5280
// section 4.2).
//
// An extension is an identifier, a critical mark and bytes. This package gives
// each kind that Iron Seal handles one decoder and one encoder, and keeps the
// rest as bytes, so that nothing a device sent is lost on the way to the review
// sheet. Decoders take hostile bytes: they bound counts and never panic.
package ext

import (
	"encoding/asn1"
	"errors"
	"fmt"
	"math/bits"
	"slices"
	"strings"
	"sync"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/ber"
	"ironseal/pki/san"
	"ironseal/pki/span"
)

// The identifiers of the extensions handled here.
var (
	SubjectKeyID     = asn1.ObjectIdentifier{2, 5, 29, 14}
	KeyUsageID       = asn1.ObjectIdentifier{2, 5, 29, 15}
	AltNames         = asn1.ObjectIdentifier{2, 5, 29, 17}
	BasicID          = asn1.ObjectIdentifier{2, 5, 29, 19}
	NameConstraintID = asn1.ObjectIdentifier{2, 5, 29, 30}
	ListNumber       = asn1.ObjectIdentifier{2, 5, 29, 20}
	ReasonCode       = asn1.ObjectIdentifier{2, 5, 29, 21}
	InvalidityDate   = asn1.ObjectIdentifier{2, 5, 29, 24}
	DeltaBase        = asn1.ObjectIdentifier{2, 5, 29, 27}
	ListScope        = asn1.ObjectIdentifier{2, 5, 29, 28}
	EntryIssuer      = asn1.ObjectIdentifier{2, 5, 29, 29}
	CRLPoints        = asn1.ObjectIdentifier{2, 5, 29, 31}
	PoliciesID       = asn1.ObjectIdentifier{2, 5, 29, 32}
	PolicyMappings   = asn1.ObjectIdentifier{2, 5, 29, 33}
	AuthorityKeyID   = asn1.ObjectIdentifier{2, 5, 29, 35}
	PolicyLimits     = asn1.ObjectIdentifier{2, 5, 29, 36}
	ExtendedUsage    = asn1.ObjectIdentifier{2, 5, 29, 37}
	InhibitAny       = asn1.ObjectIdentifier{2, 5, 29, 54}
	NoRevocationID   = asn1.ObjectIdentifier{2, 5, 29, 56}
	InfoAccess       = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 1}
)

var names = sync.OnceValue(func() map[string]string {
	return map[string]string{
		SubjectKeyID.String(): "subject key identifier", KeyUsageID.String(): "key usage",
		AltNames.String(): "alternative names",
		BasicID.String():  "basic constraints", NameConstraintID.String(): "name constraints",
		CRLPoints.String(): "revocation list addresses", FreshestID.String(): "freshest list addresses",
		ListNumber.String(): "list number", ReasonCode.String(): "reason", InvalidityDate.String(): "invalidity date",
		DeltaBase.String(): "delta list indicator", ListScope.String(): "scope of the list",
		EntryIssuer.String(): "certificate issuer", NoRevocationID.String(): "no revocation available",
		PoliciesID.String(): "certificate policies", PolicyMappings.String(): "policy mappings",
		AuthorityKeyID.String(): "authority key identifier",
		PolicyLimits.String():   "policy constraints", ExtendedUsage.String(): "extended key usage",
		InhibitAny.String(): "inhibit any-policy",
		InfoAccess.String(): "authority information access", noCheckID.String(): "no revocation check",
		"1.3.6.1.4.1.311.20.2": "enrolment template name", "1.3.6.1.4.1.311.21.7": "enrolment template",
		"1.3.6.1.4.1.32473.18.1": "rehearsal mark", "2.5.29.9": "subject directory attributes",
		"1.3.6.1.5.5.7.1.24": "required TLS features",
	}
})

// NameOf gives an extension's name in trade words, or its dotted identifier.
func NameOf(id asn1.ObjectIdentifier) string {
	if n, ok := names()[id.String()]; ok {
		return n
	}
	return id.String()
}

// Extension is one extension, undecoded.
type Extension struct {
	ID       asn1.ObjectIdentifier
	Critical bool
	Value    []byte
	Loose    string // how its encoding is none that DER allows, or ""
}

// Set is a list of extensions in the order in which they stand.
type Set []Extension

// Most is how many extensions one object may carry when it is read.
const Most = 256

// Find returns the first extension with this identifier.
func (s Set) Find(id asn1.ObjectIdentifier) (Extension, bool) {
	i := slices.IndexFunc(s, func(e Extension) bool { return e.ID.Equal(id) })
	if i < 0 {
		return Extension{}, false
	}
	return s[i], true
}

// Repeated returns the identifiers that stand more than once, which RFC 5280
// section 4.2 forbids.
func (s Set) Repeated() []asn1.ObjectIdentifier {
	var out []asn1.ObjectIdentifier
	for i, e := range s {
		for _, f := range s[:i] {
			if e.ID.Equal(f.ID) {
				out = append(out, e.ID)
				break
			}
		}
	}
	return out
}

// ReadSet reads a SEQUENCE OF Extension.
func ReadSet(der []byte) (Set, error) {
	in := cryptobyte.String(slices.Clone(der)) // the values are parts of this copy
	var seq cryptobyte.String
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !in.Empty() {
		return nil, errors.New("extensions: they are not one ASN.1 sequence")
	}
	out := make(Set, 0, ber.Count(seq, Most))
	for !seq.Empty() {
		var one, value cryptobyte.String
		var e Extension
		if !seq.ReadASN1(&one, casn1.SEQUENCE) || !one.ReadASN1ObjectIdentifier(&e.ID) {
			return out, fmt.Errorf("extensions: number %d cannot be parsed", len(out)+1)
		}
		if one.PeekASN1Tag(casn1.BOOLEAN) {
			var flag cryptobyte.String
			if !one.ReadASN1(&flag, casn1.BOOLEAN) || len(flag) != 1 {
				return out, fmt.Errorf("extension %s: its critical mark cannot be parsed", NameOf(e.ID))
			}
			if e.Critical = flag[0] != 0; flag[0] != 0 && flag[0] != 0xff {
				e.Loose = "its critical mark is not encoded as DER asks"
			}
		}
		if !one.ReadASN1(&value, casn1.OCTET_STRING) {
			return out, fmt.Errorf("extension %s: it has no value", NameOf(e.ID))
		}
		if !one.Empty() {
			e.Loose = "something follows its value"
		}
		if len(out) == Most {
			return out, fmt.Errorf("extensions: more than %d", Most)
		}
		e.Value = value
		out = append(out, e)
	}
	return out, nil
}

// Add appends the set as a SEQUENCE OF Extension.
func (s Set) Add(b *cryptobyte.Builder) { b.AddBytes(s.DER()) }

// DER is the set as a SEQUENCE OF Extension. It is encoded by hand because a dozen are, for every certificate.
func (s Set) DER() []byte {
	one, all := make([]byte, 0, 128), make([]byte, 0, 64*len(s)) // most fit without growing
	for _, e := range s {
		one = e.appendContent(one[:0])
		all = ber.Append(all, byte(casn1.SEQUENCE), one)
	}
	return ber.Append(make([]byte, 0, ber.HeaderSize(len(all))+len(all)), byte(casn1.SEQUENCE), all)
}

// appendContent encodes one extension, but for its tag and length.
func (e Extension) appendContent(to []byte) []byte {
	var room [32]byte
	to = ber.Append(to, byte(casn1.OBJECT_IDENTIFIER), appendArcs(room[:0], e.ID))
	if e.Critical {
		to = append(to, byte(casn1.BOOLEAN), 1, 0xff)
	}
	return ber.Append(to, byte(casn1.OCTET_STRING), e.Value)
}

// appendArcs encodes the content of an object identifier (X.690 section 8.19).
func appendArcs(out []byte, id asn1.ObjectIdentifier) []byte {
	for i, v := range id {
		switch i {
		case 0:
			continue // it is in the next
		case 1:
			v += 40 * id[0]
		}
		for shift := (max(bits.Len(uint(v)), 1) - 1) / 7 * 7; shift > 0; shift -= 7 {
			out = append(out, 0x80|byte(v>>shift))
		}
		out = append(out, byte(v)&0x7f)
	}
	return out
}

// Basic is the basic constraints extension (section 4.2.1.9).
type Basic struct {
	Authority  bool
	PathLength int // -1 if none exists
}

// ReadBasic decodes basic constraints.
func ReadBasic(value []byte) (Basic, error) {
	in := cryptobyte.String(value)
	var seq cryptobyte.String
	out := Basic{PathLength: -1}
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !in.Empty() {
		return out, errors.New("basic constraints: not one ASN.1 sequence")
	}
	if seq.PeekASN1Tag(casn1.BOOLEAN) {
		var flag cryptobyte.String
		if !seq.ReadASN1(&flag, casn1.BOOLEAN) || len(flag) != 1 || flag[0] != 0 && flag[0] != 0xff {
			return out, errors.New("basic constraints: the authority mark cannot be parsed")
		}
		out.Authority = flag[0] != 0
	}
	if !seq.Empty() {
		if !seq.ReadASN1Integer(&out.PathLength) || out.PathLength < 0 || !seq.Empty() {
			return out, errors.New("basic constraints: the path length cannot be parsed")
		}
	}
	return out, nil
}

// Extension encodes basic constraints, critical (section 4.2.1.9 asks it of
// authorities; for others the same is usual).
func (c Basic) Extension() Extension {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		if c.Authority {
			b.AddASN1Boolean(true)
			if c.PathLength >= 0 {
				b.AddASN1Int64(int64(c.PathLength))
			}
		}
	})
	return Extension{ID: BasicID, Critical: true, Value: b.BytesOrPanic()}
}

// Words says what the constraints mean.
func (c Basic) Words() string {
	switch {
	case !c.Authority:
		return "no"
	case c.PathLength < 0:
		return "yes, any number of authorities below"
	case c.PathLength == 0:
		return "yes, none below (path length 0)"
	}
	return fmt.Sprintf("yes, at most %s of authorities below (path length %d)",
		span.Count(c.PathLength, "level"), c.PathLength)
}

// ReadKeyID decodes a subject key identifier.
func ReadKeyID(value []byte) ([]byte, error) {
	in := cryptobyte.String(value)
	var id cryptobyte.String
	if !in.ReadASN1(&id, casn1.OCTET_STRING) || !in.Empty() {
		return nil, errors.New("subject key identifier: not an octet string")
	}
	return slices.Clone(id), nil
}

// KeyID encodes a subject key identifier.
func KeyID(id []byte) Extension {
	var b cryptobyte.Builder
	b.AddASN1OctetString(id)
	return Extension{ID: SubjectKeyID, Value: b.BytesOrPanic()}
}

// ReadAuthorityKeyID decodes the key identifier of an authority key identifier
// extension; nil where it names the issuer in another way only.
func ReadAuthorityKeyID(value []byte) ([]byte, error) {
	in := cryptobyte.String(value)
	var seq, id cryptobyte.String
	var there bool
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !in.Empty() ||
		!seq.ReadOptionalASN1(&id, &there, casn1.Tag(0).ContextSpecific()) {
		return nil, errors.New("authority key identifier: it cannot be parsed")
	}
	return slices.Clone(id), nil
}

// AuthorityKey encodes an authority key identifier that names the key.
func AuthorityKey(id []byte) Extension {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(casn1.Tag(0).ContextSpecific(), func(b *cryptobyte.Builder) { b.AddBytes(id) })
	})
	return Extension{ID: AuthorityKeyID, Value: b.BytesOrPanic()}
}

// NamesExtension encodes alternative names. They are critical where the subject
// is empty (section 4.2.1.6).
func NamesExtension(list []san.Name, subjectEmpty bool) (Extension, error) {
	der, err := san.Encode(list)
	return Extension{ID: AltNames, Critical: subjectEmpty, Value: der}, err
}

// Words describes any extension in one line.
func (e Extension) Words() string {
	switch {
	case e.ID.Equal(BasicID):
		if c, err := ReadBasic(e.Value); err == nil {
			return c.Words()
		}
	case e.ID.Equal(KeyUsageID):
		if u, err := ReadKeyUsage(e.Value); err == nil {
			return u.String()
		}
	case e.ID.Equal(ExtendedUsage):
		if ids, err := ReadExtendedUsage(e.Value); err == nil {
			return strings.Join(UsageNames(ids), ", ")
		}
	case e.ID.Equal(AltNames):
		if list, err := san.Read(e.Value); err == nil {
			var out []string
			for _, n := range list {
				out = append(out, n.String())
			}
			return strings.Join(out, ", ")
		}
	case e.ID.Equal(SubjectKeyID):
		if id, err := ReadKeyID(e.Value); err == nil {
			return fmt.Sprintf("%x", id)
		}
	case e.ID.Equal(AuthorityKeyID):
		if id, err := ReadAuthorityKeyID(e.Value); err == nil {
			return fmt.Sprintf("%x", id)
		}
	case e.ID.Equal(NameConstraintID):
		if c, err := ReadConstraints(e.Value); err == nil {
			return c.Words()
		}
	case e.ID.Equal(PoliciesID):
		if w := policyWords(e.Value); w != "" {
			return w
		}
	case e.ID.Equal(CRLPoints), e.ID.Equal(InfoAccess):
		if a := addresses(e.Value, 0); len(a) > 0 {
			return strings.Join(a, ", ")
		}
	}
	if len(e.Value) > 24 {
		return fmt.Sprintf("%d bytes: %x…", len(e.Value), e.Value[:24])
	}
	return fmt.Sprintf("%d bytes: %x", len(e.Value), e.Value)
}
