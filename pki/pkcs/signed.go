package pkcs

import (
	"bytes"
	"crypto"
	"crypto/rsa"
	_ "crypto/sha1" // messages of older devices
	_ "crypto/sha256"
	_ "crypto/sha512"
	"crypto/subtle"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/ber"
	"ironseal/pki/key"
)

var (
	oidContentType   = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 3}
	oidMessageDigest = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 4}
	oidSigningTime   = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 5}
	oidRSA           = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 1}
)

// digests are the hash functions of signatures, with the arc of RSA's algorithm of each (RFC 8017 appendix A.2.4).
var digests = []struct {
	id   asn1.ObjectIdentifier
	hash crypto.Hash
	rsa  int
}{
	{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 1}, crypto.SHA256, 11},
	{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 2}, crypto.SHA384, 12},
	{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 3}, crypto.SHA512, 13},
	{asn1.ObjectIdentifier{1, 3, 14, 3, 2, 26}, crypto.SHA1, 5},
}

// mostAttributes bounds the attributes of a signature.
const mostAttributes = 64

// Attribute is an attribute of a signature, with one value as a whole element.
type Attribute struct {
	ID    asn1.ObjectIdentifier
	Value []byte
}

// Signed is a message with one signer and signed attributes (RFC 5652 section 5).
type Signed struct {
	Certificates [][]byte // the signer's among them, in no order that counts
	Content      []byte   // nil where it is beside the signature
	When         time.Time
	Hash         crypto.Hash
	Attributes   []Attribute // but for those of the standard itself

	contentType    asn1.ObjectIdentifier
	issuer, serial []byte // whose certificate is the signer's: its name and serial, as elements
	attributes     []byte // what is signed, with the tag of a set
	digest         []byte
	algorithm      key.Algorithm
	signature      []byte
}

// Draft is a message before it is signed.
type Draft struct {
	Type         asn1.ObjectIdentifier // of the content; nil for data
	Content      []byte
	Detached     bool        // the content is left out
	Certificates [][]byte    // the signer's first
	When         time.Time   // zero to leave it out
	Attributes   []Attribute // that are signed too
	RSA          bool        // an RSA key signs, named as older readers know it: rsaEncryption (RFC 5754 section 3.2)
	SHA1         bool        // with RSA: for devices that know nothing newer
}

// Sign signs it.
func (d Draft) Sign(signer crypto.Signer, random io.Reader) ([]byte, error) {
	if len(d.Certificates) == 0 {
		return nil, errors.New("signature: the signer's certificate is missing")
	}
	if d.Type == nil {
		d.Type = oidData
	}
	issuer, serial, err := issuerAndSerial(d.Certificates[0])
	if err != nil {
		return nil, err
	}
	hash := crypto.SHA256
	if d.SHA1 {
		hash = crypto.SHA1
	}
	attributes, err := d.attributes(hash)
	if err != nil {
		return nil, err
	}
	algorithm, signature, err := d.sign(attributes, signer, random)
	if err != nil {
		return nil, err
	}
	sha := func(b *cryptobyte.Builder) {
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) { b.AddASN1ObjectIdentifier(digestOf(hash)) })
	}
	signerInfo := func(b *cryptobyte.Builder) {
		b.AddASN1Int64(1)
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddBytes(issuer)
			b.AddBytes(serial)
		})
		sha(b)
		inner := cryptobyte.String(attributes)
		inner.ReadASN1(&inner, casn1.SET)
		b.AddASN1(context0Outer, func(b *cryptobyte.Builder) { b.AddBytes(inner) })
		b.AddBytes(algorithm)
		b.AddASN1OctetString(signature)
	}
	return d.wrapped(sha, signerInfo)
}

// wrapped writes the SignedData around a signer.
func (d Draft) wrapped(digest, signer cryptobyte.BuilderContinuation) ([]byte, error) {
	version := int64(1)
	if !d.Type.Equal(oidData) {
		version = 3
	}
	return inContentInfo(oidSigned, func(b *cryptobyte.Builder) {
		b.AddASN1Int64(version)
		b.AddASN1(casn1.SET, digest)
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1ObjectIdentifier(d.Type)
			if !d.Detached {
				b.AddASN1(context0Outer, func(b *cryptobyte.Builder) { b.AddASN1OctetString(d.Content) })
			}
		})
		b.AddASN1(context0Outer, func(b *cryptobyte.Builder) {
			for _, c := range d.Certificates {
				b.AddBytes(c)
			}
		})
		b.AddASN1(casn1.SET, func(b *cryptobyte.Builder) { b.AddASN1(casn1.SEQUENCE, signer) })
	})
}

// inContentInfo writes a content with its type around it (RFC 5652 section 3).
func inContentInfo(id asn1.ObjectIdentifier, content cryptobyte.BuilderContinuation) ([]byte, error) {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(id)
		b.AddASN1(context0Outer, func(b *cryptobyte.Builder) { b.AddASN1(casn1.SEQUENCE, content) })
	})
	return b.Bytes()
}

func digestOf(h crypto.Hash) asn1.ObjectIdentifier {
	for _, d := range digests {
		if d.hash == h {
			return d.id
		}
	}
	return nil
}

func (d Draft) sign(attributes []byte, signer crypto.Signer, random io.Reader) (algorithm, signature []byte,
	err error) {
	if !d.RSA {
		return key.SignMessage(attributes, signer, random)
	}
	public, ok := signer.Public().(*rsa.PublicKey)
	if !ok {
		return nil, nil, errors.New("signature: an RSA key is wanted")
	}
	hash := crypto.SHA256
	if d.SHA1 {
		hash = crypto.SHA1
	}
	h := hash.New()
	h.Write(attributes)
	digest := h.Sum(nil)
	if signature, err = signer.Sign(random, digest, hash); err != nil {
		return nil, nil, fmt.Errorf("signature: %w", err)
	}
	if err := rsa.VerifyPKCS1v15(public, hash, digest, signature); err != nil { // a fault can give a key away
		return nil, nil, fmt.Errorf("signature: %w", err)
	}
	algorithm, err = algorithmOf(oidRSA)
	return algorithm, signature, err
}

// algorithmOf is an AlgorithmIdentifier with the parameters that RSA has: NULL.
func algorithmOf(id asn1.ObjectIdentifier) ([]byte, error) {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(id)
		b.AddASN1NULL()
	})
	return b.Bytes()
}

// attributes are what is signed in place of the content: its type, its digest, the time and
// others, in the order that DER gives a set (RFC 5652 section 5.4).
func (d Draft) attributes(hash crypto.Hash) ([]byte, error) {
	h := hash.New()
	h.Write(d.Content)
	attribute := func(oid asn1.ObjectIdentifier, value func(b *cryptobyte.Builder)) []byte {
		var b cryptobyte.Builder
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1ObjectIdentifier(oid)
			b.AddASN1(casn1.SET, value)
		})
		return b.BytesOrPanic()
	}
	list := [][]byte{
		attribute(oidContentType, func(b *cryptobyte.Builder) { b.AddASN1ObjectIdentifier(d.Type) }),
		attribute(oidMessageDigest, func(b *cryptobyte.Builder) { b.AddASN1OctetString(h.Sum(nil)) }),
	}
	if !d.When.IsZero() {
		list = append(list, attribute(oidSigningTime, func(b *cryptobyte.Builder) { b.AddASN1UTCTime(d.When.UTC()) }))
	}
	for _, a := range d.Attributes {
		list = append(list, attribute(a.ID, func(b *cryptobyte.Builder) { b.AddBytes(a.Value) }))
	}
	slices.SortFunc(list, bytes.Compare)
	var b cryptobyte.Builder
	b.AddASN1(casn1.SET, func(b *cryptobyte.Builder) {
		for _, a := range list {
			b.AddBytes(a)
		}
	})
	return b.Bytes()
}

// issuerAndSerial are the two elements of a certificate by which its signer is named.
func issuerAndSerial(der []byte) (issuer, serial []byte, err error) {
	in := cryptobyte.String(der)
	var whole, tbs, number, name cryptobyte.String
	if !in.ReadASN1(&whole, casn1.SEQUENCE) || !whole.ReadASN1(&tbs, casn1.SEQUENCE) ||
		!tbs.SkipOptionalASN1(context0Outer) || !tbs.ReadASN1Element(&number, casn1.INTEGER) ||
		!tbs.SkipASN1(casn1.SEQUENCE) || !tbs.ReadASN1Element(&name, casn1.SEQUENCE) {
		return nil, nil, errors.New("signature: a certificate in it cannot be parsed")
	}
	return name, number, nil
}

// ReadSigned reads a message: one signer who is named by issuer and serial, with signed attributes. The certificates
// are
// not judged, and nothing is verified.
func ReadSigned(data []byte) (Signed, error) {
	var s Signed
	der, err := ber.ToDER(data)
	if err != nil {
		return s, fmt.Errorf("signature: %w", err)
	}
	in := cryptobyte.String(der)
	var outer, wrapped, body, content, certificates, signers, info cryptobyte.String
	var oid asn1.ObjectIdentifier
	var version int
	var there bool
	if !in.ReadASN1(&outer, casn1.SEQUENCE) || !outer.ReadASN1ObjectIdentifier(&oid) || !oid.Equal(oidSigned) ||
		!outer.ReadASN1(&wrapped, context0Outer) || !wrapped.ReadASN1(&body, casn1.SEQUENCE) ||
		!body.ReadASN1Integer(&version) || !body.SkipASN1(casn1.SET) || !body.ReadASN1(&content, casn1.SEQUENCE) ||
		!body.ReadOptionalASN1(&certificates, &there, context0Outer) ||
		!body.SkipOptionalASN1(casn1.Tag(1).ContextSpecific().Constructed()) ||
		!body.ReadASN1(&signers, casn1.SET) || !content.ReadASN1ObjectIdentifier(&oid) {
		return s, errors.New("signature: its SignedData cannot be parsed (RFC 5652 section 5.1)")
	}
	if !content.Empty() {
		var octets cryptobyte.String
		if !content.ReadASN1(&content, context0Outer) || !content.ReadASN1(&octets, casn1.OCTET_STRING) {
			return s, errors.New("signature: its content cannot be parsed (RFC 5652 section 5.2)")
		}
		s.Content = append([]byte{}, octets...)
	}
	for !certificates.Empty() {
		var one cryptobyte.String
		var tag casn1.Tag
		if !certificates.ReadAnyASN1Element(&one, &tag) || len(s.Certificates) == MostObjects {
			return s, errors.New("signature: its certificates cannot be parsed")
		}
		if tag == casn1.SEQUENCE {
			s.Certificates = append(s.Certificates, slices.Clone(one))
		}
	}
	if !signers.ReadASN1(&info, casn1.SEQUENCE) || !signers.Empty() {
		return s, errors.New("signature: it has no signer, or several")
	}
	if err := s.readSigner(info); err != nil {
		return s, err
	}
	if !s.contentType.Equal(oid) {
		return s, errors.New("signature: its attributes name another type of content")
	}
	return s, nil
}

func (s *Signed) readSigner(info cryptobyte.String) error {
	var version int
	var who, issuer, serial, hash, attributes, algorithm, signature cryptobyte.String
	var oid asn1.ObjectIdentifier
	if !info.ReadASN1Integer(&version) || !info.ReadASN1(&who, casn1.SEQUENCE) ||
		!who.ReadASN1Element(&issuer, casn1.SEQUENCE) || !who.ReadASN1Element(&serial, casn1.INTEGER) ||
		!info.ReadASN1(&hash, casn1.SEQUENCE) || !hash.ReadASN1ObjectIdentifier(&oid) ||
		!info.ReadASN1(&attributes, context0Outer) || !info.ReadASN1Element(&algorithm, casn1.SEQUENCE) ||
		!info.ReadASN1(&signature, casn1.OCTET_STRING) {
		return errors.New("signature: its signer cannot be parsed (RFC 5652 section 5.3)")
	}
	at := 0
	for at < len(digests) && !digests[at].id.Equal(oid) {
		at++
	}
	if at == len(digests) {
		return fmt.Errorf("signature: its digest %s is not known", oid)
	}
	s.Hash = digests[at].hash
	var err error
	if s.algorithm, err = readSignerAlgorithm(algorithm, digests[at].rsa); err != nil {
		return err
	}
	s.issuer, s.serial, s.signature = issuer, serial, signature
	var b cryptobyte.Builder
	b.AddASN1(casn1.SET, func(b *cryptobyte.Builder) { b.AddBytes(attributes) })
	if s.attributes, err = b.Bytes(); err != nil {
		return err
	}
	return s.readAttributes(attributes)
}

// readSignerAlgorithm reads the algorithm of a signature. rsaEncryption alone goes by the digest (RFC 5754 section
// 3.2).
func readSignerAlgorithm(whole cryptobyte.String, arc int) (key.Algorithm, error) {
	seq := whole
	var oid asn1.ObjectIdentifier
	if seq.ReadASN1(&seq, casn1.SEQUENCE) && seq.ReadASN1ObjectIdentifier(&oid) && oid.Equal(oidRSA) {
		der, err := algorithmOf(append(slices.Clone(oidRSA[:6]), arc))
		if err != nil {
			return key.Algorithm{}, err
		}
		return key.ReadAlgorithm(der)
	}
	return key.ReadAlgorithm(whole)
}

func (s *Signed) readAttributes(in cryptobyte.String) error {
	bad := errors.New("signature: its attributes cannot be parsed (RFC 5652 section 11)")
	seen := map[string]bool{}
	for !in.Empty() {
		var one, values, element cryptobyte.String
		var tag casn1.Tag
		var oid asn1.ObjectIdentifier
		if !in.ReadASN1(&one, casn1.SEQUENCE) || !one.ReadASN1ObjectIdentifier(&oid) ||
			!one.ReadASN1(&values, casn1.SET) || seen[oid.String()] || len(seen) > mostAttributes {
			return bad
		}
		seen[oid.String()] = true
		if !values.ReadAnyASN1Element(&element, &tag) || !values.Empty() {
			return bad
		}
		if !s.readAttribute(oid, element) {
			return bad
		}
	}
	if len(s.digest) == 0 || !seen[oidContentType.String()] {
		return errors.New("signature: its attributes lack the digest or the type (RFC 5652 section 5.3)")
	}
	return nil
}

func (s *Signed) readAttribute(oid asn1.ObjectIdentifier, value cryptobyte.String) bool {
	switch whole := slices.Clone(value); {
	case oid.Equal(oidContentType):
		return value.ReadASN1ObjectIdentifier(&s.contentType)
	case oid.Equal(oidMessageDigest):
		var digest cryptobyte.String
		ok := value.ReadASN1(&digest, casn1.OCTET_STRING)
		s.digest = digest
		return ok
	case oid.Equal(oidSigningTime):
		again := value
		return value.ReadASN1UTCTime(&s.When) || again.ReadASN1GeneralizedTime(&s.When)
	default:
		s.Attributes = append(s.Attributes, Attribute{oid, whole})
	}
	return true
}

// Signer is the position of the signer's certificate; -1 when it is not there.
func (s Signed) Signer() int {
	return slices.IndexFunc(s.Certificates, func(der []byte) bool {
		issuer, serial, err := issuerAndSerial(der)
		return err == nil && bytes.Equal(issuer, s.issuer) && bytes.Equal(serial, s.serial)
	})
}

// Attribute is the value of an attribute; nil if it is missing.
func (s Signed) Attribute(id asn1.ObjectIdentifier) []byte {
	for _, a := range s.Attributes {
		if a.ID.Equal(id) {
			return a.Value
		}
	}
	return nil
}

// Verify says whether the key signed the content that is in it. older lets SHA-1 pass.
func (s Signed) Verify(by key.Public, older bool) error {
	if older && s.Hash == crypto.SHA1 {
		return s.verifyOlder(by)
	}
	return s.verify(s.Content, by)
}

func (s Signed) verify(content []byte, by key.Public) error {
	if err := s.digested(content); err != nil {
		return err
	}
	if s.Hash == crypto.SHA1 || s.algorithm.Weak() || !s.algorithm.Known() {
		return fmt.Errorf("signature: its algorithm, %s, proves nothing", s.algorithm.Name)
	}
	if err := by.Verify(s.algorithm, s.attributes, s.signature); err != nil {
		return fmt.Errorf("signature: %w", err)
	}
	return nil
}

func (s Signed) digested(content []byte) error {
	h := s.Hash.New()
	h.Write(content)
	if subtle.ConstantTimeCompare(h.Sum(nil), s.digest) != 1 {
		return errors.New("signature: it is of another content")
	}
	return nil
}

// verifyOlder verifies a signature with SHA-1 by an RSA key.
func (s Signed) verifyOlder(by key.Public) error {
	if err := s.digested(s.Content); err != nil {
		return err
	}
	k, ok := by.Key.(*rsa.PublicKey)
	if !ok {
		return errors.New("signature: SHA-1 is taken with RSA keys alone")
	}
	h := crypto.SHA1.New()
	h.Write(s.attributes)
	if err := rsa.VerifyPKCS1v15(k, crypto.SHA1, h.Sum(nil), s.signature); err != nil {
		return fmt.Errorf("signature: %w", err)
	}
	return nil
}
