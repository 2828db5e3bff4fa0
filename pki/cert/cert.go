// Package cert encodes the to-be-signed part of a certificate and reads
// certificates, including broken ones.
//
// The encoder writes what it is given and nothing else: what may stand in a
// certificate is decided above, by a plan. The reader is for people who hold a
// certificate that some device refuses. Where a strict parser stops at the first
// fault, Read continues: it keeps every field it could make out and lists the
// faults it passed. Only bytes that are no certificate at all are an error.
package cert

import (
	"bytes"
	"crypto"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"math/big"
	"slices"
	"time"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/ber"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/san"
)

// Most is how many bytes a certificate may have when it is read.
const Most = 1 << 20

// Draft is everything that a certificate says, before it is signed.
type Draft struct {
	Serial     *big.Int // positive, at most 20 bytes (RFC 5280 section 4.1.2.2)
	Issuer     dn.Name
	Subject    dn.Name
	NotBefore  time.Time // whole seconds, UTC
	NotAfter   time.Time
	SPKI       []byte
	Extensions ext.Set
}

// TBS encodes the to-be-signed certificate (RFC 5280 section 4.1), version 3,
// for a signature by the algorithm given as a whole AlgorithmIdentifier.
func (d Draft) TBS(algorithm []byte) ([]byte, error) {
	if d.Serial == nil || d.Serial.Sign() <= 0 || len(d.Serial.Bytes()) > 20 {
		return nil, errors.New("certificate: the serial is not a positive number of at most 20 bytes")
	}
	if !d.NotAfter.After(d.NotBefore) {
		return nil, fmt.Errorf("certificate for %s: it would end (%s) before it begins (%s)", d.Subject,
			d.NotAfter.Format(time.RFC3339), d.NotBefore.Format(time.RFC3339))
	}
	if r := d.Extensions.Repeated(); len(r) > 0 {
		return nil, fmt.Errorf("certificate for %s: the extension %s stands twice", d.Subject, ext.NameOf(r[0]))
	}
	validity := make([]byte, 0, 64)
	for _, t := range []time.Time{d.NotBefore, d.NotAfter} {
		if t = t.UTC(); t.Year() < 0 || t.Year() > 9999 {
			return nil, fmt.Errorf("certificate for %s: no certificate can hold the year %d", d.Subject, t.Year())
		}
		validity = appendTime(validity, t)
	}
	serial := d.Serial.Bytes()
	if serial[0]&0x80 != 0 { // it would be negative
		serial = append([]byte{0}, serial...)
	}
	body := make([]byte, 0, 1024) // most fit without growing
	body = append(body, version3...)
	body = ber.Append(body, byte(casn1.INTEGER), serial)
	body = append(append(body, algorithm...), d.Issuer.DER()...)
	body = ber.Append(body, byte(casn1.SEQUENCE), validity)
	body = append(append(body, d.Subject.DER()...), d.SPKI...)
	if len(d.Extensions) > 0 {
		body = ber.Append(body, byte(casn1.Tag(3).ContextSpecific().Constructed()), d.Extensions.DER())
	}
	return ber.Append(make([]byte, 0, ber.HeaderSize(len(body))+len(body)), byte(casn1.SEQUENCE), body), nil
}

// version3 is the version of every certificate that is made here.
var version3 = []byte{byte(casn1.Tag(0).ContextSpecific().Constructed()), 3, byte(casn1.INTEGER), 1, 2}

// appendTime writes UTCTime through 2049 and GeneralizedTime from 2050 on (RFC
// 5280 section 4.1.2.5).
func appendTime(to []byte, t time.Time) []byte {
	var room [16]byte
	if t.Year() >= 1950 && t.Year() < 2050 {
		return ber.Append(to, byte(casn1.UTCTime), t.AppendFormat(room[:0], "060102150405Z"))
	}
	return ber.Append(to, byte(casn1.GeneralizedTime), t.AppendFormat(room[:0], "20060102150405Z"))
}

// Sign encodes the draft, signs it and verifies the signature.
func (d Draft) Sign(signer crypto.Signer, random io.Reader) ([]byte, error) {
	pub, err := key.Of(signer)
	if err != nil {
		return nil, err
	}
	alg, _, err := pub.SigningAlgorithm()
	if err != nil {
		return nil, err
	}
	tbs, err := d.TBS(alg)
	if err != nil {
		return nil, err
	}
	return key.SignedObject(tbs, signer, random)
}

// Certificate is a certificate that was read.
type Certificate struct {
	Raw        []byte
	TBS        []byte
	Version    int // 1, 2 or 3
	Serial     Serial
	Algorithm  key.Algorithm
	Issuer     dn.Name
	Subject    dn.Name
	NotBefore  time.Time
	NotAfter   time.Time
	Key        key.Public
	Extensions ext.Set
	Signature  []byte
	Faults     []string // where it breaks the rules; a strict parser may refuse it
	Broken     []string // the faults that leave its meaning open: no client should accept it

	Names        []san.Name
	Basic        ext.Basic
	HasBasic     bool
	Usage        ext.KeyUsage
	HasUsage     bool
	Extended     []asn1.ObjectIdentifier
	HasExtended  bool
	Constraints  ext.Constraints
	SubjectKey   []byte
	AuthorityKey []byte

	twoAlgorithms bool
}

func (c *Certificate) fault(format string, args ...any) {
	c.Faults = append(c.Faults, fmt.Sprintf(format, args...))
}

// broken is a fault that leaves open what the certificate means.
func (c *Certificate) broken(format string, args ...any) {
	c.fault(format, args...)
	c.Broken = append(c.Broken, c.Faults[len(c.Faults)-1])
}

// Read reads a certificate. Faults that leave something to tell do not stop it.
func Read(der []byte) (*Certificate, error) {
	if len(der) > Most {
		return nil, fmt.Errorf("certificate: %d bytes; the most that is read is %d", len(der), Most)
	}
	c := &Certificate{Version: 1, Basic: ext.Basic{PathLength: -1}}
	in := cryptobyte.String(slices.Clone(der)) // everything below is a part of this copy
	var outer, tbs, whole, alg cryptobyte.String
	if !in.ReadASN1Element(&whole, casn1.SEQUENCE) || !cryptobyteCopy(whole).ReadASN1(&outer, casn1.SEQUENCE) ||
		!outer.ReadASN1Element(&tbs, casn1.SEQUENCE) {
		return nil, errors.New("certificate: it is not the ASN.1 structure of a certificate (RFC 5280 section 4.1)")
	}
	if !in.Empty() {
		c.broken("%d bytes follow its end", len(in))
	}
	c.Raw, c.TBS = whole, tbs
	var sig cryptobyte.String
	if !outer.ReadASN1Element(&alg, casn1.SEQUENCE) || !outer.ReadASN1(&sig, casn1.BIT_STRING) || len(sig) == 0 ||
		sig[0] != 0 {
		c.broken("it has no signature that reads")
	} else {
		c.Signature = sig[1:]
		c.Algorithm, _ = key.ReadAlgorithm(alg)
	}
	if err := c.readTBS(tbs, alg); err != nil {
		return nil, err
	}
	c.readExtensions()
	c.readCriticality()
	return c, nil
}

func cryptobyteCopy(s cryptobyte.String) *cryptobyte.String { return &s }

func (c *Certificate) readTBS(tbs, outerAlg cryptobyte.String) error {
	var body, field, serial cryptobyte.String
	var there bool
	if !tbs.ReadASN1(&body, casn1.SEQUENCE) ||
		!body.ReadOptionalASN1(&field, &there, casn1.Tag(0).ContextSpecific().Constructed()) {
		return errors.New("certificate: its version cannot be parsed")
	}
	if there {
		if !field.ReadASN1Integer(&c.Version) || c.Version < 0 || c.Version > 2 || !field.Empty() {
			c.broken("its version is unknown")
		}
		c.Version++
	}
	if !body.ReadASN1(&serial, casn1.INTEGER) || len(serial) == 0 {
		return errors.New("certificate: it has no serial")
	}
	n := new(big.Int).SetBytes(serial)
	switch {
	case serial[0]&0x80 != 0:
		n.Sub(n, new(big.Int).Lsh(big.NewInt(1), uint(8*len(serial))))
		c.fault("its serial is negative")
	case n.Sign() == 0:
		c.fault("its serial is zero")
	case len(serial) > 20:
		c.fault("its serial is longer than 20 bytes")
	}
	c.Serial = Serial{n}
	var alg, issuer, validity, subject, spki cryptobyte.String
	if !body.ReadASN1Element(&alg, casn1.SEQUENCE) || !body.ReadASN1Element(&issuer, casn1.SEQUENCE) ||
		!body.ReadASN1(&validity, casn1.SEQUENCE) || !body.ReadASN1Element(&subject, casn1.SEQUENCE) ||
		!body.ReadASN1Element(&spki, casn1.SEQUENCE) {
		return errors.New("certificate: one of issuer, validity, subject and key cannot be parsed")
	}
	if !bytes.Equal(alg, outerAlg) {
		c.broken("it names two different signature algorithms")
		c.twoAlgorithms = true
	}
	var err error
	if c.Issuer, err = dn.Read(issuer); err != nil {
		c.broken("its issuer cannot be parsed: %v", err)
	}
	if c.Subject, err = dn.Read(subject); err != nil {
		c.broken("its subject cannot be parsed: %v", err)
	}
	if c.Key, err = key.Read(spki); err != nil {
		c.broken("its key cannot be parsed: %v", err)
		c.Key.Fault = "it cannot be parsed"
	}
	if c.Key.Trailing {
		c.broken("something follows its key")
	}
	c.readValidity(validity)
	return c.readTail(body)
}

func (c *Certificate) readValidity(v cryptobyte.String) {
	for _, t := range []*time.Time{&c.NotBefore, &c.NotAfter} {
		var raw cryptobyte.String
		var tag casn1.Tag
		if !v.ReadAnyASN1(&raw, &tag) {
			c.broken("its validity cannot be parsed")
			return
		}
		parsed, strict := readTime(tag, string(raw))
		if parsed.IsZero() {
			c.broken("%q is not a time", string(raw))
		} else if !strict {
			c.fault("the time %q is not written as RFC 5280 section 4.1.2.5 asks", string(raw))
		}
		*t = parsed
	}
	if !v.Empty() {
		c.broken("something follows the two dates of its validity")
	}
	if c.NotAfter.Before(c.NotBefore) {
		c.broken("it ends before it begins")
	}
}

func readTime(tag casn1.Tag, s string) (t time.Time, strict bool) {
	if tag == casn1.UTCTime {
		for i, layout := range []string{"060102150405Z", "0601021504Z", "060102150405-0700", "0601021504-0700"} {
			if t, err := time.Parse(layout, s); err == nil {
				if t.Year() >= 2050 {
					t = t.AddDate(-100, 0, 0)
				}
				return t.UTC(), i == 0
			}
		}
		return time.Time{}, false
	}
	if tag != casn1.GeneralizedTime { // the same octets under another tag are no time
		return time.Time{}, false
	}
	for i, layout := range []string{"20060102150405Z", "20060102150405.999Z", "200601021504Z", "20060102150405-0700"} {
		if t, err := time.Parse(layout, s); err == nil {
			return t.UTC(), i == 0 && t.Year() >= 2050
		}
	}
	return time.Time{}, false
}

func (c *Certificate) readTail(body cryptobyte.String) error {
	var field cryptobyte.String
	for _, n := range []uint8{1, 2} {
		if tag := casn1.Tag(n).ContextSpecific(); body.PeekASN1Tag(tag) && !body.SkipASN1(tag) {
			return errors.New("certificate: a unique identifier cannot be parsed")
		}
	}
	if body.Empty() {
		return nil
	}
	if !body.ReadASN1(&field, casn1.Tag(3).ContextSpecific().Constructed()) {
		c.broken("something unknown follows the key")
		return nil
	}
	set, err := ext.ReadSet(field)
	if err != nil {
		c.broken("%v", err)
	}
	if c.Extensions = set; c.Version != 3 {
		c.broken("it has extensions, and its version is %d", c.Version)
	}
	return nil
}

func (c *Certificate) readExtensions() {
	for _, id := range c.Extensions.Repeated() {
		c.broken("the extension %s stands twice", ext.NameOf(id))
	}
	for _, e := range c.Extensions {
		err := e.Check()
		if err != nil {
			c.broken("%v", err)
		}
		switch {
		case e.ID.Equal(ext.AltNames):
			c.Names, err = san.Read(e.Value)
		case e.ID.Equal(ext.BasicID):
			c.Basic, err = ext.ReadBasic(e.Value)
			c.HasBasic = true
		case e.ID.Equal(ext.KeyUsageID):
			c.Usage, err = ext.ReadKeyUsage(e.Value)
			c.HasUsage = true
		case e.ID.Equal(ext.ExtendedUsage):
			c.Extended, err = ext.ReadExtendedUsage(e.Value)
			c.HasExtended = true
		case e.ID.Equal(ext.NameConstraintID):
			c.Constraints, err = ext.ReadConstraints(e.Value)
		case e.ID.Equal(ext.SubjectKeyID):
			c.SubjectKey, err = ext.ReadKeyID(e.Value)
		case e.ID.Equal(ext.AuthorityKeyID):
			c.AuthorityKey, err = ext.ReadAuthorityKeyID(e.Value)
		}
		if err != nil && e.Check() == nil { // said already otherwise
			c.broken("%v", err)
		}
	}
}

// readCriticality notes marks that the standard asks for: what some clients insist on.
func (c *Certificate) readCriticality() {
	if e, ok := c.Extensions.Find(ext.AltNames); ok && !e.Critical && c.Subject.IsEmpty() {
		c.fault("its subject is empty, and its alternative names are not critical (RFC 5280 section 4.2.1.6)")
	}
}

// VerifiedBy checks the certificate's signature with a key. The algorithm must
// be the same inside and outside of what is signed (RFC 5280 section 4.1.1.2).
func (c *Certificate) VerifiedBy(p key.Public) error {
	if c.twoAlgorithms {
		return key.ErrSignature
	}
	return p.Verify(c.Algorithm, c.TBS, c.Signature)
}

// IsAuthority reports whether its basic constraints mark it as an authority.
func (c *Certificate) IsAuthority() bool { return c.HasBasic && c.Basic.Authority }

// SelfIssued reports whether issuer and subject are the same name.
func (c *Certificate) SelfIssued() bool { return c.Issuer.Equal(c.Subject) }

// IsLink reports whether the certificate is self-issued by another key than the one
// that it certifies (RFC 4210 section 4.4), as far as its key identifiers tell.
func (c *Certificate) IsLink() bool {
	return c.SelfIssued() && len(c.AuthorityKey) > 0 && len(c.SubjectKey) > 0 && !bytes.Equal(c.AuthorityKey,
		c.SubjectKey)
}

// SelfSigned reports whether it is signed by its own key.
func (c *Certificate) SelfSigned() bool {
	return c.SelfIssued() && c.VerifiedBy(c.Key) == nil
}

// SerialHex is the serial in lower-case hex, in whole bytes.
func (c *Certificate) SerialHex() string { return c.Serial.Hex() }

// SHA256 is the certificate's fingerprint.
func (c *Certificate) SHA256() [32]byte { return sha256.Sum256(c.Raw) }

// SHA1 is the older fingerprint, which devices still ask for. It is for looking
// up only.
func (c *Certificate) SHA1() [20]byte { return sha1.Sum(c.Raw) }

// Thumbprints are the SHA-256 and the SHA-1 of a certificate, in DER. SHA-1 is for looking up only.
func Thumbprints(der []byte) ([32]byte, [20]byte) { return sha256.Sum256(der), sha1.Sum(der) }

// Title is the shortest text by which a person knows the certificate: its
// common name, else its first alternative name, else its subject.
func (c *Certificate) Title() string {
	if cn := c.Subject.CommonName(); cn != "" {
		return cn
	}
	if len(c.Names) > 0 {
		return c.Names[0].Value()
	}
	if !c.Subject.IsEmpty() {
		return c.Subject.String()
	}
	return "serial " + c.SerialHex()
}
