package shamir

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"encoding/pem"
	"io"
	"math/bits"
	"strconv"

	"golang.org/x/crypto/scrypt"

	"ironseal/pki/fault"
)

// A share in a file is sealed under its custodian's own passphrase: scrypt (RFC 7914, r = 8, p = 1) makes the key of
// AES-256 in GCM (NIST SP 800-38D). Or it is sealed to a key that they have, by whoever knows such keys. What can be
// read without the passphrase or key (whose share, and of what) is authenticated.

const (
	blockType = "IRON SEAL SHARE"
	saltBytes = 16
	leastCost = 1 << 13 // 8 MiB a guess
	mostCost  = 1 << 18 // 256 MiB
	mostFile  = 8 << 10
)

// Seal seals a share. memory is what a guess at the passphrase costs, in bytes.
func (s Share) Seal(custodian, key string, passphrase []byte, memory int, random io.Reader) ([]byte, error) {
	if len(passphrase) == 0 {
		return nil, fault.New(fault.BadInput, "an empty passphrase protects nothing")
	}
	cost := min(max(memory/1024, leastCost), mostCost)
	cost = 1 << (bits.Len(uint(cost)) - 1)
	salt := make([]byte, saltBytes)
	if _, err := io.ReadFull(random, salt); err != nil {
		return nil, err
	}
	block := &pem.Block{Type: blockType, Headers: map[string]string{"Custodian": custodian, "Key": key,
		"Cost": strconv.Itoa(cost)}}
	gcm, err := opener(passphrase, salt, cost)
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, gcm.NonceSize())
	if _, err := io.ReadFull(random, nonce); err != nil {
		return nil, err
	}
	plain := s.Encode()
	defer clear(plain)
	block.Bytes = gcm.Seal(append(salt, nonce...), nonce, plain, said(block))
	return pem.EncodeToMemory(block), nil
}

// SealFor seals a share to a key of its custodian's, which fingerprint names. seal encrypts a text, and authenticates
// what else it is given.
func (s Share) SealFor(custodian, key, fingerprint string, seal func(info, plain []byte) ([]byte, error)) ([]byte,
	error) {
	block := &pem.Block{Type: blockType, Headers: map[string]string{"Custodian": custodian, "Key": key,
		"For": fingerprint}}
	plain := s.Encode()
	defer clear(plain)
	var err error
	if block.Bytes, err = seal(said(block), plain); err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(block), nil
}

// said is what is authenticated of the headers.
func said(b *pem.Block) []byte {
	text := blockType + "\n" + b.Headers["Custodian"] + "\n" + b.Headers["Key"] + "\n" + b.Headers["Cost"]
	if to := b.Headers["For"]; to != "" {
		text += "\n" + to
	}
	return []byte(text)
}

func opener(passphrase, salt []byte, cost int) (cipher.AEAD, error) {
	key, err := scrypt.Key(passphrase, salt, cost, 8, 1, 32)
	if err != nil {
		return nil, err
	}
	defer clear(key)
	c, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(c)
}

// Sealed is a share in a file that is not opened yet.
type Sealed struct {
	Custodian, Key string // as the file says; counts once it is opened
	For            string // the fingerprint of the key that it is sealed to; "" where a passphrase opens it
	block          *pem.Block
	cost           int
}

// ReadSealed reads a share's file.
func ReadSealed(data []byte) (Sealed, error) {
	bad := fault.New(fault.BadInput, "this is no file of a share")
	if len(data) > mostFile {
		return Sealed{}, bad
	}
	block, rest := pem.Decode(data)
	if block == nil || block.Type != blockType || len(bytes.TrimSpace(rest)) > 0 || len(block.Headers) != 3 {
		return Sealed{}, bad
	}
	out := Sealed{Custodian: block.Headers["Custodian"], Key: block.Headers["Key"], For: block.Headers["For"],
		block: block}
	if out.For != "" {
		return out, nil
	}
	cost, err := strconv.Atoi(block.Headers["Cost"])
	if err != nil || cost < leastCost || cost > mostCost || bits.OnesCount(uint(cost)) != 1 {
		return Sealed{}, bad
	}
	out.cost = cost
	return out, nil
}

// ErrPassphrase says that a passphrase does not open a share.
var ErrPassphrase error = fault.New(fault.Refused, "the passphrase does not open the share, or its file was changed")

// OpenBy opens a share that is sealed to a key. open decrypts what SealFor's seal encrypted.
func (s Sealed) OpenBy(open func(info, sealed []byte) ([]byte, error)) (Share, error) {
	plain, err := open(said(s.block), s.block.Bytes)
	if err != nil {
		return Share{}, err
	}
	defer clear(plain)
	return Decode(plain)
}

// Open opens a share that is sealed under a passphrase.
func (s Sealed) Open(passphrase []byte) (Share, error) {
	if s.For != "" || len(s.block.Bytes) < saltBytes+12 {
		return Share{}, ErrPassphrase
	}
	salt, rest := s.block.Bytes[:saltBytes], s.block.Bytes[saltBytes:]
	gcm, err := opener(passphrase, salt, s.cost)
	if err != nil {
		return Share{}, err
	}
	plain, err := gcm.Open(nil, rest[:gcm.NonceSize()], rest[gcm.NonceSize():], said(s.block))
	if err != nil {
		return Share{}, ErrPassphrase
	}
	defer clear(plain)
	return Decode(plain)
}
