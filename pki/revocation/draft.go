package revocation

import (
	"crypto"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"time"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/point"
)

// NextNumber is the number of an authority's next list (RFC 5280 section 5.2.3):
// one more than the last on record, or the time in seconds where that is more, so
// that a restored backup, which does not know the lists made after it, never goes
// backwards.
func NextNumber(last int64, now time.Time) int64 { return max(last+1, now.Unix()) }

// Draft is everything that a list says but for its entries, before it is signed.
type Draft struct {
	Issuer   dn.Name
	KeyID    []byte // of the key that signs
	Number   int64
	Base     int64 // of a delta list, the number of the list that it adds to; 0 for a complete one
	This     time.Time
	Next     time.Time    // when its successor is there at the latest; Java refuses a list without
	Scope    *point.Scope // nil: all that the issuer issued
	Freshest []string     // where its delta is
}

// AppendEntry appends an encoded entry (RFC 5280 section 5.1.2.6).
func AppendEntry(to []byte, e Entry) ([]byte, error) {
	if !e.Reason.Known() {
		return nil, fmt.Errorf("there is no reason %d (RFC 5280 section 5.3.1)", int(e.Reason))
	}
	b := cryptobyte.NewBuilder(to)
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1BigInt(e.Serial.Big())
		addTime(b, e.At)
		if e.Reason == Unspecified && e.Invalid.IsZero() { // which section 5.3.1 would rather not see
			return
		}
		var set ext.Set
		if e.Reason != Unspecified {
			set = append(set, ext.Extension{ID: ext.ReasonCode, Value: []byte{0x0a, 1, byte(e.Reason)}})
		}
		if !e.Invalid.IsZero() {
			var v cryptobyte.Builder
			v.AddASN1GeneralizedTime(e.Invalid.UTC().Truncate(time.Second))
			set = append(set, ext.Extension{ID: ext.InvalidityDate, Value: v.BytesOrPanic()})
		}
		set.Add(b)
	})
	return b.Bytes()
}

// addTime writes UTCTime through 2049 and GeneralizedTime from 2050 on (RFC 5280 section
// 5.1.2.4).
func addTime(b *cryptobyte.Builder, t time.Time) {
	t = t.UTC().Truncate(time.Second)
	if t.Year() >= 1950 && t.Year() < 2050 {
		b.AddASN1UTCTime(t)
		return
	}
	b.AddASN1GeneralizedTime(t)
}

func (d Draft) check() error {
	switch {
	case d.Issuer.IsEmpty():
		return errors.New("revocation list: it has no issuer")
	case d.Number <= 0 || d.Base < 0 || d.Base >= d.Number:
		return fmt.Errorf("revocation list of %s: the number %d does not follow %d", d.Issuer, d.Number, d.Base)
	case !d.Next.After(d.This):
		return fmt.Errorf("revocation list of %s: its successor would be due (%s) before it begins (%s)", d.Issuer,
			d.Next.Format(time.RFC3339), d.This.Format(time.RFC3339))
	case d.Base > 0 && len(d.Freshest) > 0:
		return fmt.Errorf("revocation list of %s: a delta list names no delta of its own (RFC 5280 section 5.2.6)",
			d.Issuer)
	}
	return nil
}

// head is what stands before the entries, tail what stands after them.
func (d Draft) head(algorithm []byte) ([]byte, error) {
	var b cryptobyte.Builder
	b.AddASN1Int64(1) // version 2
	b.AddBytes(algorithm)
	b.AddBytes(d.Issuer.DER())
	addTime(&b, d.This)
	addTime(&b, d.Next)
	return b.Bytes()
}

func (d Draft) tail() ([]byte, error) {
	number := func(n int64) []byte {
		var b cryptobyte.Builder
		b.AddASN1Int64(n)
		return b.BytesOrPanic()
	}
	set := ext.Set{ext.AuthorityKey(d.KeyID), {ID: ext.ListNumber, Value: number(d.Number)}}
	if d.Base > 0 {
		set = append(set, ext.Extension{ID: ext.DeltaBase, Critical: true, Value: number(d.Base)})
	}
	if d.Scope != nil {
		set = append(set, d.Scope.Extension())
	}
	if len(d.Freshest) > 0 {
		set = append(set, ext.Freshest(d.Freshest))
	}
	var b cryptobyte.Builder
	b.AddASN1(casn1.Tag(0).ContextSpecific().Constructed(), func(b *cryptobyte.Builder) { set.Add(b) })
	return b.Bytes()
}

// Sign makes the list of encoded entries and signs it. There is one buffer for all: the
// entries of a large list are copied once, into it, and hashed where they lie.
func (d Draft) Sign(entries [][]byte, signer crypto.Signer, random io.Reader) ([]byte, error) {
	if err := d.check(); err != nil {
		return nil, err
	}
	pub, err := key.Of(signer)
	if err != nil {
		return nil, err
	}
	algorithm, _, err := pub.SigningAlgorithm()
	if err != nil {
		return nil, err
	}
	head, err := d.head(algorithm)
	if err != nil {
		return nil, err
	}
	tail, err := d.tail()
	if err != nil {
		return nil, err
	}
	size := 0
	for _, e := range entries {
		size += len(e)
	}
	inner := len(head) + len(tail)
	if size > 0 { // revokedCertificates is left out where there are none (section 5.1.2.6)
		inner += headerSize(size) + size
	}
	const room = 16 + 1100 // a header before, algorithm and the longest signature after
	buffer := make([]byte, 16, 16+inner+8+room)
	buffer = appendHeader(buffer, casn1.SEQUENCE, inner)
	buffer = append(buffer, head...)
	if size > 0 {
		buffer = appendHeader(buffer, casn1.SEQUENCE, size)
		for _, e := range entries {
			buffer = append(buffer, e...)
		}
	}
	buffer = append(buffer, tail...)
	_, signature, err := key.SignMessage(buffer[16:], signer, random)
	if err != nil {
		return nil, fmt.Errorf("revocation list of %s: %w", d.Issuer, err)
	}
	buffer = append(buffer, algorithm...)
	buffer = appendHeader(buffer, casn1.BIT_STRING, len(signature)+1)
	buffer = append(append(buffer, 0), signature...)
	outer := appendHeader(nil, casn1.SEQUENCE, len(buffer)-16)
	from := 16 - len(outer)
	copy(buffer[from:], outer)
	return buffer[from:], nil
}

func headerSize(n int) int {
	if n < 0x80 {
		return 2
	}
	return 2 + (bits.Len(uint(n))+7)/8
}

// appendHeader appends a tag and a length (X.690 section 8.1).
func appendHeader(to []byte, tag casn1.Tag, n int) []byte {
	to = append(to, byte(tag))
	if n < 0x80 {
		return append(to, byte(n))
	}
	size := (bits.Len(uint(n)) + 7) / 8
	to = append(to, 0x80|byte(size))
	for i := size - 1; i >= 0; i-- {
		to = append(to, byte(n>>(8*i)))
	}
	return to
}
