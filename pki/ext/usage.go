package ext

import (
	"encoding/asn1"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/dn"
)

// KeyUsage is the set of usages in a key usage extension (RFC 5280 section
// 4.2.1.3); bit i of the standard is bit i here.
type KeyUsage uint16

// The usages, in the order of the standard.
const (
	DigitalSignature KeyUsage = 1 << iota
	NonRepudiation
	KeyEncipherment
	DataEncipherment
	KeyAgreement
	KeyCertSign
	CRLSign
	EncipherOnly
	DecipherOnly
)

var usageWords = []string{"digitalSignature", "nonRepudiation", "keyEncipherment", "dataEncipherment", "keyAgreement",
	"keyCertSign", "cRLSign", "encipherOnly", "decipherOnly"}

// ParseKeyUsage reads a list of the standard's names.
func ParseKeyUsage(list []string) (KeyUsage, error) {
	var out KeyUsage
next:
	for _, w := range list {
		for i, known := range usageWords {
			if strings.EqualFold(known, w) {
				out |= 1 << i
				continue next
			}
		}
		return 0, fmt.Errorf("%q is not a key usage: use %s", w, strings.Join(usageWords, ", "))
	}
	return out, nil
}

// Names lists the usages by the standard's names.
func (u KeyUsage) Names() []string {
	var out []string
	for i, w := range usageWords {
		if u&(1<<i) != 0 {
			out = append(out, w)
		}
	}
	return out
}

// String lists the usages, separated by commas.
func (u KeyUsage) String() string { return strings.Join(u.Names(), ", ") }

// ReadKeyUsage decodes a key usage extension.
func ReadKeyUsage(value []byte) (KeyUsage, error) {
	in := cryptobyte.String(value)
	var bits asn1.BitString
	if !in.ReadASN1BitString(&bits) || !in.Empty() || bits.BitLength > 64 {
		return 0, errors.New("key usage: not a bit string")
	}
	var out KeyUsage
	for i := range usageWords {
		if bits.At(i) == 1 {
			out |= 1 << i
		}
	}
	return out, nil
}

// Extension encodes the usages, critical as section 4.2.1.3 asks.
func (u KeyUsage) Extension() Extension {
	var bytes [2]byte
	last := -1
	for i := range usageWords {
		if u&(1<<i) != 0 {
			bytes[i/8] |= 0x80 >> (i % 8)
			last = i
		}
	}
	var b cryptobyte.Builder
	b.AddASN1(casn1.BIT_STRING, func(b *cryptobyte.Builder) {
		if last < 0 {
			b.AddUint8(0)
			return
		}
		b.AddUint8(uint8(7 - last%8)) // DER: no trailing zero bits (X.690 section 11.2.2)
		b.AddBytes(bytes[:last/8+1])
	})
	return Extension{ID: KeyUsageID, Critical: true, Value: b.BytesOrPanic()}
}

// AnyUsage permits every extended usage.
var AnyUsage = asn1.ObjectIdentifier{2, 5, 29, 37, 0}

// OCSPUsage is for keys that answer about revocations (RFC 6960 section 4.2.2.2).
var OCSPUsage = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 9}

// DocumentSigning is for signatures that people and programs check on what they read (RFC
// 9336).
var DocumentSigning = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 36}

// Extended usages of RFC 5280 section 4.2.1.12, RFC 4945, RFC 4556, RFC 9336 and common use.
var extendedUsages = []struct {
	name string
	id   asn1.ObjectIdentifier
}{
	{"serverAuth", asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 1}},
	{"clientAuth", asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 2}},
	{"codeSigning", asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 3}},
	{"emailProtection", asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 4}},
	{"ipsecEndSystem", asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 5}},
	{"ipsecTunnel", asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 6}},
	{"ipsecUser", asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 7}},
	{"timeStamping", asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 8}},
	{"OCSPSigning", OCSPUsage},
	{"ipsecIKE", asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 17}},
	{"documentSigning", DocumentSigning},
	{"anyExtendedKeyUsage", AnyUsage},
}

// ParseExtendedUsage reads a standard name or a dotted identifier.
func ParseExtendedUsage(s string) (asn1.ObjectIdentifier, error) {
	for _, u := range extendedUsages {
		if strings.EqualFold(u.name, s) {
			return u.id, nil
		}
	}
	if id, ok := dn.ParseOID(s); ok {
		return id, nil
	}
	var all []string
	for _, u := range extendedUsages {
		all = append(all, u.name)
	}
	return nil, fmt.Errorf("%q is not an extended key usage: use %s, or a dotted identifier", s,
		strings.Join(all, ", "))
}

// UsageNames gives the names of extended usages; the dotted identifier for one without a name.
func UsageNames(ids []asn1.ObjectIdentifier) []string {
	out := make([]string, len(ids))
	for i, id := range ids {
		out[i] = id.String()
		for _, u := range extendedUsages {
			if u.id.Equal(id) {
				out[i] = u.name
			}
		}
	}
	return out
}

// ReadExtendedUsage decodes an extended key usage extension.
func ReadExtendedUsage(value []byte) ([]asn1.ObjectIdentifier, error) {
	in := cryptobyte.String(value)
	var seq cryptobyte.String
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !in.Empty() {
		return nil, errors.New("extended key usage: not one ASN.1 sequence")
	}
	var out []asn1.ObjectIdentifier
	for !seq.Empty() {
		var id asn1.ObjectIdentifier
		if !seq.ReadASN1ObjectIdentifier(&id) || len(out) == Most {
			return out, errors.New("extended key usage: a usage cannot be parsed")
		}
		out = append(out, id)
	}
	return out, nil
}

// ExtendedExtension encodes extended usages.
func ExtendedExtension(ids []asn1.ObjectIdentifier, critical bool) Extension {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		for _, id := range ids {
			b.AddASN1ObjectIdentifier(id)
		}
	})
	return Extension{ID: ExtendedUsage, Critical: critical, Value: b.BytesOrPanic()}
}
