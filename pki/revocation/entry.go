package revocation

import (
	"bytes"
	"errors"
	"fmt"
	"math/big"
	"time"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/cert"
	"ironseal/pki/distpoint"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
)

// Entry is one revoked certificate.
type Entry struct {
	Serial  cert.Serial
	At      time.Time
	Reason  Reason
	Invalid time.Time // since when it is to be taken as bad; zero where it is not told
	Issuer  dn.Name   // who issued it, in an indirect list; empty elsewhere
}

// raw is an entry as it stands.
type raw struct {
	whole, serial, extensions []byte // content of the serial; extensions as a SEQUENCE, or nil
	time                      cryptobyte.String
}

// next takes the next entry off the encoded ones.
func next(in *cryptobyte.String) (r raw, ok bool) {
	var whole, body, serial, field cryptobyte.String
	var tag casn1.Tag
	if !in.ReadASN1Element(&whole, casn1.SEQUENCE) {
		return r, false
	}
	inner := whole
	if !inner.ReadASN1(&body, casn1.SEQUENCE) || !body.ReadASN1(&serial, casn1.INTEGER) || len(serial) == 0 ||
		len(serial) > 64 || len(serial) > 1 && (serial[0] == 0 && serial[1] < 0x80 || serial[0] == 0xff &&
		serial[1] >= 0x80) ||
		!body.ReadAnyASN1Element(&field, &tag) || tag != casn1.UTCTime && tag != casn1.GeneralizedTime {
		return r, false
	}
	r = raw{whole: whole, serial: serial, time: field}
	if !body.Empty() {
		if !body.ReadASN1Element(&field, casn1.SEQUENCE) || !body.Empty() {
			return r, false
		}
		r.extensions = field
	}
	return r, true
}

// mostKnown is how many encodings of an entry's extensions are remembered as proved.
const mostKnown = 64

// prove walks along all entries once: what follows a mistake, or is beside something
// critical that is not understood, cannot be relied on.
func (l *List) prove() error {
	in := cryptobyte.String(l.entries)
	known := map[string]bool{}
	var at time.Time
	var day []byte // the last time that was parsed: most stand many times
	for l.Count = 0; !in.Empty(); l.Count++ {
		r, ok := next(&in)
		if !ok || l.Count == Most {
			return fmt.Errorf("entry %d cannot be parsed", l.Count+1)
		}
		if !bytes.Equal(day, r.time) {
			t := r.time
			if !readTime(&t, &at) {
				return fmt.Errorf("entry %d: its date cannot be parsed", l.Count+1)
			}
			day = r.time
		}
		if r.extensions == nil || known[string(r.extensions)] {
			continue
		}
		var e Entry
		if err := e.readExtensions(r.extensions, l.Scope.Indirect); err != nil {
			return fmt.Errorf("entry %d: %w", l.Count+1, err)
		}
		if len(known) < mostKnown {
			known[string(r.extensions)] = true
		}
	}
	return nil
}

func (e *Entry) readExtensions(der []byte, indirect bool) error {
	set, err := ext.ReadSet(der)
	if err != nil {
		return err
	}
	if err := understood(set, ext.ReasonCode, ext.InvalidityDate, ext.EntryIssuer); err != nil {
		return err
	}
	for _, x := range set {
		value := cryptobyte.String(x.Value)
		switch {
		case x.ID.Equal(ext.ReasonCode):
			n := 0
			if !value.ReadASN1Enum(&n) || !value.Empty() || !Reason(n).Known() {
				return errors.New("its reason cannot be parsed")
			}
			e.Reason = Reason(n)
		case x.ID.Equal(ext.InvalidityDate):
			if !value.ReadASN1GeneralizedTime(&e.Invalid) || !value.Empty() {
				return errors.New("its invalidity date cannot be parsed")
			}
		case x.ID.Equal(ext.EntryIssuer):
			if !indirect {
				return errors.New("it names an issuer of its own, and the list is not an indirect one")
			}
			if e.Issuer, err = distpoint.ReadIssuer(x.Value); err != nil {
				return errors.New("the issuer that it names cannot be parsed")
			}
		}
	}
	return nil
}

// entry decodes one that was proved.
func (r raw) entry(indirect bool) (Entry, error) {
	e := Entry{Serial: cert.SerialOf(serialNumber(r.serial))}
	t := r.time
	if !readTime(&t, &e.At) {
		return e, errors.New("its date cannot be parsed")
	}
	if r.extensions == nil {
		return e, nil
	}
	return e, e.readExtensions(r.extensions, indirect)
}

func serialNumber(content []byte) *big.Int {
	n := new(big.Int).SetBytes(content)
	if content[0]&0x80 != 0 {
		n.Sub(n, new(big.Int).Lsh(big.NewInt(1), uint(8*len(content))))
	}
	return n
}

// content is a serial as an INTEGER holds it.
func content(s cert.Serial) []byte {
	var b cryptobyte.Builder
	b.AddASN1BigInt(s.Big())
	in := cryptobyte.String(b.BytesOrPanic())
	var out cryptobyte.String
	in.ReadASN1(&out, casn1.INTEGER)
	return out
}

// Each calls fn for every entry, decoded one at a time, until it returns an error.
func (l *List) Each(fn func(Entry) error) error {
	in := cryptobyte.String(l.entries)
	issuer := dn.Name{}
	for !in.Empty() {
		r, ok := next(&in)
		if !ok {
			return errors.New("revocation list: an entry cannot be parsed")
		}
		e, err := r.entry(l.Scope.Indirect)
		if err != nil {
			return err
		}
		if !e.Issuer.IsEmpty() {
			issuer = e.Issuer
		}
		e.Issuer = issuer
		if err := fn(e); err != nil {
			return err
		}
	}
	return nil
}

// Find looks for a certificate by its serial and its issuer.
func (l *List) Find(serial cert.Serial, issuer dn.Name) (Entry, bool) {
	in := cryptobyte.String(l.entries)
	want := content(serial)
	by := l.Issuer // of the current entry; an entry that names none has that of the one before (section 5.3.3)
	for !in.Empty() {
		r, ok := next(&in)
		if !ok {
			return Entry{}, false
		}
		here := bytes.Equal(r.serial, want)
		if !here && (!l.Scope.Indirect || r.extensions == nil) {
			continue
		}
		e, err := r.entry(l.Scope.Indirect)
		if err != nil {
			return Entry{}, false
		}
		if !e.Issuer.IsEmpty() {
			by = e.Issuer
		}
		if here && by.Equal(issuer) {
			return e, true
		}
	}
	return Entry{}, false
}

// Without gives the encoded entries in as few pieces as may be, those left out whose
// serial is in a set of serials, by Key. The pieces are parts of the list.
func (l *List) Without(drop map[string]bool) (pieces [][]byte, left int) {
	if len(drop) == 0 {
		if len(l.entries) == 0 {
			return nil, 0
		}
		return [][]byte{l.entries}, l.Count
	}
	in := cryptobyte.String(l.entries)
	from, at := 0, 0
	for !in.Empty() {
		r, ok := next(&in)
		if !ok {
			return pieces, left
		}
		if drop[string(r.serial)] {
			if at > from {
				pieces = append(pieces, l.entries[from:at])
			}
			from = at + len(r.whole)
		} else {
			left++
		}
		at += len(r.whole)
	}
	if at > from {
		pieces = append(pieces, l.entries[from:at])
	}
	return pieces, left
}

// Key is a serial as Without knows it.
func Key(s cert.Serial) string { return string(content(s)) }
