package issue

import (
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

// Refused says which findings stand against signing.
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
	return fmt.Sprintf("%s: refused by %s: %s%s", r.About, f.Code, f.Message, more)
}

// Seal signs the plan's draft with the issuer's key and returns the
// certificate. The signer must have the key of the issuer's own certificate, the
// signature is verified as it is made, and the result is read back without a
// fault, before anything is returned.
func Seal(p Plan, serial *big.Int, signer crypto.Signer, random io.Reader) (*cert.Certificate, error) {
	if r := p.Findings.Refusing(); len(r) > 0 {
		return nil, &Refused{About: p.Draft.Subject.String(), Findings: r}
	}
	if p.in.Request == nil {
		return nil, errors.New("sealing: the plan has no key yet")
	}
	d := p.Draft
	d.Serial = serial
	issuerKey := p.in.Request.Key
	if p.in.Issuer != nil {
		issuerKey = p.in.Issuer.Certificate.Key
	}
	pub, err := key.Of(signer)
	if err != nil {
		return nil, fmt.Errorf("sealing for %s: %w", d.Subject, err)
	}
	if !key.Same(pub, issuerKey) {
		return nil, fmt.Errorf("sealing for %s: the key that was opened is not the issuer's", d.Subject)
	}
	der, err := d.Sign(signer, random)
	if err != nil {
		return nil, fmt.Errorf("sealing for %s: %w", d.Subject, err)
	}
	c, err := cert.Read(der)
	if err != nil {
		return nil, fmt.Errorf("sealing for %s: the result does not read: %w", d.Subject, err)
	}
	if len(c.Faults) > 0 {
		return nil, fmt.Errorf("sealing for %s: the result breaks the rules: %s", d.Subject, c.Faults[0])
	}
	return c, nil
}
