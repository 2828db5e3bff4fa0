// Package handover puts certificates and keys into an order and an encoding.
//
// Sort makes a bundle out of certificates and keys in any order: the leaf, its issuers in order, the root, the key that
// belongs to the leaf; what it had to repair or leave out it says. Encode writes a bundle in
// one format. Which files a kind of consumer wants is in package receiver.
package handover

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"slices"

	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/key"
	"ironseal/pki/path"
	"ironseal/pki/pbes"
	"ironseal/pki/pkcs"
	"ironseal/pki/span"
)

// Bundle are what is handed over.
type Bundle struct {
	Leaf          *cert.Certificate
	Intermediates []*cert.Certificate // the leaf's issuer first
	Root          *cert.Certificate   // nil where it is not known
	Links         []*cert.Certificate // by which another root vouches for this one
	Key           crypto.Signer       // nil where it is elsewhere
}

// Chain returns the leaf, the intermediates and the root.
func (g Bundle) Chain() []*cert.Certificate {
	var out []*cert.Certificate
	if g.Leaf != nil {
		out = append(out, g.Leaf)
	}
	out = append(out, g.Intermediates...)
	if g.Root != nil && g.Root != g.Leaf {
		out = append(out, g.Root)
	}
	return out
}

// Sort makes a bundle out of certificates and keys in any order. notes say what
// was put in order or left out.
func Sort(list []*cert.Certificate, keys []crypto.Signer) (g Bundle, notes []string, err error) {
	unique := make([]*cert.Certificate, 0, len(list))
	seen := map[[32]byte]bool{}
	for _, c := range list {
		if sum := c.SHA256(); !seen[sum] {
			seen[sum] = true
			unique = append(unique, c)
		}
	}
	if n := len(list) - len(unique); n > 0 {
		notes = append(notes, span.Count(n, "duplicate certificate")+" dropped")
	}
	if g.Key, g.Leaf, err = match(unique, keys); err != nil {
		return g, notes, err
	}
	if len(unique) == 0 {
		return g, notes, nil
	}
	if g.Leaf == nil {
		g.Leaf = path.LeafOf(unique)
	}
	chain := path.Ordered(append([]*cert.Certificate{g.Leaf}, unique...))
	if chain[0] != g.Leaf { // a loop of issuers has no leaf of its own
		chain = []*cert.Certificate{g.Leaf}
	}
	for i, c := range chain[1:] {
		if i == len(chain)-2 && c.SelfSigned() {
			g.Root = c
		} else {
			g.Intermediates = append(g.Intermediates, c)
		}
	}
	for i := range min(len(chain), len(unique)) {
		if chain[i] != unique[i] {
			notes = append(notes, "the chain was put in order: leaf, intermediates, root")
			break
		}
	}
	for _, c := range unique {
		if !slices.Contains(chain, c) {
			notes = append(notes, fmt.Sprintf("%s does not belong to the chain and was left out", c.Title()))
		}
	}
	return g, notes, nil
}

// match finds the key that belongs to one of the certificates.
func match(list []*cert.Certificate, keys []crypto.Signer) (crypto.Signer, *cert.Certificate, error) {
	var signer crypto.Signer
	var leaf *cert.Certificate
	seen := map[[32]byte]bool{}
	for _, k := range keys {
		pub, err := key.Of(k)
		if err != nil {
			return nil, nil, err
		}
		if seen[pub.Fingerprint()] {
			continue
		}
		seen[pub.Fingerprint()] = true
		for _, c := range list {
			if key.Same(c.Key, pub) && c != leaf {
				if signer != nil && signer != k {
					return nil, nil, errors.New("there are two keys, each with a certificate: hand over one at a time")
				}
				signer, leaf = k, c
				break
			}
		}
	}
	switch {
	case len(seen) == 0 || signer != nil:
		return signer, leaf, nil
	case len(list) == 0 && len(seen) == 1:
		return keys[0], nil, nil
	case len(list) == 0:
		return nil, nil, errors.New("there are two keys: give one at a time")
	}
	return nil, nil, fmt.Errorf("the key belongs to none of the %s: it is the key of another certificate",
		span.Count(len(list), "certificate"))
}

// Format is a form in which a bundle is written.
type Format string

const (
	PEM          Format = "pem"
	DER          Format = "der"           // one certificate
	P7B          Format = "p7b"           // PKCS#7, binary
	P7BText      Format = "p7b-pem"       // PKCS#7, text
	P12          Format = "p12"           // PKCS#12
	P12MAC       Format = "p12-pbmac1"    // PKCS#12 with the MAC of RFC 9579
	P12Older     Format = "p12-older"     // PKCS#12 for devices that read nothing newer
	KeyPlain     Format = "key"           // PKCS#8, open
	KeyEncrypted Format = "key-encrypted" // PKCS#8, encrypted
	KeyPKCS1     Format = "key-pkcs1"     // RSA only
	KeySEC1      Format = "key-sec1"      // elliptic only
)

// Formats lists the formats.
func Formats() []Format {
	return []Format{PEM, DER, P7B, P7BText, P12, P12MAC, P12Older, KeyPlain, KeyEncrypted, KeyPKCS1, KeySEC1}
}

// FormatNamed is the format of a name, whether or not there is such a one. Earlier versions had another name for
// encrypted keys.
func FormatNamed(name string) Format {
	if name == "key-sealed" {
		return KeyEncrypted
	}
	return Format(name)
}

// UnmarshalText reads a format's name in a file.
func (f *Format) UnmarshalText(text []byte) error {
	*f = FormatNamed(string(text))
	return nil
}

// NeedsPassword reports whether the format is encrypted under a password.
func (f Format) NeedsPassword() bool {
	return f == P12 || f == P12MAC || f == P12Older || f == KeyEncrypted
}

// IsStore reports a PKCS#12 file. Without a key it can be written without a password.
func (f Format) IsStore() bool { return f == P12 || f == P12MAC || f == P12Older }

// HoldsKey reports whether the format may hold a private key.
func (f Format) HoldsKey() bool {
	return f.NeedsPassword() || f == KeyPlain || f == KeyPKCS1 || f == KeySEC1
}

// Ending is the file name ending that is usual for the format.
func (f Format) Ending() string {
	switch f {
	case DER:
		return ".der"
	case P7B, P7BText:
		return ".p7b"
	case P12, P12MAC, P12Older:
		return ".p12"
	case KeyPlain, KeyEncrypted, KeyPKCS1, KeySEC1:
		return ".key.pem"
	}
	return ".pem"
}

// Parts of a bundle that a file may hold.
const (
	PartKey           = "key"
	PartLeaf          = "leaf"
	PartIntermediates = "intermediates"
	PartRoot          = "root"
	PartLinks         = "links"
)

// Writing says how a bundle is written.
type Writing struct {
	Parts        []string // in the order in which they stand
	Format       Format
	Password     []byte
	FriendlyName string
	Random       io.Reader
}

// Encode writes a bundle in one format.
func Encode(g Bundle, w Writing) ([]byte, error) {
	chosen, signer, err := g.choose(w)
	if err != nil {
		return nil, err
	}
	var ders [][]byte
	for _, c := range chosen {
		ders = append(ders, c.Raw)
	}
	switch w.Format {
	case PEM:
		return g.armoured(w, chosen, signer)
	case DER:
		if len(ders) != 1 {
			return nil, fmt.Errorf("DER holds exactly one certificate, and there are %d: use pem, p7b or p12",
				len(ders))
		}
		return ders[0], nil
	case P7B:
		return pkcs.WriteSignedData(ders)
	case P7BText:
		der, err := pkcs.WriteSignedData(ders)
		return bundle.PEM(bundle.SignedData, der), err
	case P12, P12MAC, P12Older:
		return store(w, ders, signer)
	}
	return encodeKey(signer, w)
}

// choose takes the parts that are asked for, and says which are missing.
func (g Bundle) choose(w Writing) (chosen []*cert.Certificate, signer crypto.Signer, err error) {
	for _, p := range w.Parts {
		switch {
		case p == PartLeaf && g.Leaf != nil:
			chosen = append(chosen, g.Leaf)
		case p == PartIntermediates:
			chosen = append(chosen, g.Intermediates...)
			if !slices.Contains(w.Parts, PartRoot) { // with its root, a chain needs no link
				chosen = append(chosen, g.Links...)
			}
		case p == PartLinks:
			chosen = append(chosen, g.Links...)
		case p == PartRoot && g.Root != nil:
			chosen = append(chosen, g.Root)
		case p == PartRoot && g.Leaf != nil && g.Leaf.SelfSigned():
		case p == PartKey && g.Key != nil:
			signer = g.Key
		case p == PartKey:
			return nil, nil, fault.New(fault.NotFound,
				"the private key is needed, and is not here").Then(advice.To("give its file", advice.GiveKey))
		default:
			return nil, nil, fmt.Errorf("the %s is needed, and is not here", p)
		}
	}
	return chosen, signer, nil
}

func (g Bundle) armoured(w Writing, chosen []*cert.Certificate, signer crypto.Signer) ([]byte, error) {
	var b bytes.Buffer
	writeKey := func() error {
		out, err := encodeKey(signer, Writing{Format: KeyPlain})
		b.Write(out)
		return err
	}
	first := len(w.Parts) > 0 && w.Parts[0] == PartKey
	if signer != nil && first {
		if err := writeKey(); err != nil {
			return nil, err
		}
	}
	for _, c := range chosen {
		b.Write(bundle.PEM(bundle.Certificate, c.Raw))
	}
	if signer != nil && !first {
		if err := writeKey(); err != nil {
			return nil, err
		}
	}
	if b.Len() == 0 {
		return nil, errors.New("there is nothing to write")
	}
	return b.Bytes(), nil
}

func store(w Writing, ders [][]byte, signer crypto.Signer) ([]byte, error) {
	var entries []pkcs.StoreEntry
	if signer != nil {
		entries = append(entries, pkcs.StoreEntry{Signer: signer, Name: w.FriendlyName})
	}
	for i, der := range ders {
		e := pkcs.StoreEntry{Certificate: der, Anchor: signer == nil}
		if i == 0 || e.Anchor {
			e.Name = w.FriendlyName
		}
		if e.Anchor && i > 0 {
			e.Name = fmt.Sprintf("%s %d", w.FriendlyName, i+1)
		}
		entries = append(entries, e)
	}
	if len(entries) == 0 {
		return nil, errors.New("PKCS#12: there is nothing to write")
	}
	profile := map[Format]pkcs.Profile{P12: pkcs.Modern, P12MAC: pkcs.PBMAC1, P12Older: pkcs.Older}[w.Format]
	return pkcs.WriteStore(entries, w.Password, profile, w.Random)
}

func encodeKey(signer crypto.Signer, w Writing) ([]byte, error) {
	if signer == nil {
		return nil, errors.New("there is no private key to write")
	}
	switch w.Format {
	case KeyPlain:
		der, err := key.Plain(signer)
		return bundle.PEM(bundle.PrivateKey, der), err
	case KeyEncrypted:
		der, err := pbes.Encrypt(signer, w.Password, pbes.WorkGiven, w.Random)
		return bundle.PEM(bundle.EncryptedKey, der), err
	case KeyPKCS1:
		k, ok := signer.(*rsa.PrivateKey)
		if !ok {
			return nil, errors.New("the form PKCS#1 is for RSA keys only: use key or key-sec1")
		}
		return pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY", Bytes: x509.MarshalPKCS1PrivateKey(k)}), nil
	case KeySEC1:
		k, ok := signer.(*ecdsa.PrivateKey)
		if !ok {
			return nil, errors.New("the form SEC 1 is for elliptic keys only: use key or key-pkcs1")
		}
		der, err := x509.MarshalECPrivateKey(k)
		return pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: der}), err
	}
	return nil, fmt.Errorf("format %q: use one of %v", w.Format, Formats())
}
