// Package operator knows the people of an estate by their SSH public keys: which keys they may have, what they sign,
// and
// which acts each role may do.
//
// A person's key is the one that they have already, in the agent that they use already. What they sign is the hash of
// the journal's newest entry of their act, in the form that OpenSSH gives to signatures over files (PROTOCOL.sshsig):
// an SSH server can never be made to take such a signature for a log-in, nor this program a log-in for a signature. The
// hash covers every entry before it, so a signature cannot be used for another act, another place, or another estate.
package operator

import (
	"bytes"
	"crypto"
	"crypto/rsa"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"unicode"

	"golang.org/x/crypto/ssh"

	"ironseal/pki/fault"
)

// Namespace keeps these signatures apart from those for other purposes.
const Namespace = "journal.ironseal"

// Most bounds what is read as a key or a signature, in bytes.
const Most = 16 << 10

// Key is an operator's public key.
type Key struct{ key ssh.PublicKey }

// leastRSA is the shortest RSA modulus that is accepted, in bits.
const leastRSA = 2048

// ParseKey reads a line as it is in a file of public keys: the kind, the key in base 64, and a comment, which does not
// count. Keys that prove too little are refused: DSA, RSA below 2048 bits, and certificates for keys.
func ParseKey(text string) (Key, error) {
	if len(text) > Most {
		return Key{}, fault.New(fault.BadInput, "this is longer than any SSH public key")
	}
	k, _, options, _, err := ssh.ParseAuthorizedKey([]byte(strings.TrimSpace(text)))
	if err != nil || len(options) > 0 {
		return Key{}, fault.New(fault.BadInput, "this is no SSH public key: it looks like \"ssh-ed25519 AAAA... ana\"")
	}
	return accept(k)
}

// KeyOf is a key as an agent tells it.
func KeyOf(blob []byte) (Key, error) {
	if len(blob) > Most {
		return Key{}, fault.New(fault.BadInput, "this is longer than any SSH public key")
	}
	k, err := ssh.ParsePublicKey(blob)
	if err != nil {
		return Key{}, fault.New(fault.BadInput, "this is no SSH public key: %w", err)
	}
	return accept(k)
}

func accept(k ssh.PublicKey) (Key, error) {
	switch k.Type() {
	case ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoSKED25519,
		ssh.KeyAlgoSKECDSA256:
		return Key{k}, nil
	case ssh.KeyAlgoRSA:
		if c, ok := k.(ssh.CryptoPublicKey); ok {
			if r, ok := c.CryptoPublicKey().(*rsa.PublicKey); ok && r.N.BitLen() >= leastRSA {
				return Key{k}, nil
			}
		}
		return Key{}, fault.New(fault.Refused, "the RSA key has fewer than %d bits", leastRSA)
	}
	return Key{}, fault.New(fault.Refused, "keys of the kind %s are not accepted: use Ed25519, ECDSA or RSA", k.Type())
}

// String is the key as a line without a comment.
func (k Key) String() string {
	if k.key == nil {
		return ""
	}
	return k.key.Type() + " " + base64.StdEncoding.EncodeToString(k.key.Marshal())
}

// Public is the key without the form of SSH; nil for one that a token holds, which signs in a form of its own.
func (k Key) Public() crypto.PublicKey {
	if c, ok := k.key.(ssh.CryptoPublicKey); ok && k.key.Type() != ssh.KeyAlgoSKED25519 && k.key.Type() !=
		ssh.KeyAlgoSKECDSA256 {
		return c.CryptoPublicKey()
	}
	return nil
}

// Kind is the kind of the key, such as ssh-ed25519.
func (k Key) Kind() string { return k.key.Type() }

// Blob is the key as agents name it.
func (k Key) Blob() []byte { return k.key.Marshal() }

// Fingerprint is the SHA-256 of the key as SSH writes it: "SHA256:" and base 64 without padding.
func (k Key) Fingerprint() string {
	if k.key == nil {
		return ""
	}
	return ssh.FingerprintSHA256(k.key)
}

// Same reports whether two keys are one.
func (k Key) Same(o Key) bool {
	return k.key != nil && o.key != nil && subtle.ConstantTimeCompare(k.key.Marshal(), o.key.Marshal()) == 1
}

// ToSign is what is signed to vouch for something with this hash (PROTOCOL.sshsig, section 3).
func ToSign(hash []byte) []byte {
	sum := sha512.Sum512(hash)
	var b bytes.Buffer
	b.WriteString("SSHSIG")
	b.Write(ssh.Marshal(struct {
		Namespace, Reserved, HashAlgorithm string
		Hash                               []byte
	}{Namespace, "", "sha512", sum[:]}))
	return b.Bytes()
}

// Verify checks a signature, in the form of SSH, over something with this hash. RSA signatures with SHA-1 are refused.
func (k Key) Verify(hash, signature []byte) error {
	var s ssh.Signature
	if len(signature) > Most {
		return fault.New(fault.BadInput, "the signature is longer than any")
	}
	if err := ssh.Unmarshal(signature, &s); err != nil {
		return fault.New(fault.BadInput, "the signature cannot be read: %w", err)
	}
	if s.Format == ssh.KeyAlgoRSA {
		return fault.New(fault.Refused, "the signature uses SHA-1")
	}
	if k.key == nil || k.key.Verify(ToSign(hash), &s) != nil {
		return fault.New(fault.Refused, "the signature is not by the key %s", k.Fingerprint())
	}
	return nil
}

// CheckName refuses names that people could not tell apart, or that would change what is shown.
func CheckName(name string) error {
	bad := strings.ContainsFunc(name, func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune("-_.@ ", r)
	})
	if name == "" || len(name) > 64 || bad || strings.TrimSpace(name) != name || strings.HasPrefix(name, "-") {
		return fault.New(fault.BadInput, "%q is not a name of an operator: letters, digits, and . _ - @ or a blank "+
			"inside, "+
			"at most 64 bytes", name)
	}
	return nil
}

// Role is what an operator may do.
type Role string

// The roles, from the least to the most. Each but the auditor may do all that those before it may.
const (
	Auditor       Role = "auditor"
	Clerk         Role = "clerk"
	Signer        Role = "signer"
	Administrator Role = "administrator"
	Recovery      Role = "recovery" // of a code on paper, not of a person
)

// Roles are the roles of people, with what each is for.
func Roles() []struct {
	Role Role
	For  string
} {
	return []struct {
		Role Role
		For  string
	}{
		{Auditor, "reads everything, and records nothing"},
		{Clerk, "receives and declines requests, hands over what was signed, keeps parties and reports"},
		{Signer, "signs end entities by template, revokes them, publishes lists, opens incidents"},
		{Administrator, "makes and renews authorities, changes trust sets, shared files, operators; restores and " +
			"moves"},
	}
}

// ParseRole reads a role of a person.
func ParseRole(text string) (Role, error) {
	var names []string
	for _, r := range Roles() {
		if string(r.Role) == text {
			return r.Role, nil
		}
		names = append(names, string(r.Role))
	}
	return "", fault.New(fault.BadInput, "%q is no role: they are %s", text, strings.Join(names, ", "))
}

// rank orders the roles of people.
func (r Role) rank() int {
	switch r {
	case Clerk:
		return 1
	case Signer:
		return 2
	case Administrator:
		return 3
	}
	return 0
}

// May reports whether a role may do what another is the least role for.
func (r Role) May(least Role) bool {
	if r == Recovery || least == Recovery {
		return r == least
	}
	return least.rank() > 0 && r.rank() >= least.rank()
}

// At renders who may do something.
func (r Role) At() string {
	if r == Administrator {
		return string(r)
	}
	return fmt.Sprintf("%s or more", r)
}
