package key

import (
	"crypto"
	"crypto/rsa"
	"crypto/subtle"
	"encoding/asn1"
	"fmt"
	"io"
	"math/big"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
)

var oidRSA = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 1}

// pkcs1 is the identifier of an algorithm of PKCS#1.
func pkcs1(n int) asn1.ObjectIdentifier { return asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, n} }

var rsaScheme = &scheme{
	family:   "rsa",
	oid:      oidRSA,
	variants: []variant{{RSA2048, 2048}, {RSA3072, 3072}, {RSA4096, 4096}},
	algorithms: []algorithm{
		{pkcs1(4), "MD5 with RSA", crypto.MD5, true},
		{pkcs1(5), "SHA-1 with RSA", crypto.SHA1, true},
		{pkcs1(11), "SHA-256 with RSA", crypto.SHA256, true},
		{pkcs1(12), "SHA-384 with RSA", crypto.SHA384, true},
		{pkcs1(13), "SHA-512 with RSA", crypto.SHA512, true},
		{pkcs1(14), "SHA-224 with RSA", crypto.SHA224, true},
	},
	signing: func(Kind) string { return "SHA-256 with RSA" },
	read:    readRSA,
	encode: func(b *cryptobyte.Builder, public crypto.PublicKey) bool {
		pub, ours := public.(*rsa.PublicKey)
		if !ours {
			return false
		}
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1ObjectIdentifier(oidRSA)
			b.AddASN1NULL()
		})
		b.AddASN1(casn1.BIT_STRING, func(b *cryptobyte.Builder) {
			b.AddUint8(0)
			b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1BigInt(pub.N)
				b.AddASN1Int64(int64(pub.E))
			})
		})
		return true
	},
	generate: func(v variant, random io.Reader) (crypto.Signer, error) { return rsa.GenerateKey(random, v.bits) },
	verify: func(p Public, a Algorithm, digest, signature []byte) bool {
		pub, ours := p.Key.(*rsa.PublicKey)
		switch {
		case !ours:
			return false
		case a.pss:
			return rsa.VerifyPSS(pub, a.Hash, digest, signature, &rsa.PSSOptions{SaltLength: a.salt,
				Hash: a.Hash}) == nil
		case p.Bits < 1024:
			return verifySmall(pub, a.Hash, digest, signature)
		}
		return rsa.VerifyPKCS1v15(pub, a.Hash, digest, signature) == nil
	},
	words: func(p Public) string { return fmt.Sprintf("RSA %d", p.Bits) },
}

func readRSA(p *Public, _ cryptobyte.String) {
	in := cryptobyte.String(p.bitBytes)
	var seq cryptobyte.String
	n, e := new(big.Int), new(big.Int)
	p.Kind = "rsa"
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !seq.ReadASN1Integer(n) || !seq.ReadASN1Integer(e) || n.Sign() <= 0 {
		p.Fault = "it is not a modulus and an exponent (RFC 8017 appendix A.1.1)"
		return
	}
	p.Bits, p.Exponent = n.BitLen(), e
	p.Kind = Kind(fmt.Sprintf("rsa-%d", p.Bits))
	switch {
	case p.Bits > mostBits:
		p.Fault = fmt.Sprintf("its modulus has %d bits; the most that is handled is %d", p.Bits, mostBits)
	case n.Bit(0) == 0:
		p.Fault = "its modulus is even, so anyone can factor it"
	case e.Cmp(big.NewInt(3)) < 0 || e.Bit(0) == 0:
		p.Fault = fmt.Sprintf("its exponent is %s; an exponent is odd and at least 3", clip(e))
	case e.BitLen() > 31:
		p.Fault = "its exponent has more than 31 bits, which most software cannot use"
	default:
		p.Key = &rsa.PublicKey{N: n, E: int(e.Int64())}
	}
}

func clip(n *big.Int) string {
	if n.BitLen() > 64 {
		return "a number of " + fmt.Sprint(n.BitLen()) + " bits"
	}
	return n.String()
}

// verifySmall checks RSASSA-PKCS1-v1_5 (RFC 8017 section 8.2.2) for moduli that
// the standard library refuses, so that a hopeless key is reported as weak and
// not as a wrong signature.
func verifySmall(pub *rsa.PublicKey, hash crypto.Hash, digest, signature []byte) bool {
	size := (pub.N.BitLen() + 7) / 8
	if len(signature) != size {
		return false
	}
	var info cryptobyte.Builder
	oids := map[crypto.Hash]asn1.ObjectIdentifier{
		crypto.MD5: {1, 2, 840, 113549, 2, 5}, crypto.SHA1: {1, 3, 14, 3, 2, 26},
		crypto.SHA256: {2, 16, 840, 1, 101, 3, 4, 2, 1}, crypto.SHA384: {2, 16, 840, 1, 101, 3, 4, 2, 2},
	}
	if oids[hash] == nil {
		return false
	}
	info.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddASN1ObjectIdentifier(oids[hash])
			b.AddASN1NULL()
		})
		b.AddASN1OctetString(digest)
	})
	t := info.BytesOrPanic()
	if size < len(t)+11 {
		return false
	}
	want := make([]byte, size)
	want[1] = 1
	for i := 2; i < size-len(t)-1; i++ {
		want[i] = 0xff
	}
	copy(want[size-len(t):], t)
	got := new(big.Int).Exp(new(big.Int).SetBytes(signature), big.NewInt(int64(pub.E)),
		pub.N).FillBytes(make([]byte, size))
	return subtle.ConstantTimeCompare(got, want) == 1
}
