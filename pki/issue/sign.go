package issue

import (
	"ironseal/pki/dn"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"crypto"
	"errors"
	"fmt"
	"io"
	"math/big"

	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/key"
)

// Serial makes a serial: 127 random bits, never zero.
func Serial(random io.Reader) (*big.Int, error) {
	b := make([]byte, 16)
	if _, err := io.ReadFull(random, b); err != nil {
		return nil, fmt.Errorf("serial: no randomness: %w", err)
	}
	b[0] &= 0x7f
	n := new(big.Int).SetBytes(b)
	if n.Sign() == 0 {
		n.SetInt64(1)
	}
	return n, nil
}

// Refused lists the findings that prevent signing.
type Refused struct {
	About    string
	Findings finding.List
}

func (r *Refused) Error() string {
	f := r.Findings[0]
	more := ""
	if n := len(r.Findings) - 1; n > 0 {
		more = fmt.Sprintf(" (and %d more)", n)
	}
	return fmt.Sprintf("%s: %s: %s%s", r.About, r.Findings[:1].Stops(), f.Message, more)
}

// Prepared is a plan's draft, encoded and ready to be signed: all of the work
// that needs no key, so that it can be done while the key is being opened.
type Prepared struct {
	tbs    []byte
	issuer *key.Public
}

// Prepare encodes the plan's draft with its serial. It refuses a plan that
// findings stand against.
func Prepare(p Plan, serial *big.Int) (Prepared, error) {
	if r := p.Findings.Refusing(); len(r) > 0 {
		return Prepared{}, &Refused{About: p.Draft.Subject.String(), Findings: r}
	}
	if p.in == nil || p.in.Request == nil {
		return Prepared{}, errors.New("signing: the plan has no key yet")
	}
	d := p.Draft
	d.Serial = serial
	out := Prepared{issuer: &p.in.Request.Key}
	if p.in.Issuer != nil {
		out.issuer = &p.in.Issuer.Certificate.Key
	}
	algorithm, _, err := out.issuer.SigningAlgorithm()
	if err == nil {
		out.tbs, err = d.TBS(algorithm)
	}
	if err != nil {
		return Prepared{}, fmt.Errorf("signing for %s: %w", d.Subject, err)
	}
	return out, nil
}

// about is the subject of what was prepared. It is read where it is needed, since very many are kept at once.
func (p Prepared) about() string {
	tbs := cryptobyte.String(p.tbs)
	var fields, subject cryptobyte.String
	ok := tbs.ReadASN1(&fields, casn1.SEQUENCE) &&
		fields.SkipOptionalASN1(casn1.Tag(0).Constructed().ContextSpecific()) &&
		fields.SkipASN1(casn1.INTEGER) && fields.SkipASN1(casn1.SEQUENCE) && fields.SkipASN1(casn1.SEQUENCE) &&
		fields.SkipASN1(casn1.SEQUENCE) && fields.ReadASN1Element(&subject, casn1.SEQUENCE)
	if n, err := dn.Read(subject); ok && err == nil {
		return n.String()
	}
	return "a subject that cannot be read"
}

// Sign signs what was prepared with the issuer's key and returns the
// certificate. The signer must have the key of the issuer's own certificate, the
// signature is verified as it is made, and the result is read back without a
// fault, before anything is returned.
func (p Prepared) Sign(signer crypto.Signer, random io.Reader) (*cert.Certificate, error) {
	if p.tbs == nil {
		return nil, errors.New("signing: nothing was prepared")
	}
	pub, err := key.Of(signer)
	if err != nil {
		return nil, fmt.Errorf("signing for %s: %w", p.about(), err)
	}
	if !key.Same(pub, *p.issuer) {
		return nil, fmt.Errorf("signing for %s: the key that was opened is not the issuer's", p.about())
	}
	der, err := key.SignedObject(p.tbs, signer, random)
	if err != nil {
		return nil, fmt.Errorf("signing for %s: %w", p.about(), err)
	}
	c, err := cert.Read(der)
	if err != nil {
		return nil, fmt.Errorf("signing for %s: the result cannot be parsed: %w", p.about(), err)
	}
	if len(c.Faults) > 0 {
		return nil, fmt.Errorf("signing for %s: the result breaks the rules: %s", p.about(), c.Faults[0])
	}
	return c, nil
}

// Sign prepares and signs in one go.
func Sign(p Plan, serial *big.Int, signer crypto.Signer, random io.Reader) (*cert.Certificate, error) {
	ready, err := Prepare(p, serial)
	if err != nil {
		return nil, err
	}
	return ready.Sign(signer, random)
}
