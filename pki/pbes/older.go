package pbes

import (
	"crypto/cipher"
	"crypto/des"
	"crypto/hmac"
	"crypto/sha1"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/rc2"
)

// The schemes of RFC 7292 appendix C, which older devices still write and read.
// They are opened without asking and written only when the older profile is
// asked for by name.
type olderScheme struct {
	name    string
	keySize int
	block   func(key []byte) (cipher.Block, error)
}

var olderSchemes = map[string]olderScheme{
	"1.2.840.113549.1.12.1.3": {"triple DES", 24, des.NewTripleDESCipher},
	"1.2.840.113549.1.12.1.4": {"two-key triple DES", 16, func(k []byte) (cipher.Block, error) {
		return des.NewTripleDESCipher(append(append([]byte{}, k...), k[:8]...))
	}},
	"1.2.840.113549.1.12.1.5": {"RC2, 128 bits", 16,
		func(k []byte) (cipher.Block, error) { return rc2.New(k, 128), nil }},
	"1.2.840.113549.1.12.1.6": {"RC2, 40 bits", 5, func(k []byte) (cipher.Block, error) { return rc2.New(k, 40), nil }},
}

var oidTripleDES = []int{1, 2, 840, 113549, 1, 12, 1, 3}

func readOlder(o olderScheme, alg, encrypted cryptobyte.String) (Header, error) {
	var params, salt cryptobyte.String
	var rounds int64
	if !alg.ReadASN1(&params, casn1.SEQUENCE) || !params.ReadASN1(&salt, casn1.OCTET_STRING) ||
		!params.ReadASN1Integer(&rounds) {
		return Header{}, errors.New("encrypted key: its parameters cannot be parsed (RFC 7292 appendix C)")
	}
	if rounds < 1 || rounds > MostIterations || len(salt) > 1024 {
		return Header{}, fmt.Errorf("encrypted key: %d rounds are out of bounds: the most is %d", rounds,
			MostIterations)
	}
	if len(encrypted) == 0 || len(encrypted)%8 != 0 {
		return Header{}, errors.New("encrypted key: the encrypted part has an impossible length")
	}
	h := Header{Derivation: fmt.Sprintf("PKCS#12, SHA-1, %d rounds", rounds), Cipher: o.name, Older: true,
		Cost: 2 * rounds, encrypted: encrypted}
	h.derive = func(pass []byte) ([]byte, error) {
		k, err := DeriveStore(sha1.New, 1, pass, salt, int(rounds), o.keySize)
		if err != nil {
			return nil, err
		}
		iv, err := DeriveStore(sha1.New, 2, pass, salt, int(rounds), 8)
		return append(k, iv...), err
	}
	h.decrypter = func(derived []byte) (cipher.BlockMode, error) {
		block, err := o.block(derived[:o.keySize])
		if err != nil {
			return nil, err
		}
		return cipher.NewCBCDecrypter(block, derived[o.keySize:]), nil
	}
	return h, nil
}

// EncryptLegacy encrypts bytes under a passphrase by triple DES with SHA-1 (RFC 7292
// appendix C), for devices that read nothing newer.
func EncryptLegacy(plain, passphrase []byte, rounds int, random io.Reader) (alg, encrypted []byte, err error) {
	if len(passphrase) == 0 {
		return nil, nil, errors.New("an empty passphrase protects nothing: choose one")
	}
	salt := make([]byte, 8)
	if _, err := io.ReadFull(random, salt); err != nil {
		return nil, nil, fmt.Errorf("encrypting a key: no randomness: %w", err)
	}
	k, err := DeriveStore(sha1.New, 1, passphrase, salt, rounds, 24)
	if err != nil {
		return nil, nil, err
	}
	iv, err := DeriveStore(sha1.New, 2, passphrase, salt, rounds, 8)
	if err != nil {
		return nil, nil, err
	}
	block, err := des.NewTripleDESCipher(k)
	if err != nil {
		return nil, nil, err
	}
	encrypted = padded(plain, 8)
	cipher.NewCBCEncrypter(block, iv).CryptBlocks(encrypted, encrypted)
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(oidTripleDES)
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1OctetString(salt)
			b.AddASN1Int64(int64(rounds))
		})
	})
	alg, err = b.Bytes()
	return alg, encrypted, err
}

// DeriveStore is the key derivation of RFC 7292 appendix B.2. id is 1 for a key,
// 2 for an initialisation vector, 3 for a MAC key.
func DeriveStore(h func() hash.Hash, id byte, passphrase, salt []byte, rounds, size int) ([]byte, error) {
	pass, err := wide(passphrase)
	if err != nil {
		return nil, err
	}
	defer clear(pass)
	sum := h()
	v := sum.BlockSize()
	d := make([]byte, v)
	for i := range d {
		d[i] = id
	}
	block := append(fill(salt, v), fill(pass, v)...)
	defer clear(block)
	var out []byte
	for len(out) < size {
		sum.Reset()
		sum.Write(d)
		sum.Write(block)
		a := sum.Sum(nil)
		for range rounds - 1 {
			sum.Reset()
			sum.Write(a)
			a = sum.Sum(a[:0])
		}
		out = append(out, a...)
		addToEach(block, fill(a, v)[:v], v)
	}
	return out[:size], nil
}

// fill repeats b to a multiple of v bytes; nothing stays nothing.
func fill(b []byte, v int) []byte {
	if len(b) == 0 {
		return nil
	}
	out := make([]byte, (len(b)+v-1)/v*v)
	for i := range out {
		out[i] = b[i%len(b)]
	}
	return out
}

// addToEach adds b + 1 to every v-byte number in block, modulo 2^(8v).
func addToEach(block, b []byte, v int) {
	for at := 0; at < len(block); at += v {
		carry := 1
		for i := v - 1; i >= 0; i-- {
			carry += int(block[at+i]) + int(b[i])
			block[at+i] = byte(carry)
			carry >>= 8
		}
	}
}

// wide writes a passphrase as a BMPString with its terminator (appendix B.1).
func wide(passphrase []byte) ([]byte, error) {
	if !utf8.Valid(passphrase) {
		return nil, errors.New("the passphrase is not UTF-8 text")
	}
	var out []byte
	for _, u := range utf16.Encode([]rune(string(passphrase))) {
		out = binary.BigEndian.AppendUint16(out, u)
	}
	return append(out, 0, 0), nil
}

// StoreMAC computes the MAC of a PKCS#12 file (RFC 7292 section 4).
func StoreMAC(h func() hash.Hash, content, passphrase, salt []byte, rounds int) ([]byte, error) {
	k, err := DeriveStore(h, 3, passphrase, salt, rounds, h().Size())
	if err != nil {
		return nil, err
	}
	defer clear(k)
	m := hmac.New(h, k)
	m.Write(content)
	return m.Sum(nil), nil
}
