package key

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"errors"
	"fmt"
)

// Plain encodes a signer as an unencrypted PrivateKeyInfo (RFC 5958 section 2).
func Plain(signer crypto.Signer) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(signer)
	if err != nil {
		return nil, fmt.Errorf("private key: %w", err)
	}
	return der, nil
}

// ReadPrivate reads an unencrypted private key: PKCS#8, or the older forms PKCS#1
// (RFC 8017) and SEC 1 (RFC 5915).
func ReadPrivate(der []byte) (crypto.Signer, error) {
	if k, err := x509.ParsePKCS8PrivateKey(der); err == nil {
		switch k := k.(type) {
		case *rsa.PrivateKey:
			return k, nil
		case *ecdsa.PrivateKey:
			return k, nil
		case ed25519.PrivateKey:
			return k, nil
		}
		return nil, fmt.Errorf("private key: a key of type %T cannot sign here", k)
	}
	if k, err := x509.ParsePKCS1PrivateKey(der); err == nil {
		return k, nil
	}
	if k, err := x509.ParseECPrivateKey(der); err == nil {
		return k, nil
	}
	return nil, errors.New("private key: it is neither PKCS#8, PKCS#1 nor SEC 1, or its values do not fit together")
}
