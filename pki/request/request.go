// Package request drafts, reads and examines signing requests (PKCS#10, RFC
// 2986).
//
// The reader is our own, because real devices send what the standard library
// refuses or silently drops: characters that a PrintableString does not allow,
// attributes left out altogether, compressed curve points, several extension
// requests in one request, and an older vendor attribute for the same thing.
// What was bent is kept as a remark, and the bytes stay as they came.
//
// Read says what a request is; Examine says what an expert would notice.
package request

import (
	"bytes"
	"crypto"
	"crypto/sha256"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"slices"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/san"
)

// Most is how many bytes a request may have.
const Most = 4 << 20

var (
	oidExtensionRequest = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 14}
	oidOlderRequest     = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 2, 1, 14}
	oidChallenge        = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 7}
)

// Request is a signing request that was read.
type Request struct {
	Raw        []byte
	Subject    dn.Name
	Key        key.Public
	Names      []san.Name
	Extensions ext.Set
	Challenge  bool // a challenge password is present
	Algorithm  key.Algorithm
	Remarks    []string // where it bends the rules
	tbs        []byte
	signature  []byte
	password   string
}

// Password is the challenge password (RFC 2985 section 5.4.1); "" if none exists. It is a secret between the
// machine and whoever signs: only protocols that carry it so look at it, and it is shown nowhere.
func (r *Request) Password() string { return r.password }

// Read reads a request. It does not check the signature; see Proven.
func Read(der []byte) (*Request, error) {
	if len(der) > Most {
		return nil, fmt.Errorf("request: %d bytes; the most that is read is %d", len(der), Most)
	}
	der = slices.Clone(der) // everything below is a part of this copy
	in := cryptobyte.String(der)
	var outer, tbs, alg, sig cryptobyte.String
	if !in.ReadASN1(&outer, casn1.SEQUENCE) || !in.Empty() || !outer.ReadASN1Element(&tbs, casn1.SEQUENCE) ||
		!outer.ReadASN1Element(&alg, casn1.SEQUENCE) || !outer.ReadASN1(&sig, casn1.BIT_STRING) || len(sig) < 1 ||
		sig[0] != 0 {
		return nil, errors.New("request: it is not the ASN.1 structure of a signing request (RFC 2986 section 4)")
	}
	r := &Request{Raw: der, tbs: tbs, signature: sig[1:]}
	var err error
	if r.Algorithm, err = key.ReadAlgorithm(alg); err != nil {
		return nil, fmt.Errorf("request: %w", err)
	}
	if err := r.readInfo(tbs); err != nil {
		return nil, fmt.Errorf("request: %w", err)
	}
	return r, nil
}

func (r *Request) readInfo(tbs cryptobyte.String) error {
	var body, subject, spki, attributes cryptobyte.String
	var version int
	if !tbs.ReadASN1(&body, casn1.SEQUENCE) || !body.ReadASN1Integer(&version) ||
		!body.ReadASN1Element(&subject, casn1.SEQUENCE) || !body.ReadASN1Element(&spki, casn1.SEQUENCE) {
		return errors.New("its version, subject or key cannot be parsed")
	}
	if version != 0 {
		r.Remarks = append(r.Remarks, fmt.Sprintf("its version is %d and should be 0", version))
	}
	var err error
	if r.Subject, err = dn.Read(subject); err != nil {
		return err
	}
	if r.Key, err = key.Read(spki); err != nil {
		return err
	}
	tag := casn1.Tag(0).ContextSpecific().Constructed()
	if !body.PeekASN1Tag(tag) {
		r.Remarks = append(r.Remarks, "it leaves out the attributes, even the empty list")
		return nil
	}
	if !body.ReadASN1(&attributes, tag) {
		return errors.New("its attributes cannot be parsed")
	}
	return r.readAttributes(attributes)
}

// mostPassword is how long a challenge password may be.
const mostPassword = 255

func (r *Request) readAttributes(in cryptobyte.String) error {
	found := 0
	for count := 0; !in.Empty(); count++ {
		var attr, values cryptobyte.String
		var oid asn1.ObjectIdentifier
		if count > 1000 || !in.ReadASN1(&attr, casn1.SEQUENCE) || !attr.ReadASN1ObjectIdentifier(&oid) ||
			!attr.ReadASN1(&values, casn1.SET) {
			return errors.New("its attributes cannot be parsed")
		}
		switch {
		case oid.Equal(oidChallenge):
			r.Challenge = true
			var text cryptobyte.String
			var tag casn1.Tag
			if values.ReadAnyASN1(&text, &tag) && len(text) <= mostPassword {
				r.password = string(text)
			}
		case oid.Equal(oidExtensionRequest), oid.Equal(oidOlderRequest):
			for !values.Empty() {
				var one cryptobyte.String
				if !values.ReadASN1Element(&one, casn1.SEQUENCE) {
					return errors.New("its requested extensions cannot be parsed")
				}
				set, err := ext.ReadSet(one)
				if err != nil {
					return err
				}
				r.Extensions = append(r.Extensions, set...)
				found++
			}
			if oid.Equal(oidOlderRequest) {
				r.Remarks = append(r.Remarks, "it asks for extensions by an older vendor attribute")
			}
		}
	}
	if found > 1 {
		r.Remarks = append(r.Remarks, "it asks for extensions in more than one place; all were read")
	}
	return r.readNames()
}

func (r *Request) readNames() error {
	for _, e := range r.Extensions {
		if !e.ID.Equal(ext.AltNames) {
			continue
		}
		list, err := san.Read(e.Value)
		if err != nil {
			return err
		}
		if r.Names = append(r.Names, list...); len(r.Names) > san.Most {
			return fmt.Errorf("it lists more than %d names", san.Most)
		}
	}
	return nil
}

// Proven checks that whoever made the request holds its key: that the request
// is signed by it.
func (r *Request) Proven() error {
	if err := r.Key.Verify(r.Algorithm, r.tbs, r.signature); err != nil {
		return fmt.Errorf("request for %s: possession of the key is not proven: %w", r.Title(), err)
	}
	return nil
}

// Title is the shortest text by which a person knows the request.
func (r *Request) Title() string {
	switch {
	case r.Subject.CommonName() != "":
		return r.Subject.CommonName()
	case len(r.Names) > 0:
		return r.Names[0].Value()
	case !r.Subject.IsEmpty():
		return r.Subject.String()
	}
	return "an empty subject"
}

// SHA256 is the hash of the request's bytes.
func (r *Request) SHA256() [32]byte { return sha256.Sum256(r.Raw) }

// Usage returns the key usage and extended key usage that are asked for.
func (r *Request) Usage() (ext.KeyUsage, []asn1.ObjectIdentifier) {
	var usage ext.KeyUsage
	var extended []asn1.ObjectIdentifier
	if e, ok := r.Extensions.Find(ext.KeyUsageID); ok {
		usage, _ = ext.ReadKeyUsage(e.Value)
	}
	if e, ok := r.Extensions.Find(ext.ExtendedUsage); ok {
		extended, _ = ext.ReadExtendedUsage(e.Value)
	}
	return usage, extended
}

// AsksAuthority reports whether the request asks to be an authority: by basic
// constraints or by a usage that only authorities have.
func (r *Request) AsksAuthority() bool {
	for _, e := range r.Extensions {
		if e.ID.Equal(ext.BasicID) {
			if c, err := ext.ReadBasic(e.Value); err != nil || c.Authority {
				return true
			}
		}
	}
	usage, _ := r.Usage()
	return usage&(ext.KeyCertSign|ext.CRLSign) != 0
}

// Draft makes a request: it names the subject, asks for the alternative names
// and the usages, and is signed by its key.
func Draft(subject dn.Name, extensions ext.Set, signer crypto.Signer, random io.Reader) ([]byte, error) {
	return DraftWithPassword(subject, extensions, "", signer, random)
}

// DraftWithPassword is Draft with a challenge password (RFC 2985 section 5.4.1); "" for none.
func DraftWithPassword(subject dn.Name, extensions ext.Set, password string, signer crypto.Signer, random io.Reader) (
	[]byte, error) {
	pub, err := key.Of(signer)
	if err != nil {
		return nil, err
	}
	var attributes [][]byte
	attribute := func(id asn1.ObjectIdentifier, value cryptobyte.BuilderContinuation) {
		var b cryptobyte.Builder
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1ObjectIdentifier(id)
			b.AddASN1(casn1.SET, value)
		})
		attributes = append(attributes, b.BytesOrPanic())
	}
	if len(extensions) > 0 {
		attribute(oidExtensionRequest, func(b *cryptobyte.Builder) { extensions.Add(b) })
	}
	if password != "" {
		attribute(oidChallenge, func(b *cryptobyte.Builder) {
			b.AddASN1(casn1.UTF8String, func(b *cryptobyte.Builder) { b.AddBytes([]byte(password)) })
		})
	}
	slices.SortFunc(attributes, bytes.Compare)
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1Int64(0)
		b.AddBytes(subject.DER())
		b.AddBytes(pub.SPKI)
		b.AddASN1(casn1.Tag(0).ContextSpecific().Constructed(), func(b *cryptobyte.Builder) {
			for _, a := range attributes {
				b.AddBytes(a)
			}
		})
	})
	tbs, err := b.Bytes()
	if err != nil {
		return nil, fmt.Errorf("request for %s: %w", subject, err)
	}
	return key.SignedObject(tbs, signer, random)
}
