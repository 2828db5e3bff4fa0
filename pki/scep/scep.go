// Package scep reads and writes the messages of SCEP (RFC 8894): a request that is sealed to the registration
// authority and signed by the client, and the answer that is sealed to the client and signed by the registration
// authority. It knows nothing of how they travel, nor of who may have what.
package scep

import (
	"bytes"
	"crypto"
	"crypto/rsa"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"math/big"
	"strconv"
	"time"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/pkcs"
)

// Type is the type of a message (RFC 8894 section 3.2.1.2).
type Type int

// The types.
const (
	CertRep        Type = 3
	RenewalReq     Type = 17
	PKCSReq        Type = 19
	CertPoll       Type = 20
	AskCertificate Type = 21 // section 3.3.4
	AskList        Type = 22 // section 3.3.5
)

// Status is that of an answer (section 3.2.1.3).
type Status int

// The statuses.
const (
	Success Status = 0
	Failure Status = 2
	Pending Status = 3
)

// Fail says why there is a failure (section 3.2.1.4). It is an error.
type Fail int

// The failures.
const (
	BadAlgorithm    Fail = 0
	BadMessageCheck Fail = 1
	BadRequest      Fail = 2
	BadTime         Fail = 3
	BadCertID       Fail = 4
)

var failWords = []string{"badAlg", "badMessageCheck", "badRequest", "badTime", "badCertId"}

// Error implements error.
func (f Fail) Error() string { return failWords[f] }

func attribute(n int) asn1.ObjectIdentifier {
	return asn1.ObjectIdentifier{2, 16, 840, 1, 113733, 1, 9, n}
}

// The attributes of a message (section 3.2.1).
var (
	idType           = attribute(2)
	idStatus         = attribute(3)
	idFail           = attribute(4)
	idSenderNonce    = attribute(5)
	idRecipientNonce = attribute(6)
	idTransaction    = attribute(7)
)

// Bounds of a message.
const (
	Most            = 256 << 10
	longestID       = 255
	mostNonce       = 64
	NonceSize       = 16 // of those that are written here (section 3.2.1.5)
	mostSignerBytes = 64 << 10
)

// Message is a message of a client whose signature is good. Its content is not opened yet.
type Message struct {
	Type        Type
	Transaction string
	Nonce       []byte
	Signer      *cert.Certificate // by which it is signed; it is not verified here
	Older       bool              // it uses SHA-1 or triple DES

	envelope pkcs.Envelope
	sha1     bool
}

// ErrUnsigned is for a message without a valid signature: nothing of it is believed, so it gets no answer.
var ErrUnsigned = errors.New("it is not a signed message of SCEP")

// Read reads a message of a client and verifies that the key of the certificate in it signed it; else the error is
// ErrUnsigned. older lets SHA-1 and triple DES pass; else they are BadAlgorithm. Other faults are BadMessageCheck. With
// those two, the message has what is needed to answer it.
func Read(data []byte, older bool) (Message, error) {
	var m Message
	fail := func(f Fail, why error) (Message, error) { return m, fmt.Errorf("%w: %w", f, why) }
	none := func(why error) (Message, error) { return m, fmt.Errorf("%w: %w", ErrUnsigned, why) }
	if len(data) > Most {
		return none(errors.New("it is too large"))
	}
	s, err := pkcs.ReadSigned(data)
	if err != nil {
		return none(err)
	}
	at := s.Signer()
	if at < 0 || len(s.Certificates[at]) > mostSignerBytes || s.Content == nil {
		return none(errors.New("it lacks the signer's certificate, or its content"))
	}
	if m.Signer, err = cert.Read(s.Certificates[at]); err != nil {
		return none(err)
	}
	if err := m.attributes(s); err != nil {
		return none(err)
	}
	if err := s.Verify(m.Signer.Key, true); err != nil {
		return none(err)
	}
	if m.envelope, err = pkcs.ReadEnvelope(s.Content); err != nil {
		return fail(BadMessageCheck, err)
	}
	m.sha1 = s.Hash == crypto.SHA1
	if m.Older = m.sha1 || m.envelope.Cipher.Name == pkcs.TripleDES.Name; m.Older && !older {
		return fail(BadAlgorithm, errors.New("it uses SHA-1 or triple DES"))
	}
	if _, ok := m.Signer.Key.Key.(*rsa.PublicKey); !ok {
		return fail(BadAlgorithm, errors.New("an answer is sealed to an RSA key, and the signer has none"))
	}
	return m, nil
}

func (m *Message) attributes(s pkcs.Signed) error {
	kind, err := printable(s.Attribute(idType))
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(kind)
	if err != nil || strconv.Itoa(n) != kind {
		return errors.New("it has no type")
	}
	m.Type = Type(n)
	if m.Transaction, err = printable(s.Attribute(idTransaction)); err != nil {
		return err
	}
	in := cryptobyte.String(s.Attribute(idSenderNonce))
	var nonce cryptobyte.String
	if !in.ReadASN1(&nonce, casn1.OCTET_STRING) || len(nonce) == 0 || len(nonce) > mostNonce {
		return errors.New("it has no nonce")
	}
	m.Nonce = nonce
	return nil
}

// printable reads a PrintableString; those who write a UTF8String are read too.
func printable(der []byte) (string, error) {
	in := cryptobyte.String(der)
	var text cryptobyte.String
	var tag casn1.Tag
	if !in.ReadAnyASN1(&text, &tag) || tag != casn1.PrintableString && tag != casn1.UTF8String || len(text) == 0 ||
		len(text) > longestID {
		return "", errors.New("a text in it is missing, or too long")
	}
	for _, c := range text {
		if c <= ' ' || c > '~' {
			return "", errors.New("a text in it has characters that do not belong there")
		}
	}
	return string(text), nil
}

// For reports whether the message is sealed to a certificate.
func (m Message) For(c *cert.Certificate) bool { return m.envelope.For(c) }

// Open decrypts the content. What means nothing is for the reader of the content to find (see pkcs.Envelope.Open).
func (m Message) Open(c *cert.Certificate, k *rsa.PrivateKey, random io.Reader) ([]byte, error) {
	out, err := m.envelope.Open(c, k, random)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", BadMessageCheck, err)
	}
	return out, nil
}

// ReadSubject reads the content of CertPoll: the issuer and the subject (section 3.3.3).
func ReadSubject(content []byte) (issuer, subject dn.Name, err error) {
	in := cryptobyte.String(content)
	var seq, a, b cryptobyte.String
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !seq.ReadASN1Element(&a, casn1.SEQUENCE) ||
		!seq.ReadASN1Element(&b, casn1.SEQUENCE) || !seq.Empty() {
		return issuer, subject, BadMessageCheck
	}
	if issuer, err = dn.Read(a); err == nil {
		subject, err = dn.Read(b)
	}
	if err != nil {
		err = BadMessageCheck
	}
	return issuer, subject, err
}

// ReadSerial reads what a device asks a certificate or a list by: the issuer and the serial in hex (section 3.3.4).
func ReadSerial(content []byte) (issuer dn.Name, serial cert.Serial, err error) {
	in := cryptobyte.String(content)
	var seq, a cryptobyte.String
	n := new(big.Int)
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !seq.ReadASN1Element(&a, casn1.SEQUENCE) ||
		!seq.ReadASN1Integer(n) || !seq.Empty() || n.Sign() <= 0 || n.BitLen() > 168 {
		return issuer, serial, BadMessageCheck
	}
	if issuer, err = dn.Read(a); err != nil {
		return issuer, serial, BadMessageCheck
	}
	return issuer, cert.SerialOf(n), nil
}

// Answer is the answer to a client.
type Answer struct {
	Status  Status
	Fail    Fail   // with Failure
	Content []byte // with Success: a SignedData without signers, not sealed yet
}

// Authority is the registration authority that answers.
type Authority struct {
	Certificate *cert.Certificate
	Key         *rsa.PrivateKey
}

// Answer writes the answer to a message (section 3.3.2): by the same algorithms as the message, where those are taken.
func (m Message) Answer(a Answer, by Authority, now time.Time, random io.Reader) ([]byte, error) {
	nonce := make([]byte, NonceSize)
	if _, err := io.ReadFull(random, nonce); err != nil {
		return nil, err
	}
	d := pkcs.Draft{Certificates: [][]byte{by.Certificate.Raw}, When: now, RSA: true, SHA1: m.sha1, Detached: true,
		Attributes: []pkcs.Attribute{{ID: idType, Value: text(strconv.Itoa(int(CertRep)))},
			{ID: idStatus, Value: text(strconv.Itoa(int(a.Status)))}, {ID: idSenderNonce, Value: octets(nonce)}}}
	if m.Transaction != "" {
		d.Attributes = append(d.Attributes, pkcs.Attribute{ID: idTransaction, Value: text(m.Transaction)})
	}
	if len(m.Nonce) > 0 {
		d.Attributes = append(d.Attributes, pkcs.Attribute{ID: idRecipientNonce, Value: octets(m.Nonce)})
	}
	switch a.Status {
	case Failure:
		d.Attributes = append(d.Attributes, pkcs.Attribute{ID: idFail, Value: text(strconv.Itoa(int(a.Fail)))})
	case Success:
		sealed, err := pkcs.Seal(nil, a.Content, m.Signer, m.envelope.Cipher, random)
		if err != nil {
			return nil, err
		}
		d.Content, d.Detached = sealed, false
	}
	return d.Sign(by.Key, random)
}

func text(s string) []byte {
	var b cryptobyte.Builder
	b.AddASN1(casn1.PrintableString, func(b *cryptobyte.Builder) { b.AddBytes([]byte(s)) })
	return b.BytesOrPanic()
}

func octets(p []byte) []byte {
	var b cryptobyte.Builder
	b.AddASN1OctetString(p)
	return b.BytesOrPanic()
}

// SameKey reports whether a message is signed by the key of a request (section 2.3).
func (m Message) SameKey(spki []byte) bool { return bytes.Equal(m.Signer.Key.Canonical(), spki) }
