// Package bundle finds the objects of this trade in bytes that people pass
// around, and writes them out again.
//
// What arrives is seldom tidy. Requests are pasted from consoles, forwarded in
// mail, quoted, indented, saved by editors in UTF-16, stripped of their first
// and last lines, or run together into one long line. Read understands all of
// that and says what it had to overlook, so that the next step works on clean
// DER. It never guesses content: what it returns is a whole ASN.1 structure or
// a problem with the line where it stands.
package bundle

import (
	"bytes"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"io"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/ber"
	"ironseal/pki/pkcs"
	"ironseal/pki/span"
)

// Kind is what an object is.
type Kind string

const (
	Certificate  Kind = "certificate"
	Request      Kind = "request"
	List         Kind = "revocation list"
	PublicKey    Kind = "public key"
	PrivateKey   Kind = "private key"
	EncryptedKey Kind = "encrypted private key"
	SignedData   Kind = "PKCS#7 container"
	Store        Kind = "PKCS#12 container"
	Unknown      Kind = "unknown object"
)

// Bounds on what is read.
const (
	MostBytes   = 16 << 20
	MostObjects = pkcs.MostObjects
)

// Object is one object found.
type Object struct {
	Kind  Kind
	DER   []byte
	Label string // of its BEGIN line, or "" when it had none
	Line  int    // where it begins, counted from 1; 0 in binary input
}

// Problem is a place where an object should be and is not.
type Problem struct {
	Line int
	Text string
}

func (p Problem) Error() string {
	if p.Line == 0 {
		return p.Text
	}
	return fmt.Sprintf("line %d: %s", p.Line, p.Text)
}

// Contents is what Read found.
type Contents struct {
	Objects  []Object
	Problems []Problem
	Remarks  []string // what was untidy and understood all the same
}

func (c *Contents) remark(s string) {
	for _, r := range c.Remarks {
		if r == s {
			return
		}
	}
	c.Remarks = append(c.Remarks, s)
}

// Of returns the objects of one kind.
func (c Contents) Of(k Kind) []Object {
	var out []Object
	for _, o := range c.Objects {
		if o.Kind == k {
			out = append(out, o)
		}
	}
	return out
}

// Read finds the objects in data. An error means that there is nothing at all
// of this trade in it; problems with single objects are in the contents.
func Read(data []byte) (Contents, error) {
	var c Contents
	if len(data) > MostBytes {
		return c, fmt.Errorf("%d MB of input; the most that is read is %d MB", len(data)>>20, MostBytes>>20)
	}
	if len(bytes.TrimSpace(data)) == 0 {
		return c, errors.New("there is nothing in it: it is empty")
	}
	if looksBinary(data) {
		c.readDER(data)
		if len(c.Objects) > 0 || len(c.Problems) > 0 {
			return c, nil
		}
	}
	text := c.toText(data)
	if armoured := beginLine().MatchString(text); armoured {
		c.readArmoured(text)
	} else {
		c.readBare(text)
	}
	if len(c.Objects) == 0 && len(c.Problems) == 0 {
		return c, errors.New("there is no certificate, request or key in it")
	}
	return c, nil
}

// looksBinary tells DER from text that begins with the letter 0: DER of any
// object of this trade begins with a sequence in the long form or a short one
// that just fills the input.
func looksBinary(data []byte) bool {
	if len(data) < 2 || data[0] != 0x30 {
		return false
	}
	return data[1] >= 0x80 && data[1] <= 0x84 || int(data[1])+2 == len(data)
}

func (c *Contents) readDER(data []byte) {
	in := cryptobyte.String(data)
	for !in.Empty() && len(c.Objects) < MostObjects {
		var one cryptobyte.String
		left := in // a read that fails may have moved on
		before := len(data) - len(left)
		if !in.ReadASN1Element(&one, casn1.SEQUENCE) {
			if der, err := ber.ToDER(bytes.TrimRight(left, "\r\n")); err == nil && before == 0 {
				c.remark("BER encoding")
				c.add(Object{DER: der})
				return
			}
			if rest := bytes.TrimRight(left, "\r\n\x00 \x1a"); len(rest) == 0 {
				c.remark("padding after the object")
			} else {
				c.Problems = append(c.Problems, Problem{Text: cutShort(left, before)})
			}
			return
		}
		c.add(Object{DER: bytes.Clone(one)})
	}
}

// add adds one object. The certificates of a PKCS#7 container are imported
// one by one.
func (c *Contents) add(o Object) {
	o.Kind = KindOf(o.DER)
	if o.Kind != SignedData {
		c.Objects = append(c.Objects, o)
		return
	}
	list, err := pkcs.ReadSignedData(o.DER)
	inside, wrapErr := pkcs.ReadWrapped(o.DER)
	switch {
	case wrapErr == nil && len(inside.Requests) > 0:
		c.remark("a PKCS#7 container around " + span.Count(len(inside.Requests), "request"))
		list = append(inside.Requests, list...)
	case err != nil && wrapErr == nil && (inside.Content != nil || inside.Words != "data"):
		c.Problems = append(c.Problems, Problem{o.Line, fmt.Sprintf("the PKCS#7 container holds no certificate and "+
			"no request: it wraps %s", inside.Words)})
		return
	case err != nil:
		c.Problems = append(c.Problems, Problem{o.Line, err.Error()})
		return
	default:
		c.remark("a PKCS#7 container with " + span.Count(len(list), "certificate"))
	}
	for _, der := range list {
		if len(c.Objects) < MostObjects {
			c.Objects = append(c.Objects, Object{Kind: KindOf(der), DER: der, Label: o.Label, Line: o.Line})
		}
	}
}

// cutShort says how much of a structure is missing.
func cutShort(der []byte, at int) string {
	if want, ok := wantedLength(der); ok && want > len(der) {
		return fmt.Sprintf("the object is cut short: it should have %d bytes and has %d: copy it again, whole", want,
			len(der))
	}
	if at > 0 {
		return fmt.Sprintf("%d bytes after the last object are not ASN.1", len(der))
	}
	return "it is not an ASN.1 structure: it was changed on the way"
}

func wantedLength(der []byte) (int, bool) {
	if len(der) < 2 || der[0] != 0x30 {
		return 0, false
	}
	if der[1] < 0x80 {
		return 2 + int(der[1]), true
	}
	n := int(der[1] & 0x7f)
	if n == 0 || n > 4 || len(der) < 2+n {
		return 0, false
	}
	size := 0
	for _, b := range der[2 : 2+n] {
		size = size<<8 | int(b)
	}
	return 2 + n + size, true
}

// KindOf tells from its structure what a DER object is.
func KindOf(der []byte) Kind {
	in := cryptobyte.String(der)
	var seq, first cryptobyte.String
	var tag, second casn1.Tag
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !seq.ReadAnyASN1(&first, &tag) {
		return Unknown
	}
	var next cryptobyte.String
	if !seq.ReadAnyASN1(&next, &second) {
		return Unknown
	}
	switch {
	case tag == casn1.OBJECT_IDENTIFIER && second == casn1.Tag(0).ContextSpecific().Constructed():
		return SignedData
	case tag == casn1.INTEGER && second == casn1.OCTET_STRING, tag == casn1.INTEGER && second == casn1.INTEGER:
		return PrivateKey
	case tag == casn1.INTEGER && second == casn1.SEQUENCE:
		if len(first) == 1 && first[0] == 3 {
			return Store
		}
		return PrivateKey
	case tag != casn1.SEQUENCE:
		return Unknown
	case second == casn1.BIT_STRING:
		return PublicKey
	case second == casn1.OCTET_STRING:
		return EncryptedKey
	case second == casn1.SEQUENCE:
		return signedKind(first)
	}
	return Unknown
}

// signedKind tells certificates, requests and lists apart by their content.
func signedKind(tbs cryptobyte.String) Kind {
	var one cryptobyte.String
	var tags []casn1.Tag
	var lengths []int
	for !tbs.Empty() && len(tags) < 7 {
		var tag casn1.Tag
		if !tbs.ReadAnyASN1(&one, &tag) {
			break
		}
		tags, lengths = append(tags, tag), append(lengths, len(one))
	}
	version := casn1.Tag(0).ContextSpecific().Constructed()
	switch {
	case len(tags) == 0:
		return Unknown
	case tags[0] == version:
		return Certificate
	case tags[0] == casn1.SEQUENCE, len(tags) > 3 && tags[0] == casn1.INTEGER &&
		(tags[3] == casn1.UTCTime || tags[3] == casn1.GeneralizedTime):
		return List
	case tags[0] == casn1.INTEGER && lengths[0] == 1 && len(tags) <= 4:
		return Request
	case tags[0] == casn1.INTEGER && len(tags) >= 6:
		return Certificate // version 1
	case tags[0] == casn1.INTEGER:
		return Request
	}
	return Unknown
}

var labels = map[Kind]string{
	Certificate: "CERTIFICATE", Request: "CERTIFICATE REQUEST", List: "X509 CRL", PublicKey: "PUBLIC KEY",
	PrivateKey: "PRIVATE KEY", EncryptedKey: "ENCRYPTED PRIVATE KEY", SignedData: "PKCS7",
}

// PEM writes one object in the textual encoding of RFC 7468.
func PEM(k Kind, der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: labels[k], Bytes: der})
}

// WritePEM writes what PEM gives, piece by piece: for what is large.
func WritePEM(w io.Writer, k Kind, der []byte) error {
	return pem.Encode(w, &pem.Block{Type: labels[k], Bytes: der})
}

// SizeOfPEM is how many octets PEM gives, for an object of so many.
func SizeOfPEM(k Kind, size int) int64 {
	const line = 64
	text := int64(base64.StdEncoding.EncodedLen(size))
	return text + (text+line-1)/line + int64(len("-----BEGIN -----\n-----END -----\n")+2*len(labels[k]))
}
