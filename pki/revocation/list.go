package revocation

import (
	"encoding/asn1"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"time"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/key"
)

// Entry is one revoked certificate.
type Entry struct {
	Serial cert.Serial
	At     time.Time
	Reason int // RFC 5280 section 5.3.1; 0 where none is given
}

// List is a revocation list that was read (RFC 5280 section 5.1).
type List struct {
	Issuer     dn.Name
	ThisUpdate time.Time
	NextUpdate time.Time // zero where it says none
	Number     *big.Int  // nil where it has none
	Entries    []Entry

	tbs, signature []byte
	algorithm      key.Algorithm
}

// Most is how many entries are read from one list.
const Most = 5_000_000

// ReadList reads a revocation list. The bytes may be hostile.
func ReadList(der []byte) (*List, error) {
	in := cryptobyte.String(der)
	var outer, tbs, body, alg, sig cryptobyte.String
	if !in.ReadASN1(&outer, casn1.SEQUENCE) || !in.Empty() || !outer.ReadASN1Element(&tbs, casn1.SEQUENCE) ||
		!outer.ReadASN1Element(&alg, casn1.SEQUENCE) ||
		!outer.ReadASN1(&sig, casn1.BIT_STRING) || len(sig) == 0 || sig[0] != 0 {
		return nil, errors.New("revocation list: it is not the ASN.1 structure of one (RFC 5280 section 5.1)")
	}
	l := &List{tbs: tbs, signature: sig[1:]}
	var err error
	if l.algorithm, err = key.ReadAlgorithm(alg); err != nil {
		return nil, fmt.Errorf("revocation list: %w", err)
	}
	content := tbs
	if !content.ReadASN1(&body, casn1.SEQUENCE) {
		return nil, errors.New("revocation list: its content cannot be parsed")
	}
	if err := l.readBody(body, alg); err != nil {
		return nil, fmt.Errorf("revocation list: %w", err)
	}
	return l, nil
}

func (l *List) readBody(body, outerAlg cryptobyte.String) error {
	var alg, issuer cryptobyte.String
	if body.PeekASN1Tag(casn1.INTEGER) && !body.SkipASN1(casn1.INTEGER) ||
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
		if err := l.readEntries(list); err != nil {
			return err
		}
	}
	return l.readExtensions(body)
}

func (l *List) readEntries(list cryptobyte.String) error {
	for !list.Empty() {
		var one, set cryptobyte.String
		var e Entry
		n := new(big.Int)
		if !list.ReadASN1(&one, casn1.SEQUENCE) || !one.ReadASN1Integer(n) || !readTime(&one, &e.At) ||
			len(l.Entries) == Most {
			return fmt.Errorf("entry %d cannot be parsed", len(l.Entries)+1)
		}
		e.Serial = cert.SerialOf(n)
		if one.ReadASN1Element(&set, casn1.SEQUENCE) {
			extensions, err := ext.ReadSet(set)
			if err != nil {
				return fmt.Errorf("entry %d: %w", len(l.Entries)+1, err)
			}
			if err := understood(extensions, ext.ReasonCode); err != nil {
				return fmt.Errorf("entry %d: %w", len(l.Entries)+1, err)
			}
			if x, ok := extensions.Find(ext.ReasonCode); ok {
				value := cryptobyte.String(x.Value)
				if !value.ReadASN1Enum(&e.Reason) || e.Reason < 0 || e.Reason > 10 {
					return fmt.Errorf("entry %d: its reason cannot be parsed", len(l.Entries)+1)
				}
			}
		}
		l.Entries = append(l.Entries, e)
	}
	return nil
}

func (l *List) readExtensions(body cryptobyte.String) error {
	if body.Empty() {
		return nil
	}
	var field cryptobyte.String
	if !body.ReadASN1(&field, casn1.Tag(0).ContextSpecific().Constructed()) {
		return errors.New("something unknown follows its entries")
	}
	set, err := ext.ReadSet(field)
	if err != nil {
		return err
	}
	if err := understood(set, ext.ListNumber, ext.AuthorityKeyID); err != nil {
		return err
	}
	if x, ok := set.Find(ext.ListNumber); ok {
		value := cryptobyte.String(x.Value)
		l.Number = new(big.Int)
		if !value.ReadASN1Integer(l.Number) {
			return errors.New("its number cannot be parsed")
		}
	}
	return nil
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
