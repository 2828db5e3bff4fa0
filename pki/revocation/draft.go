package revocation

import (
	"crypto"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"time"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/ber"
	"ironseal/pki/distpoint"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/key"
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
	Next     time.Time        // when its successor is there at the latest; Java refuses a list without
	Scope    *distpoint.Scope // nil: all that the issuer issued
	Freshest []string         // where its delta is
}

// AppendEntry appends an encoded entry (RFC 5280 section 5.1.2.6).
func AppendEntry(to []byte, e Entry) ([]byte, error) {
	if !e.Reason.Known() {
		return nil, fmt.Errorf("there is no reason %d (RFC 5280 section 5.3.1)", int(e.Reason))
	}
	var digits [2 * timeSize]byte
	at := e.At.UTC().AppendFormat(digits[:0], stamped)
	var since []byte
	if !e.Invalid.IsZero() {
		since = e.Invalid.UTC().AppendFormat(digits[timeSize:timeSize], stamped)
	}
	return appendEntry(to, content(e.Serial), at, e.Reason, since), nil
}

// stamped is a time as records write it, as far as lists tell it: to the second.
const (
	stamped  = "2006-01-02T15:04:05"
	timeSize = len(stamped)
)

// AppendStamped is AppendEntry for a serial in lower-case hex and times as records write
// them, "2006-01-02T15:04:05…" in UTC, without making values of them: there may be a million.
// since is empty where it is not told.
func AppendStamped(to, serial, at []byte, why Reason, since []byte) ([]byte, error) {
	var raw [65]byte
	n := len(serial) / 2
	if len(serial) == 0 || len(serial)%2 != 0 || n >= len(raw) || len(at) < timeSize || len(since) > 0 &&
		len(since) < timeSize || !why.Known() {
		return nil, fmt.Errorf("serial %q, revoked %q: it cannot be listed", serial, at)
	}
	if _, err := hex.Decode(raw[1:1+n], serial); err != nil {
		return nil, fmt.Errorf("serial %q: %w", serial, err)
	}
	number := raw[1 : 1+n]
	for len(number) > 1 && number[0] == 0 {
		number = number[1:]
	}
	if number[0]&0x80 != 0 { // the octet before it is zero
		number = raw[1+n-len(number)-1 : 1+n]
	}
	return appendEntry(to, number, at, why, since), nil
}

// reasonHead is an extension with a reason up to the reason.
var reasonHead = []byte{0x30, 0x0a, 6, 3, 0x55, 0x1d, 0x15, 4, 3, 0x0a, 1}

// invalidHead is the identifier of an invalidity date.
var invalidHead = []byte{6, 3, 0x55, 0x1d, 0x18}

func appendEntry(to, serial, at []byte, why Reason, since []byte) []byte {
	var buffer [128]byte
	in := ber.Append(buffer[:0], byte(casn1.INTEGER), serial)
	in = appendMoment(in, at, false)
	if why != Unspecified || len(since) > 0 { // section 5.3.1 would rather not see unspecified
		var extensions [64]byte
		set := extensions[:0]
		if why != Unspecified {
			set = append(append(set, reasonHead...), byte(why))
		}
		if len(since) > 0 {
			var date [32]byte
			value := appendMoment(date[:0], since, true)
			set = ber.Append(set, byte(casn1.SEQUENCE), invalidHead, ber.Append(nil, byte(casn1.OCTET_STRING), value))
		}
		in = ber.Append(in, byte(casn1.SEQUENCE), set)
	}
	return ber.Append(to, byte(casn1.SEQUENCE), in)
}

// appendMoment writes a time of the form of stamped: UTCTime from 1950 through 2049, and
// GeneralizedTime else, or where it is asked for.
func appendMoment(to, at []byte, long bool) []byte {
	var digits [16]byte
	d := digits[:0]
	for _, span := range [][2]int{{0, 4}, {5, 7}, {8, 10}, {11, 13}, {14, 16}, {17, 19}} {
		d = append(d, at[span[0]:span[1]]...)
	}
	d = append(d, 'Z')
	if year := string(d[:4]); !long && year >= "1950" && year < "2050" {
		return ber.Append(to, byte(casn1.UTCTime), d[2:])
	}
	return ber.Append(to, byte(casn1.GeneralizedTime), d)
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

// head precedes the entries, tail follows them.
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
// entries of a large list are copied once, into it, and hashed where they lie. Where early is
// not nil, it is given, before that, nearly all of the list: its content, and where in the
// list it will begin, as far as that is known before the signature is. It may read it
// meanwhile, and must not keep Sign waiting.
func (d Draft) Sign(entries [][]byte, signer crypto.Signer, random io.Reader, early func(part []byte, at int)) ([]byte,
	error) {
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
	buffer, err := d.lay(entries, algorithm)
	if err != nil {
		return nil, err
	}
	if early != nil {
		early(buffer[front:], ber.HeaderSize(cap(buffer)-front))
	}
	_, signature, err := key.SignMessage(buffer[front:], signer, random)
	if err != nil {
		return nil, fmt.Errorf("revocation list of %s: %w", d.Issuer, err)
	}
	buffer = append(buffer, algorithm...)
	buffer = ber.AppendHeader(buffer, byte(casn1.BIT_STRING), len(signature)+1)
	buffer = append(append(buffer, 0), signature...)
	outer := ber.AppendHeader(nil, byte(casn1.SEQUENCE), len(buffer)-front)
	from := front - len(outer)
	copy(buffer[from:], outer)
	return buffer[from:], nil
}

// Room in the buffer of a list: before its content for the outermost header, and behind it for
// the algorithm and the longest signature.
const (
	front = 16
	back  = 1100
)

// lay puts what is to be signed into a buffer, with room before and behind it.
func (d Draft) lay(entries [][]byte, algorithm []byte) ([]byte, error) {
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
	if size > 0 { // revokedCertificates is left out if none exist (section 5.1.2.6)
		inner += ber.HeaderSize(size) + size
	}
	buffer := make([]byte, front, front+inner+8+back)
	buffer = ber.AppendHeader(buffer, byte(casn1.SEQUENCE), inner)
	buffer = append(buffer, head...)
	if size > 0 {
		buffer = ber.AppendHeader(buffer, byte(casn1.SEQUENCE), size)
		for _, e := range entries {
			buffer = append(buffer, e...)
		}
	}
	return append(buffer, tail...), nil
}
