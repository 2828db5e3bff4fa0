// Package pbes encrypts private keys under a passphrase by PKCS#5's second scheme (RFC
// 8018), with scrypt (RFC 7914) and AES, and opens what others encrypted, by older schemes
// too. How much work a file may ask for before its passphrase is known is bounded.
package pbes

import (
	"bytes"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/pbkdf2"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/asn1"
	"errors"
	"fmt"
	"hash"
	"io"
	"math/bits"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
	"golang.org/x/crypto/scrypt"

	"ironseal/pki/key"
)

// An encrypted key is an EncryptedPrivateKeyInfo (RFC 5958 section 3) under PBES2
// (RFC 8018 section 6.2): a key is derived from the passphrase by PBKDF2 or by
// scrypt (RFC 7914), and AES-256-CBC encrypts the PrivateKeyInfo under it.
// scrypt guards the estate's own keys, since memory makes guessing dear; PBKDF2
// is for keys that other software must open.

var (
	oidPBES2  = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 13}
	oidPBKDF2 = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 12}
	oidScrypt = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 11591, 4, 11}
	ciphers   = map[string]int{"2.16.840.1.101.3.4.1.2": 16, "2.16.840.1.101.3.4.1.22": 24,
		"2.16.840.1.101.3.4.1.42": 32}
	oidAES256 = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 42}
	oidHMAC   = asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 9}
	prfs      = map[string]struct {
		name string
		new  func() hash.Hash
	}{
		"1.2.840.113549.2.7":  {"HMAC-SHA-1", sha1.New},
		"1.2.840.113549.2.9":  {"HMAC-SHA-256", sha256.New},
		"1.2.840.113549.2.10": {"HMAC-SHA-384", sha512.New384},
		"1.2.840.113549.2.11": {"HMAC-SHA-512", sha512.New},
	}
)

// Bounds on what a file may ask of whoever opens it.
const (
	MostIterations = 5_000_000 // of PBKDF2
	MostMemory     = 256 << 20 // bytes of scrypt, all of its lanes together
	mostEncrypted  = 64 << 10  // bytes of ciphertext
)

// Work says how much work guessing a passphrase shall cost.
type Work struct {
	Memory     int // bytes of scrypt, a power of two from 1 KiB to MostMemory; 0 for PBKDF2
	Iterations int // of PBKDF2; used when Memory is 0
}

// Recommended work: for the estate's own keys, and for keys that other
// software opens (600,000 iterations of HMAC-SHA-256).
var (
	WorkOwn   = Work{Memory: 64 << 20}
	WorkGiven = Work{Iterations: 600_000}
)

// ErrPassphrase says that the passphrase does not open the key.
var ErrPassphrase = errors.New("the passphrase does not open this key")

// Header is what an encrypted key says about itself without its passphrase.
type Header struct {
	Derivation string // "scrypt, 64 MiB" or "PBKDF2, HMAC-SHA-256, 600000 rounds"
	Cipher     string // "AES-256-CBC"
	Older      bool   // a scheme that should no longer be used
	Cost       int64  // the work of opening it, in rounds of PBKDF2 or what takes as long
	derive     func(passphrase []byte) ([]byte, error)
	decrypter  func(derived []byte) (cipher.BlockMode, error)
	encrypted  []byte
}

// Encrypt encrypts a signer's PrivateKeyInfo under a passphrase. An empty
// passphrase is refused. random gives the salt and the initialisation vector.
func Encrypt(signer crypto.Signer, passphrase []byte, work Work, random io.Reader) ([]byte, error) {
	if len(passphrase) == 0 {
		return nil, errors.New("an empty passphrase protects nothing: choose one")
	}
	plain, err := key.Plain(signer)
	if err != nil {
		return nil, err
	}
	defer clear(plain)
	alg, encrypted, err := EncryptBytes(plain, passphrase, work, random)
	if err != nil {
		return nil, err
	}
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddBytes(alg)
		b.AddASN1OctetString(encrypted)
	})
	return b.Bytes()
}

// EncryptBytes encrypts bytes under a passphrase by PBES2. It returns the
// AlgorithmIdentifier, whole, and the ciphertext.
func EncryptBytes(plain, passphrase []byte, work Work, random io.Reader) (alg, encrypted []byte, err error) {
	if len(passphrase) == 0 {
		return nil, nil, errors.New("an empty passphrase protects nothing: choose one")
	}
	seed := make([]byte, 32)
	if _, err := io.ReadFull(random, seed); err != nil {
		return nil, nil, fmt.Errorf("encrypting a key: no randomness: %w", err)
	}
	salt, iv := seed[:16], seed[16:]
	kdf, derive := work.params(salt)
	if err := kdf.err(); err != nil {
		return nil, nil, err
	}
	derived, err := derive(passphrase)
	if err != nil {
		return nil, nil, fmt.Errorf("encrypting a key: %w", err)
	}
	defer clear(derived)
	block, err := aes.NewCipher(derived)
	if err != nil {
		return nil, nil, fmt.Errorf("encrypting a key: %w", err)
	}
	encrypted = padded(plain, aes.BlockSize)
	cipher.NewCBCEncrypter(block, iv).CryptBlocks(encrypted, encrypted)
	alg, err = encodePBES2(kdf, iv)
	return alg, encrypted, err
}

// padded appends the padding of RFC 8018 section 6.1.1 to a copy of b.
func padded(b []byte, size int) []byte {
	pad := size - len(b)%size
	return append(bytes.Clone(b), bytes.Repeat([]byte{byte(pad)}, pad)...)
}

type kdfParams struct {
	work Work
	salt []byte
}

func (k kdfParams) err() error {
	switch w := k.work; {
	case w.Memory == 0 && (w.Iterations < 1000 || w.Iterations > MostIterations):
		return fmt.Errorf("encrypting a key: %d rounds of PBKDF2; take 1000 to %d", w.Iterations, MostIterations)
	case w.Memory != 0 && (w.Memory < 2048 || w.Memory > MostMemory || bits.OnesCount(uint(w.Memory)) != 1):
		return fmt.Errorf("encrypting a key: %d bytes of scrypt memory; take a power of two from 2 KiB to %d MiB",
			w.Memory, MostMemory>>20)
	}
	return nil
}

const scryptBlock = 8 // r of RFC 7914; memory is 128·r·N bytes

func (w Work) params(salt []byte) (kdfParams, func([]byte) ([]byte, error)) {
	k := kdfParams{work: w, salt: salt}
	if w.Memory > 0 {
		return k, func(pass []byte) ([]byte, error) {
			return scrypt.Key(pass, salt, w.Memory/(128*scryptBlock), scryptBlock, 1, 32)
		}
	}
	return k, func(pass []byte) ([]byte, error) {
		return pbkdf2.Key(sha256.New, string(pass), salt, w.Iterations, 32)
	}
}

func encodePBES2(k kdfParams, iv []byte) ([]byte, error) {
	var b cryptobyte.Builder
	sequence := func(b *cryptobyte.Builder, f func(b *cryptobyte.Builder)) { b.AddASN1(casn1.SEQUENCE, f) }
	sequence(&b, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(oidPBES2)
		sequence(b, func(b *cryptobyte.Builder) {
			sequence(b, k.add)
			sequence(b, func(b *cryptobyte.Builder) {
				b.AddASN1ObjectIdentifier(oidAES256)
				b.AddASN1OctetString(iv)
			})
		})
	})
	return b.Bytes()
}

func (k kdfParams) add(b *cryptobyte.Builder) {
	if k.work.Memory > 0 {
		b.AddASN1ObjectIdentifier(oidScrypt)
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1OctetString(k.salt)
			b.AddASN1Int64(int64(k.work.Memory / (128 * scryptBlock)))
			b.AddASN1Int64(scryptBlock)
			b.AddASN1Int64(1)
			b.AddASN1Int64(32)
		})
		return
	}
	b.AddASN1ObjectIdentifier(oidPBKDF2)
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1OctetString(k.salt)
		b.AddASN1Int64(int64(k.work.Iterations))
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1ObjectIdentifier(oidHMAC)
			b.AddASN1NULL()
		})
	})
}

// ReadHeader reads an encrypted key's header. It refuses work factors beyond the
// bounds of this package, so that a file cannot tie up the machine that opens it.
func ReadHeader(der []byte) (Header, error) { return readHeader(der, MostMemory) }

func readHeader(der []byte, mostMemory int64) (Header, error) {
	in := cryptobyte.String(der)
	var outer, alg, encrypted cryptobyte.String
	if !in.ReadASN1(&outer, casn1.SEQUENCE) || !in.Empty() || !outer.ReadASN1Element(&alg, casn1.SEQUENCE) ||
		!outer.ReadASN1(&encrypted, casn1.OCTET_STRING) {
		return Header{}, errors.New("encrypted key: it is not an EncryptedPrivateKeyInfo (RFC 5958 section 3)")
	}
	if len(encrypted) > mostEncrypted {
		return Header{}, errors.New("encrypted key: the encrypted part has an impossible length")
	}
	return readScheme(alg, encrypted, mostMemory)
}

// readScheme reads the AlgorithmIdentifier of a passphrase-based encryption.
func readScheme(whole, encrypted cryptobyte.String, mostMemory int64) (Header, error) {
	var h Header
	var alg, params, kdf, enc cryptobyte.String
	var scheme, derivation, cipherOID asn1.ObjectIdentifier
	if !whole.ReadASN1(&alg, casn1.SEQUENCE) || !alg.ReadASN1ObjectIdentifier(&scheme) {
		return h, errors.New("encrypted key: its scheme cannot be parsed")
	}
	if old, ok := olderSchemes[scheme.String()]; ok {
		return readOlder(old, alg, encrypted)
	}
	if !scheme.Equal(oidPBES2) {
		return h, fmt.Errorf("encrypted key: the scheme %s is not PBES2 (RFC 8018): encrypt it again with other "+
			"software",
			scheme)
	}
	if !alg.ReadASN1(&params, casn1.SEQUENCE) || !params.ReadASN1(&kdf, casn1.SEQUENCE) ||
		!params.ReadASN1(&enc, casn1.SEQUENCE) ||
		!kdf.ReadASN1ObjectIdentifier(&derivation) || !enc.ReadASN1ObjectIdentifier(&cipherOID) {
		return h, errors.New("encrypted key: its PBES2 parameters cannot be parsed")
	}
	size := ciphers[cipherOID.String()]
	var iv cryptobyte.String
	if size == 0 {
		return h, fmt.Errorf("encrypted key: the cipher %s is not AES in CBC mode", cipherOID)
	}
	if !enc.ReadASN1(&iv, casn1.OCTET_STRING) || len(iv) != aes.BlockSize {
		return h, errors.New("encrypted key: its initialisation vector is not 16 bytes")
	}
	if len(encrypted) == 0 || len(encrypted)%aes.BlockSize != 0 {
		return h, errors.New("encrypted key: the encrypted part has an impossible length")
	}
	h.Cipher, h.encrypted = fmt.Sprintf("AES-%d-CBC", size*8), encrypted
	h.decrypter = func(derived []byte) (cipher.BlockMode, error) {
		block, err := aes.NewCipher(derived)
		if err != nil {
			return nil, err
		}
		return cipher.NewCBCDecrypter(block, iv), nil
	}
	if err := h.readDerivation(derivation, kdf, size, mostMemory); err != nil {
		return h, err
	}
	return h, nil
}

func (h *Header) readDerivation(oid asn1.ObjectIdentifier, kdf cryptobyte.String, size int, mostMemory int64) error {
	var params, salt cryptobyte.String
	if !kdf.ReadASN1(&params, casn1.SEQUENCE) || !params.ReadASN1(&salt, casn1.OCTET_STRING) || len(salt) > 1024 {
		return errors.New("encrypted key: its key derivation cannot be parsed")
	}
	switch {
	case oid.Equal(oidScrypt):
		var n, r, p int64
		if !params.ReadASN1Integer(&n) || !params.ReadASN1Integer(&r) || !params.ReadASN1Integer(&p) {
			return errors.New("encrypted key: its scrypt parameters cannot be parsed (RFC 7914 section 7)")
		}
		if n < 2 || n&(n-1) != 0 || r < 1 || p < 1 || n > mostMemory/128 || r > mostMemory/128 || p > mostMemory/128 ||
			n*r > mostMemory/128/p {
			return fmt.
				Errorf("encrypted key: its scrypt work (N=%d r=%d p=%d) is out of bounds: the most is %d MiB", n, r,
					p, mostMemory>>20)
		}
		h.Derivation = "scrypt, " + memoryWords(n*r*128)
		h.Cost = n * r * p * 128 / (MostMemory / MostIterations)
		h.derive = func(pass []byte) ([]byte, error) { return scrypt.Key(pass, salt, int(n), int(r), int(p), size) }
	case oid.Equal(oidPBKDF2):
		return h.readPBKDF2(params, salt, size)
	default:
		return fmt.Errorf("encrypted key: the key derivation %s is neither PBKDF2 nor scrypt", oid)
	}
	return nil
}

func (h *Header) readPBKDF2(params, salt cryptobyte.String, size int) error {
	var rounds, length int64
	prf := "1.2.840.113549.2.7" // the default of RFC 8018 appendix A.2
	if !params.ReadASN1Integer(&rounds) || params.PeekASN1Tag(casn1.INTEGER) && !params.ReadASN1Integer(&length) {
		return errors.New("encrypted key: its PBKDF2 parameters cannot be parsed")
	}
	if length != 0 && length != int64(size) {
		return errors.New("encrypted key: its PBKDF2 key length is not the cipher's")
	}
	if rounds < 1 || rounds > MostIterations {
		return fmt.Errorf("encrypted key: %d rounds of PBKDF2 are out of bounds: the most is %d", rounds,
			MostIterations)
	}
	if !params.Empty() {
		var seq cryptobyte.String
		var oid asn1.ObjectIdentifier
		if !params.ReadASN1(&seq, casn1.SEQUENCE) || !seq.ReadASN1ObjectIdentifier(&oid) {
			return errors.New("encrypted key: its PBKDF2 parameters cannot be parsed")
		}
		prf = oid.String()
	}
	p, ok := prfs[prf]
	if !ok {
		return fmt.Errorf("encrypted key: the PBKDF2 function %s is not known here", prf)
	}
	h.Derivation, h.Cost = fmt.Sprintf("PBKDF2, %s, %d rounds", p.name, rounds), rounds
	h.derive = func(pass []byte) ([]byte, error) { return pbkdf2.Key(p.new, string(pass), salt, int(rounds), size) }
	return nil
}

func memoryWords(n int64) string {
	if n >= 1<<20 {
		return fmt.Sprintf("%d MiB", n>>20)
	}
	return fmt.Sprintf("%d KiB", n>>10)
}

// CostOf is the work of opening an encrypted key, before it is done.
func CostOf(der []byte) (int64, error) {
	h, err := ReadHeader(der)
	return h.Cost, err
}

// CostOfBytes is the work of DecryptBytes, before it is done.
func CostOfBytes(alg, encrypted []byte) (int64, error) {
	h, err := readScheme(alg, encrypted, MostMemory)
	return h.Cost, err
}

// Decrypt opens an encrypted key. ErrPassphrase is returned for a wrong passphrase.
func Decrypt(der, passphrase []byte) (crypto.Signer, error) {
	h, err := ReadHeader(der)
	if err != nil {
		return nil, err
	}
	if len(passphrase) == 0 {
		return nil, fmt.Errorf("encrypted key: the passphrase is empty: %w", ErrPassphrase)
	}
	plain, err := h.open(passphrase)
	if err != nil {
		return nil, err
	}
	defer clear(plain)
	signer, err := key.ReadPrivate(plain)
	if err != nil {
		return nil, ErrPassphrase // padding fits by chance once in 256 wrong passphrases
	}
	return signer, nil
}

// DecryptBytes decrypts what EncryptBytes or other software encrypted: alg is the whole
// AlgorithmIdentifier.
func DecryptBytes(alg, encrypted, passphrase []byte) ([]byte, error) {
	h, err := readScheme(alg, encrypted, MostMemory)
	if err != nil {
		return nil, err
	}
	return h.open(passphrase)
}

func (h Header) open(passphrase []byte) ([]byte, error) {
	derived, err := h.derive(passphrase)
	if err != nil {
		return nil, fmt.Errorf("encrypted key: %w", err)
	}
	defer clear(derived)
	mode, err := h.decrypter(derived)
	if err != nil {
		return nil, fmt.Errorf("encrypted key: %w", err)
	}
	plain := make([]byte, len(h.encrypted))
	mode.CryptBlocks(plain, h.encrypted)
	pad := int(plain[len(plain)-1])
	if pad < 1 || pad > mode.BlockSize() || subtle.ConstantTimeCompare(plain[len(plain)-pad:],
		bytes.Repeat([]byte{byte(pad)}, pad)) != 1 {
		clear(plain)
		return nil, ErrPassphrase
	}
	return plain[:len(plain)-pad], nil
}
