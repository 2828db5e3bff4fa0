package pkcs

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
	"crypto/rsa"
	"crypto/subtle"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/ber"
	"ironseal/pki/cert"
)

var oidEnveloped = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 3}

// Cipher is what the content of an envelope is encrypted with. All are in CBC mode (RFC 3565, RFC 3370 section 5.1).
type Cipher struct {
	Name string
	id   asn1.ObjectIdentifier
	size int // of the key, in octets
	make func([]byte) (cipher.Block, error)
}

// The ciphers. TripleDES is for devices that know nothing newer.
var (
	AES128    = Cipher{"AES-128", asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 2}, 16, aes.NewCipher}
	AES192    = Cipher{"AES-192", asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 22}, 24, aes.NewCipher}
	AES256    = Cipher{"AES-256", asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 42}, 32, aes.NewCipher}
	TripleDES = Cipher{"triple DES", asn1.ObjectIdentifier{1, 2, 840, 113549, 3, 7}, 24, des.NewTripleDESCipher}
)

var ciphers = []Cipher{AES128, AES192, AES256, TripleDES}

// mostRecipients bounds the recipients of an envelope.
const mostRecipients = 32

// Seal encrypts a content to the RSA key of a certificate (RFC 5652 section 6), by PKCS#1 version 1.5, which every
// device reads. kind is the type of the content; nil for data.
func Seal(kind asn1.ObjectIdentifier, content []byte, to *cert.Certificate, c Cipher, random io.Reader) ([]byte,
	error) {
	public, ok := to.Key.Key.(*rsa.PublicKey)
	if !ok {
		return nil, fmt.Errorf("envelope: the key of %s is of kind %s, and envelopes are sealed to RSA keys", to.
			Title(),
			to.Key.Kind)
	}
	issuer, serial, err := issuerAndSerial(to.Raw)
	if err != nil {
		return nil, err
	}
	return seal(kind, content, public, func(b *cryptobyte.Builder) {
		b.AddASN1Int64(0)
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddBytes(issuer)
			b.AddBytes(serial)
		})
	}, c, random)
}

// SealToKey encrypts a content to an RSA key that is named by its identifier.
func SealToKey(kind asn1.ObjectIdentifier, content, id []byte, public *rsa.PublicKey, c Cipher,
	random io.Reader) ([]byte, error) {
	return seal(kind, content, public, func(b *cryptobyte.Builder) {
		b.AddASN1Int64(2)
		b.AddASN1(context0, func(b *cryptobyte.Builder) { b.AddBytes(id) })
	}, c, random)
}

func seal(kind asn1.ObjectIdentifier, content []byte, public *rsa.PublicKey, who cryptobyte.BuilderContinuation,
	c Cipher, random io.Reader) ([]byte, error) {
	secret := make([]byte, c.size)
	defer clear(secret)
	if _, err := io.ReadFull(random, secret); err != nil {
		return nil, err
	}
	block, err := c.make(secret)
	if err != nil {
		return nil, err
	}
	iv := make([]byte, block.BlockSize())
	if _, err := io.ReadFull(random, iv); err != nil {
		return nil, err
	}
	pad := block.BlockSize() - len(content)%block.BlockSize()
	encrypted := append(bytes.Clone(content), bytes.Repeat([]byte{byte(pad)}, pad)...)
	cipher.NewCBCEncrypter(block, iv).CryptBlocks(encrypted, encrypted)
	//lint:ignore SA1019 devices read nothing else (RFC 8894 section 2.2)
	wrapped, err := rsa.EncryptPKCS1v15(random, public, secret)
	if err != nil {
		return nil, fmt.Errorf("envelope: %w", err)
	}
	algorithm, err := algorithmOf(oidRSA)
	if err != nil {
		return nil, err
	}
	if kind == nil {
		kind = oidData
	}
	return inContentInfo(oidEnveloped, func(b *cryptobyte.Builder) {
		b.AddASN1Int64(0)
		b.AddASN1(casn1.SET, func(b *cryptobyte.Builder) {
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
				who(b)
				b.AddBytes(algorithm)
				b.AddASN1OctetString(wrapped)
			})
		})
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1ObjectIdentifier(kind)
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1ObjectIdentifier(c.id)
				b.AddASN1OctetString(iv)
			})
			b.AddASN1(context0, func(b *cryptobyte.Builder) { b.AddBytes(encrypted) })
		})
	})
}

// Envelope is a sealed content that was read, and not opened yet.
type Envelope struct {
	Cipher     Cipher
	recipients []sealedTo
	iv         []byte
	encrypted  []byte
}

type sealedTo struct {
	issuer, serial []byte // elements; nil where a key identifier names the recipient
	id             []byte
	algorithm      asn1.ObjectIdentifier
	wrapped        []byte
}

// ReadEnvelope reads an envelope, BER or DER. What it says stands in the open: its faults tell nothing of what is
// sealed.
func ReadEnvelope(data []byte) (Envelope, error) {
	var e Envelope
	der, err := ber.ToDER(data)
	if err != nil {
		return e, fmt.Errorf("envelope: %w", err)
	}
	bad := errors.New("envelope: its EnvelopedData cannot be parsed (RFC 5652 section 6.1)")
	in := cryptobyte.String(der)
	var outer, wrapped, body, recipients, content cryptobyte.String
	var oid asn1.ObjectIdentifier
	var version int
	if !in.ReadASN1(&outer, casn1.SEQUENCE) || !outer.ReadASN1ObjectIdentifier(&oid) || !oid.Equal(oidEnveloped) ||
		!outer.ReadASN1(&wrapped, context0Outer) || !wrapped.ReadASN1(&body, casn1.SEQUENCE) ||
		!body.ReadASN1Integer(&version) || !body.SkipOptionalASN1(context0Outer) ||
		!body.ReadASN1(&recipients, casn1.SET) || !body.ReadASN1(&content, casn1.SEQUENCE) {
		return e, bad
	}
	for !recipients.Empty() {
		var one cryptobyte.String
		var tag casn1.Tag
		if !recipients.ReadAnyASN1(&one, &tag) || len(e.recipients) == mostRecipients {
			return e, bad
		}
		if tag != casn1.SEQUENCE { // others agree on a key, or have one
			continue
		}
		to, ok := readRecipient(one)
		if !ok {
			return e, bad
		}
		e.recipients = append(e.recipients, to)
	}
	return e, e.readContent(content)
}

func readRecipient(in cryptobyte.String) (to sealedTo, ok bool) {
	var version int
	var who, issuer, serial, id, algorithm, wrapped cryptobyte.String
	var there bool
	if !in.ReadASN1Integer(&version) || !in.ReadOptionalASN1(&id, &there, context0) {
		return to, false
	}
	if to.id = id; !there {
		if !in.ReadASN1(&who, casn1.SEQUENCE) || !who.ReadASN1Element(&issuer, casn1.SEQUENCE) ||
			!who.ReadASN1Element(&serial, casn1.INTEGER) {
			return to, false
		}
		to.issuer, to.serial = issuer, serial
	}
	if !in.ReadASN1(&algorithm, casn1.SEQUENCE) || !algorithm.ReadASN1ObjectIdentifier(&to.algorithm) ||
		!in.ReadASN1(&wrapped, casn1.OCTET_STRING) {
		return to, false
	}
	to.wrapped = wrapped
	return to, true
}

func (e *Envelope) readContent(in cryptobyte.String) error {
	var algorithm, iv, whole cryptobyte.String
	var kind, id asn1.ObjectIdentifier
	var tag casn1.Tag
	if !in.ReadASN1ObjectIdentifier(&kind) || !in.ReadASN1(&algorithm, casn1.SEQUENCE) ||
		!algorithm.ReadASN1ObjectIdentifier(&id) || !in.ReadAnyASN1(&whole, &tag) {
		return errors.New("envelope: its content cannot be parsed (RFC 5652 section 6.1)")
	}
	for _, c := range ciphers {
		if c.id.Equal(id) {
			e.Cipher = c
		}
	}
	if e.Cipher.id == nil {
		return fmt.Errorf("envelope: its cipher %s is not taken", id)
	}
	if !algorithm.ReadASN1(&iv, casn1.OCTET_STRING) {
		return errors.New("envelope: its cipher lacks its initial block")
	}
	e.iv = iv
	switch tag {
	case context0:
		e.encrypted = whole
	case context0Outer:
		var err error
		if e.encrypted, err = ber.Joined(whole); err != nil {
			return fmt.Errorf("envelope: %w", err)
		}
	default:
		return errors.New("envelope: it holds no content")
	}
	block := aes.BlockSize
	if e.Cipher.id.Equal(TripleDES.id) {
		block = des.BlockSize
	}
	if len(e.iv) != block || len(e.encrypted) == 0 || len(e.encrypted)%block != 0 {
		return errors.New("envelope: its content is not made of whole blocks")
	}
	return nil
}

// For reports whether the envelope is sealed to a certificate.
func (e Envelope) For(c *cert.Certificate) bool { return e.sealedTo(c) != nil }

func (e Envelope) sealedTo(c *cert.Certificate) *sealedTo {
	issuer, serial, err := issuerAndSerial(c.Raw)
	if err != nil {
		return nil
	}
	for i := range e.recipients {
		to := &e.recipients[i]
		if to.id == nil && bytes.Equal(to.issuer, issuer) && bytes.Equal(to.serial, serial) ||
			to.id != nil && bytes.Equal(to.id, c.SubjectKey) {
			return to
		}
	}
	return nil
}

// Open decrypts the content by the RSA key of a certificate. A key that does not decrypt, and a padding that is wrong,
// give octets that mean nothing, in the same time as those that mean something: no one learns which it was (RFC 3218).
// Whoever reads the content answers one way to everything that means nothing. The error is that the envelope is sealed
// to someone else, which stands in the open.
func (e Envelope) Open(c *cert.Certificate, k *rsa.PrivateKey, random io.Reader) ([]byte, error) {
	to := e.sealedTo(c)
	if to == nil || !to.algorithm.Equal(oidRSA) {
		return nil, errors.New("envelope: it is sealed to another recipient, or in another way than PKCS#1 version 1.5")
	}
	secret := make([]byte, e.Cipher.size)
	defer clear(secret)
	if _, err := io.ReadFull(random, secret); err != nil {
		return nil, err
	}
	// An error is of the public parts alone: the random key then decrypts to nothing that means something.
	//lint:ignore SA1019 devices write nothing else; no answer depends on whether it fails
	_ = rsa.DecryptPKCS1v15SessionKey(nil, k, to.wrapped, secret)
	block, err := e.Cipher.make(secret)
	if err != nil {
		return nil, err
	}
	out := make([]byte, len(e.encrypted))
	cipher.NewCBCDecrypter(block, e.iv).CryptBlocks(out, e.encrypted)
	return out[:unpadded(out, block.BlockSize())], nil
}

// unpadded is the length without the padding; the whole length where the padding is wrong. Its time does not tell.
func unpadded(b []byte, size int) int {
	n := int(b[len(b)-1])
	good := subtle.ConstantTimeLessOrEq(1, n) & subtle.ConstantTimeLessOrEq(n, size)
	for i := range size {
		inside := subtle.ConstantTimeLessOrEq(i+1, n)
		same := subtle.ConstantTimeByteEq(b[len(b)-1-i], byte(n))
		good &= subtle.ConstantTimeSelect(inside, same, 1)
	}
	return len(b) - subtle.ConstantTimeSelect(good, n, 0)
}

// ErrOpen is the one answer to a content that means nothing once it was opened.
var ErrOpen = errors.New("envelope: what is in it cannot be used")
