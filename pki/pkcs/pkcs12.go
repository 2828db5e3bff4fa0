package pkcs

import (
	"crypto"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/asn1"
	"errors"
	"fmt"
	"hash"
	"io"
	"slices"
	"unicode/utf16"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/key"
	"ironseal/pki/pbes"
)

// Profile says how a PKCS#12 file is protected.
type Profile string

const (
	Modern Profile = "modern" // AES-256 under PBKDF2; MAC of RFC 7292 appendix B with SHA-256
	PBMAC1 Profile = "pbmac1" // the same, with the MAC of RFC 9579
	Older  Profile = "older"  // triple DES and SHA-1, for devices that read nothing newer
)

// Work factors of files that are written.
const (
	storeRounds = 250_000 // PBKDF2 with HMAC-SHA-256, for each of the two parts
	macRounds   = 100_000 // of the MAC
	olderRounds = 2_048   // what devices of that age accept
)

var (
	oidShroudedKey  = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 12, 10, 1, 2}
	oidKeyBag       = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 12, 10, 1, 1}
	oidCertBag      = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 12, 10, 1, 3}
	oidSafeBag      = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 12, 10, 1, 6}
	oidX509Cert     = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 22, 1}
	oidFriendlyName = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 20}
	oidLocalKey     = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 21}
	oidJavaTrust    = asn1.ObjectIdentifier{2, 16, 840, 1, 113894, 746875, 1, 1}
	oidAnyUsage     = asn1.ObjectIdentifier{2, 5, 29, 37, 0}
	oidPBMAC1       = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 14}
	oidPBKDF2       = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 12}
	oidHMACSHA256   = asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 9}
	macHashes       = []struct {
		oid, hmac asn1.ObjectIdentifier
		new       func() hash.Hash
	}{
		{asn1.ObjectIdentifier{1, 3, 14, 3, 2, 26}, asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 7}, sha1.New},
		{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 1}, oidHMACSHA256, sha256.New},
		{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 2}, asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 10},
			sha512.New384},
		{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 3}, asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 11},
			sha512.New},
	}
)

// StoreEntry is one object of a PKCS#12 file.
type StoreEntry struct {
	Signer      crypto.Signer // a private key, or
	Certificate []byte        // a certificate
	Name        string        // the friendly name
	Anchor      bool          // marked as trusted, the way Java marks it
	OfKey       bool          // read: the certificate of a key in the file
	localKey    []byte
}

// WriteStore writes a PKCS#12 file (RFC 7292): the keys encrypted each on its own,
// the certificates encrypted together. A file without keys may be written without a
// password: it is open then, and has no MAC. With keys, an empty one is refused.
func WriteStore(entries []StoreEntry, password []byte, profile Profile, random io.Reader) ([]byte, error) {
	open := len(password) == 0
	if open && slices.ContainsFunc(entries, func(e StoreEntry) bool { return e.Signer != nil }) {
		return nil, errors.New("PKCS#12: an empty password protects nothing: choose one")
	}
	encrypt := func(plain []byte) (alg, encrypted []byte, err error) {
		if profile == Older {
			return pbes.EncryptLegacy(plain, password, olderRounds, random)
		}
		return pbes.EncryptBytes(plain, password, pbes.Work{Iterations: storeRounds}, random)
	}
	certs, err := certBags(entries)
	if err != nil {
		return nil, err
	}
	keys, err := keyBags(entries, encrypt)
	if err != nil {
		return nil, err
	}
	var safe cryptobyte.Builder
	var fault error
	safe.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		if certs != nil && open {
			addContent(b, oidData, func(b *cryptobyte.Builder) { b.AddASN1OctetString(certs) })
		} else if certs != nil {
			alg, encrypted, err := encrypt(certs)
			fault = err
			addContent(b, oidEncrypted, func(b *cryptobyte.Builder) {
				b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
					b.AddASN1Int64(0)
					b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
						b.AddASN1ObjectIdentifier(oidData)
						b.AddBytes(alg)
						b.AddASN1(context0, func(b *cryptobyte.Builder) { b.AddBytes(encrypted) })
					})
				})
			})
		}
		if keys != nil {
			addContent(b, oidData, func(b *cryptobyte.Builder) { b.AddASN1OctetString(keys) })
		}
	})
	content, err := safe.Bytes()
	if err = errors.Join(fault, err); err != nil {
		return nil, fmt.Errorf("PKCS#12: %w", err)
	}
	var mac []byte
	if !open {
		if mac, err = macData(content, password, profile, random); err != nil {
			return nil, fmt.Errorf("PKCS#12: %w", err)
		}
	}
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1Int64(3)
		addContent(b, oidData, func(b *cryptobyte.Builder) { b.AddASN1OctetString(content) })
		b.AddBytes(mac)
	})
	return b.Bytes()
}

func addContent(b *cryptobyte.Builder, kind asn1.ObjectIdentifier, content func(*cryptobyte.Builder)) {
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(kind)
		b.AddASN1(context0Outer, content)
	})
}

// localKeyOf ties a key to its certificate: the identifier of the public key.
func localKeyOf(signer crypto.Signer) ([]byte, error) {
	pub, err := key.Of(signer)
	if err != nil {
		return nil, err
	}
	return pub.Identifier(), nil
}

func certBags(entries []StoreEntry) ([]byte, error) {
	var ids [][]byte
	for _, e := range entries {
		if e.Signer != nil {
			id, err := localKeyOf(e.Signer)
			if err != nil {
				return nil, fmt.Errorf("PKCS#12: %w", err)
			}
			ids = append(ids, id)
		}
	}
	var b cryptobyte.Builder
	count := 0
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		for _, e := range entries {
			if e.Certificate == nil {
				continue
			}
			var own []byte
			if count < len(ids) && !e.Anchor {
				own = ids[count] // the first certificates belong to the keys, in order
			}
			count++
			addBag(b, oidCertBag, own, e, func(b *cryptobyte.Builder) {
				b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
					b.AddASN1ObjectIdentifier(oidX509Cert)
					b.AddASN1(context0Outer, func(b *cryptobyte.Builder) { b.AddASN1OctetString(e.Certificate) })
				})
			})
		}
	})
	if count == 0 {
		return nil, nil
	}
	return b.Bytes()
}

func keyBags(entries []StoreEntry, encrypt func([]byte) ([]byte, []byte, error)) ([]byte, error) {
	var b cryptobyte.Builder
	count := 0
	var fault error
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		for _, e := range entries {
			if e.Signer == nil {
				continue
			}
			count++
			plain, err := key.Plain(e.Signer)
			fault = errors.Join(fault, err)
			alg, encrypted, err := encrypt(plain)
			clear(plain)
			own, idErr := localKeyOf(e.Signer)
			fault = errors.Join(fault, err, idErr)
			addBag(b, oidShroudedKey, own, e, func(b *cryptobyte.Builder) {
				b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
					b.AddBytes(alg)
					b.AddASN1OctetString(encrypted)
				})
			})
		}
	})
	if count == 0 {
		return nil, nil
	}
	out, err := b.Bytes()
	return out, errors.Join(fault, err)
}

func addBag(b *cryptobyte.Builder, kind asn1.ObjectIdentifier, localKey []byte, e StoreEntry,
	value func(*cryptobyte.Builder)) {
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(kind)
		b.AddASN1(context0Outer, value)
		if localKey == nil && e.Name == "" && !e.Anchor {
			return
		}
		b.AddASN1(casn1.SET, func(b *cryptobyte.Builder) {
			if e.Name != "" {
				addAttribute(b, oidFriendlyName, func(b *cryptobyte.Builder) {
					b.AddASN1(casn1.Tag(30), func(b *cryptobyte.Builder) {
						for _, u := range utf16.Encode([]rune(e.Name)) {
							b.AddUint16(u)
						}
					})
				})
			}
			if localKey != nil {
				addAttribute(b, oidLocalKey, func(b *cryptobyte.Builder) { b.AddASN1OctetString(localKey) })
			}
			if e.Anchor {
				addAttribute(b, oidJavaTrust, func(b *cryptobyte.Builder) { b.AddASN1ObjectIdentifier(oidAnyUsage) })
			}
		})
	})
}

func addAttribute(b *cryptobyte.Builder, kind asn1.ObjectIdentifier, value func(*cryptobyte.Builder)) {
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(kind)
		b.AddASN1(casn1.SET, value)
	})
}

func macData(content, password []byte, profile Profile, random io.Reader) ([]byte, error) {
	salt := make([]byte, 16)
	if _, err := io.ReadFull(random, salt); err != nil {
		return nil, fmt.Errorf("no randomness: %w", err)
	}
	h, rounds := macHashes[1], macRounds
	if profile == Older {
		h, rounds, salt = macHashes[0], olderRounds, salt[:8]
	}
	var sum, alg []byte
	var err error
	if profile == PBMAC1 {
		sum, alg, err = pbmac1(content, password, salt, rounds)
	} else {
		sum, err = pbes.StoreMAC(h.new, content, password, salt, rounds)
		alg = algorithm(h.oid)
	}
	if err != nil {
		return nil, err
	}
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddBytes(alg)
			b.AddASN1OctetString(sum)
		})
		b.AddASN1OctetString(salt)
		b.AddASN1Int64(int64(rounds))
	})
	return b.Bytes()
}

func algorithm(oid asn1.ObjectIdentifier) []byte {
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(oid)
		b.AddASN1NULL()
	})
	return b.BytesOrPanic()
}

// pbmac1 computes the MAC of RFC 9579 with PBKDF2 and HMAC-SHA-256, and its
// AlgorithmIdentifier.
func pbmac1(content, password, salt []byte, rounds int) (sum, alg []byte, err error) {
	derived, err := pbkdf2.Key(sha256.New, string(password), salt, rounds, 32)
	if err != nil {
		return nil, nil, err
	}
	m := hmac.New(sha256.New, derived)
	clear(derived)
	m.Write(content)
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(oidPBMAC1)
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1ObjectIdentifier(oidPBKDF2)
				b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
					b.AddASN1OctetString(salt)
					b.AddASN1Int64(int64(rounds))
					b.AddASN1Int64(32)
					b.AddBytes(algorithm(oidHMACSHA256))
				})
			})
			b.AddBytes(algorithm(oidHMACSHA256))
		})
	})
	alg, err = b.Bytes()
	return m.Sum(nil), alg, err
}
