// Package revocation reads, makes and numbers revocation lists, and judges by them.
//
// A list may have a million entries, and clients ask it one question: is this serial on
// it? So a list that was read keeps its entries as the bytes they were, proved well-formed
// once from end to end, and answers by walking along them. A list that is made takes its
// entries as bytes too, from the list before where that holds them already.
package revocation

import (
	"bytes"
	"crypto/sha256"
	"encoding/asn1"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"time"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/distpoint"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/key"
)

// List is a revocation list that was read (RFC 5280 section 5.1).
type List struct {
	Raw        []byte
	Issuer     dn.Name
	ThisUpdate time.Time
	NextUpdate time.Time // zero where it says none
	Number     *big.Int  // nil where it has none
	Base       *big.Int  // of a delta list, the number of the list that it adds to; nil for a complete one
	KeyID      []byte    // of the key that signed it, as it says itself; nil where it does not
	Scoped     bool      // it is not about all that its issuer issued, but about:
	Scope      distpoint.Scope
	Freshest   []distpoint.Point // where its delta is
	Count      int               // of its entries

	entries, tbs, signature []byte
	behind                  int // octets that follow the entries
	algorithm               key.Algorithm
}

// Bounds of what is read.
const (
	Most     = 5_000_000 // entries
	MostSize = 512 << 20 // octets
)

// ReadList reads a revocation list, which keeps hold of the bytes. They may be hostile.
func ReadList(der []byte) (*List, error) {
	l, err := Skim(der)
	if err == nil {
		if why := l.prove(); why != nil {
			err = &Unjudged{why}
		}
	}
	if err != nil {
		return nil, fmt.Errorf("revocation list: %w", err)
	}
	return l, nil
}

// Skim reads a list and leaves its entries unread: for one of our own, whose entries are
// proved by a hash. Such a list does not know how many it has.
func Skim(der []byte) (*List, error) {
	if len(der) > MostSize {
		return nil, fmt.Errorf("%d octets; the most that is read is %d", len(der), MostSize)
	}
	in := cryptobyte.String(der)
	var outer, tbs, body, alg, sig cryptobyte.String
	notOne := errors.New("it is not the ASN.1 structure of one (RFC 5280 section 5.1)")
	if !in.ReadASN1(&outer, casn1.SEQUENCE) || !in.Empty() || !outer.ReadASN1Element(&tbs, casn1.SEQUENCE) {
		return nil, notOne
	}
	l := &List{Raw: der, tbs: tbs, behind: len(outer)}
	if !outer.ReadASN1Element(&alg, casn1.SEQUENCE) || !outer.ReadASN1(&sig, casn1.BIT_STRING) || !outer.Empty() ||
		len(sig) == 0 || sig[0] != 0 {
		return nil, notOne
	}
	l.signature = sig[1:]
	var err error
	if l.algorithm, err = key.ReadAlgorithm(alg); err != nil {
		return nil, err
	}
	content := tbs
	if !content.ReadASN1(&body, casn1.SEQUENCE) {
		return nil, errors.New("its content cannot be parsed")
	}
	if err := l.readBody(body, alg); err != nil {
		return l, &Unjudged{err}
	}
	return l, nil
}

// Unjudged says that something is a list, and that what it tells cannot be judged: a part of it cannot
// be read, or is critical and not understood. A client continues as if the list were not there (RFC 5280
// section 5.2).
type Unjudged struct{ Why error }

// Error implements error.
func (u *Unjudged) Error() string { return u.Why.Error() }

// Unwrap gives the cause.
func (u *Unjudged) Unwrap() error { return u.Why }

func (l *List) readBody(body, outerAlg cryptobyte.String) error {
	var alg, issuer cryptobyte.String
	version := 0
	if body.PeekASN1Tag(casn1.INTEGER) && (!body.ReadASN1Integer(&version) || version != 1) ||
		!body.ReadASN1Element(&alg, casn1.SEQUENCE) || !body.ReadASN1Element(&issuer, casn1.SEQUENCE) {
		return errors.New("version, algorithm or issuer cannot be parsed")
	}
	if string(alg) != string(outerAlg) {
		return errors.New("it names two different signature algorithms")
	}
	var err error
	if l.Issuer, err = dn.Read(issuer); err != nil {
		return fmt.Errorf("its issuer cannot be parsed: %w", err)
	}
	if !readTime(&body, &l.ThisUpdate) {
		return errors.New("its date cannot be parsed")
	}
	if (body.PeekASN1Tag(casn1.UTCTime) || body.PeekASN1Tag(casn1.GeneralizedTime)) && !readTime(&body, &l.NextUpdate) {
		return errors.New("the date of its successor cannot be parsed")
	}
	if body.PeekASN1Tag(casn1.SEQUENCE) {
		var list cryptobyte.String
		if !body.ReadASN1(&list, casn1.SEQUENCE) {
			return errors.New("its entries cannot be parsed")
		}
		l.entries = list
	}
	l.behind += len(body)
	return l.readExtensions(body)
}

// Encoded are the entries' octets as the list has them.
func (l *List) Encoded() []byte { return l.entries }

// handled are the extensions of lists that may be critical.
var handled = []asn1.ObjectIdentifier{ext.ListNumber, ext.AuthorityKeyID, ext.DeltaBase, ext.ListScope}

func (l *List) readExtensions(body cryptobyte.String) error {
	if body.Empty() {
		return nil
	}
	var field cryptobyte.String
	if !body.ReadASN1(&field, casn1.Tag(0).ContextSpecific().Constructed()) || !body.Empty() {
		return errors.New("something unknown follows its entries")
	}
	set, err := ext.ReadSet(field)
	if err != nil {
		return err
	}
	if err := understood(set, handled...); err != nil {
		return err
	}
	for _, x := range set {
		if x.Loose != "" {
			return fmt.Errorf("extension %s: %s", ext.NameOf(x.ID), x.Loose)
		}
		switch {
		case x.ID.Equal(ext.ListNumber):
			l.Number, err = readNumber(x.Value)
		case x.ID.Equal(ext.DeltaBase):
			l.Base, err = readNumber(x.Value)
		case x.ID.Equal(ext.AuthorityKeyID):
			l.KeyID, err = ext.ReadAuthorityKeyID(x.Value)
		case x.ID.Equal(ext.ListScope):
			l.Scoped = true
			l.Scope, err = distpoint.ReadScope(x.Value, l.Issuer)
		case x.ID.Equal(ext.FreshestID):
			l.Freshest, err = distpoint.Read(x.Value, l.Issuer)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func readNumber(value []byte) (*big.Int, error) {
	in := cryptobyte.String(value)
	n := new(big.Int)
	if !in.ReadASN1Integer(n) || !in.Empty() || n.Sign() < 0 || len(n.Bytes()) > 20 {
		return nil, errors.New("its number cannot be parsed (RFC 5280 section 5.2.3)")
	}
	return n, nil
}

// understood refuses a set with a critical extension that is not among those known
// here, or with one twice: the list may say something else than it seems to (RFC
// 5280 sections 5.2 and 5.3).
func understood(set ext.Set, known ...asn1.ObjectIdentifier) error {
	if twice := set.Repeated(); len(twice) > 0 {
		return fmt.Errorf("the extension %s stands twice", ext.NameOf(twice[0]))
	}
	for _, x := range set {
		if x.Critical && !slices.ContainsFunc(known, x.ID.Equal) {
			return fmt.Errorf("its critical extension %s is not understood here: what it lists cannot be relied on",
				ext.NameOf(x.ID))
		}
	}
	return nil
}

func readTime(s *cryptobyte.String, t *time.Time) bool {
	if s.PeekASN1Tag(casn1.UTCTime) {
		return s.ReadASN1UTCTime(t)
	}
	return s.ReadASN1GeneralizedTime(t)
}

// VerifiedBy checks the list's signature with a key.
func (l *List) VerifiedBy(p key.Public) error { return p.Verify(l.algorithm, l.tbs, l.signature) }

// Weak reports whether its signature is of a kind that must not be relied on.
func (l *List) Weak() bool { return l.algorithm.Weak() }

// SHA256 is the list's fingerprint, as other programs print it of the file.
func (l *List) SHA256() [32]byte { return sha256.Sum256(l.Raw) }

// Fresh says why a list is not to be used at a moment, or "": its time has not come, or
// its successor is due.
func (l *List) Fresh(now time.Time) string {
	switch {
	case now.Before(l.ThisUpdate):
		return "it is dated " + l.ThisUpdate.Format(time.RFC3339) + ", which is still to come"
	case !l.NextUpdate.IsZero() && now.After(l.NextUpdate):
		return "it is stale since " + l.NextUpdate.Format("2006-01-02 15:04 UTC")
	}
	return ""
}

// SameScope reports whether two lists are about the same certificates.
func (l *List) SameScope(o *List) bool {
	if !l.Issuer.Equal(o.Issuer) || l.Scoped != o.Scoped || !bytes.Equal(l.KeyID, o.KeyID) {
		return false
	}
	a, b := l.Scope, o.Scope
	named := len(a.Names) == 0 && len(b.Names) == 0 || distpoint.Meet(a.Names, b.Names)
	a.Names, b.Names = nil, nil
	return named && a.OnlyUsers == b.OnlyUsers && a.OnlyAuthorities == b.OnlyAuthorities &&
		a.OnlyAttributes == b.OnlyAttributes && a.Reasons == b.Reasons && a.Indirect == b.Indirect
}
