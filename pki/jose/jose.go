// Package jose reads the signed messages of ACME: JSON Web Signatures in the flattened form (RFC 7515 section 7.2.2),
// and public keys as JSON Web Keys (RFC 7517, RFC 7518 section 6, RFC 8037).
//
// It reads strictly. A member that stands twice, a letter of another case, a line break within base64url, a number
// with leading zeros: each would let two readers understand one message in two ways, so each is refused. A message says
// which algorithm signed it, but the key decides which algorithms there are: a message that names a MAC is never
// verified by a public key, nor the other way round.
package jose

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"math/big"
	"unicode/utf8"
)

// What is wrong with a message.
var (
	ErrMalformed = errors.New("the message is malformed")
	ErrAlgorithm = errors.New("the signature algorithm is not accepted")
	ErrKey       = errors.New("the public key is not accepted")
	ErrSignature = errors.New("the signature is wrong")
)

// Most is how many octets a message may have.
const Most = 64 << 10

// mostMembers bounds the members of one object.
const mostMembers = 32

// Header is the protected header of a message.
type Header struct {
	Algorithm string
	Nonce     string
	URL       string
	KeyID     string
	Key       *Key // nil where the message names its key by KeyID
}

// Message is a message whose signature was not verified yet.
type Message struct {
	Header
	Payload []byte

	input, signature []byte
}

// Algorithms are the signature algorithms that public keys are accepted with.
func Algorithms() []string { return []string{"ES256", "ES384", "ES512", "EdDSA", "RS256"} }

// Read reads a message. The errors wrap ErrMalformed, or what ReadKey returns.
func Read(data []byte) (Message, error) {
	var m Message
	if len(data) > Most {
		return m, fmt.Errorf("%w: it has more than %d octets", ErrMalformed, Most)
	}
	top, err := Object(data)
	if err != nil {
		return m, err
	}
	for name := range top {
		if name != "protected" && name != "payload" && name != "signature" {
			return m, fmt.Errorf("%w: the member %q does not belong there (RFC 8555 section 6.2)", ErrMalformed, name)
		}
	}
	protected, err := text(top, "protected")
	if err != nil {
		return m, err
	}
	payload, err := text(top, "payload")
	if err != nil {
		return m, err
	}
	signature, err := text(top, "signature")
	if err != nil {
		return m, err
	}
	header, err := Base64(protected)
	if err != nil {
		return m, err
	}
	if m.Payload, err = Base64(payload); err != nil {
		return m, err
	}
	if m.signature, err = Base64(signature); err != nil {
		return m, err
	}
	m.input = []byte(protected + "." + payload)
	m.Header, err = readHeader(header)
	return m, err
}

func readHeader(data []byte) (h Header, err error) {
	members, err := Object(data)
	if err != nil {
		return h, err
	}
	for name := range members {
		var into *string
		switch name {
		case "alg":
			into = &h.Algorithm
		case "nonce":
			into = &h.Nonce
		case "url":
			into = &h.URL
		case "kid":
			into = &h.KeyID
		case "jwk":
			k, err := ReadKey(members[name])
			if err != nil {
				return h, err
			}
			h.Key = &k
			continue
		case "crit": // no extension is known here (RFC 7515 section 4.1.11)
			return h, fmt.Errorf("%w: it has critical extensions that are not known here", ErrMalformed)
		default:
			continue
		}
		if *into, err = text(members, name); err != nil {
			return h, err
		}
	}
	if h.Algorithm == "" {
		return h, fmt.Errorf("%w: it names no algorithm", ErrMalformed)
	}
	return h, nil
}

// Object reads a JSON object whose members each stand once. Names are compared octet by octet.
func Object(data []byte) (map[string]json.RawMessage, error) {
	if !utf8.Valid(data) || tooDeep(data) {
		return nil, fmt.Errorf("%w: it is no JSON that is read here", ErrMalformed)
	}
	d := json.NewDecoder(bytes.NewReader(data))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil, fmt.Errorf("%w: it is no JSON object", ErrMalformed)
	}
	out := map[string]json.RawMessage{}
	for d.More() {
		t, err := d.Token()
		name, ok := t.(string)
		if err != nil || !ok {
			return nil, fmt.Errorf("%w: it is no JSON object", ErrMalformed)
		}
		if _, twice := out[name]; twice || len(out) >= mostMembers {
			return nil, fmt.Errorf("%w: the member %q stands twice, or there are too many members", ErrMalformed, name)
		}
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return nil, fmt.Errorf("%w: it is no JSON object", ErrMalformed)
		}
		out[name] = raw
	}
	if _, err := d.Token(); err != nil {
		return nil, fmt.Errorf("%w: it is no JSON object", ErrMalformed)
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("%w: something follows the JSON object", ErrMalformed)
	}
	return out, nil
}

// deepest is how deep JSON may be nested.
const deepest = 8

func tooDeep(data []byte) bool {
	depth, quoted := 0, false
	for i := 0; i < len(data); i++ {
		switch c := data[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '{' || c == '[':
			if depth++; depth > deepest {
				return true
			}
		case c == '}' || c == ']':
			depth--
		}
	}
	return false
}

// Text is a member of an object that is a text; "" if it is missing.
func Text(members map[string]json.RawMessage, name string) (string, error) {
	if _, there := members[name]; !there {
		return "", nil
	}
	return text(members, name)
}

func text(members map[string]json.RawMessage, name string) (string, error) {
	raw, there := members[name]
	var out *string
	if !there || json.Unmarshal(raw, &out) != nil || out == nil {
		return "", fmt.Errorf("%w: the member %q is missing, or is no text", ErrMalformed, name)
	}
	return *out, nil
}

// Base64 decodes base64url without padding, in its one spelling (RFC 7515 section 2).
func Base64(s string) ([]byte, error) {
	for i := range len(s) {
		if s[i] == '\r' || s[i] == '\n' { // the library skips them
			return nil, fmt.Errorf("%w: there is a line break within base64url", ErrMalformed)
		}
	}
	out, err := base64.RawURLEncoding.Strict().DecodeString(s)
	if err != nil {
		return nil, fmt.Errorf("%w: it is not base64url", ErrMalformed)
	}
	return out, nil
}

// Verify verifies a message by a public key. The errors are ErrAlgorithm and ErrSignature.
func (m Message) Verify(k Key) error {
	if m.Algorithm != k.algorithm() {
		return fmt.Errorf("%w: %q, by a key for %s", ErrAlgorithm, m.Algorithm, k.algorithm())
	}
	good := false
	switch public := k.Public.(type) {
	case *rsa.PublicKey:
		sum := sha256.Sum256(m.input)
		good = rsa.VerifyPKCS1v15(public, crypto.SHA256, sum[:], m.signature) == nil
	case *ecdsa.PublicKey:
		good = verifyECDSA(public, m.input, m.signature)
	case ed25519.PublicKey:
		good = len(m.signature) == ed25519.SignatureSize && ed25519.Verify(public, m.input, m.signature)
	}
	if !good {
		return ErrSignature
	}
	return nil
}

// verifyECDSA verifies a signature that is two numbers of full length (RFC 7518 section 3.4).
func verifyECDSA(k *ecdsa.PublicKey, input, signature []byte) bool {
	size := (k.Curve.Params().BitSize + 7) / 8
	if len(signature) != 2*size {
		return false
	}
	var h hash.Hash
	switch size {
	case 32:
		h = sha256.New()
	case 48:
		h = sha512.New384()
	default:
		h = sha512.New()
	}
	h.Write(input)
	return ecdsa.Verify(k, h.Sum(nil), new(big.Int).SetBytes(signature[:size]), new(big.Int).SetBytes(signature[size:]))
}

// VerifyMAC verifies a message by a secret that both sides have, in constant time. Only HS256 is accepted.
func (m Message) VerifyMAC(secret []byte) error {
	if m.Algorithm != "HS256" {
		return fmt.Errorf("%w: %q, where HS256 is used", ErrAlgorithm, m.Algorithm)
	}
	mac := hmac.New(sha256.New, secret)
	mac.Write(m.input)
	if !hmac.Equal(mac.Sum(nil), m.signature) {
		return ErrSignature
	}
	return nil
}
