// Package acme holds the rules of ACME (RFC 8555) that need neither a network nor records: identifiers, challenges
// (RFC 8555 section 8, RFC 8737, RFC 8738), names of certificates in renewal information (RFC 9773), and problems.
package acme

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/asn1"
	"encoding/base64"
	"fmt"
	"net/netip"
	"strings"

	"ironseal/pki/cert"
	"ironseal/pki/jose"
	"ironseal/pki/san"
)

// Bounds of what a client may send.
const (
	MostIdentifiers = 100
	MostContacts    = 5
	longestContact  = 200
)

// Identifier is a name that is asked for (RFC 8555 section 7.1.3, RFC 8738).
type Identifier struct {
	Type  string `json:"type"`
	Value string `json:"value"`
}

// Of is a name as an identifier.
func Of(n san.Name) Identifier { return Identifier{string(n.Kind()), n.Value()} }

// Name reads an identifier. A host stands in lower case ASCII, an address in its usual spelling: one name has one
// spelling. The error is a *Problem.
func (i Identifier) Name() (san.Name, error) {
	bad := func(kind Kind, why string) (san.Name, error) {
		p := Problem{Kind: kind, Detail: why, Identifier: &i}
		return san.Name{}, &p
	}
	switch i.Type {
	case string(san.DNS):
		for _, c := range []byte(i.Value) {
			if c >= 0x80 || c >= 'A' && c <= 'Z' || c <= ' ' {
				return bad(RejectedIdentifier, "a host is written in lower case letters, digits, hyphens and dots")
			}
		}
		if _, err := netip.ParseAddr(i.Value); err == nil {
			return bad(RejectedIdentifier, "an address has the type ip (RFC 8738)")
		}
		n, err := san.ParseTyped("dns:" + i.Value)
		if err == nil && n.Fault() == "" && n.Value() == i.Value && strings.Contains(i.Value, ".") {
			return n, nil
		}
		return bad(RejectedIdentifier, "it is no host name that can be certified here")
	case string(san.IP):
		at, err := netip.ParseAddr(i.Value)
		if err != nil || at.String() != i.Value || at.Zone() != "" || at.Is4In6() {
			return bad(RejectedIdentifier, "it is no address in its usual spelling (RFC 8738 section 3)")
		}
		n, err := san.ParseTyped("ip:" + i.Value)
		if err != nil {
			return bad(RejectedIdentifier, "it is no address that can be certified here")
		}
		return n, nil
	}
	return bad(UnsupportedIdentifier, "only identifiers of the types dns and ip are known here")
}

// Method is a way to prove control of a name.
type Method string

// The methods.
const (
	HTTP01 Method = "http-01"     // RFC 8555 section 8.3
	DNS01  Method = "dns-01"      // RFC 8555 section 8.4
	ALPN01 Method = "tls-alpn-01" // RFC 8737
)

// Methods are the ways to prove control of a name. A wildcard is proven by DNS alone, and an address without DNS.
func Methods(n san.Name) []Method {
	switch {
	case n.Kind() == san.IP:
		return []Method{HTTP01, ALPN01}
	case n.IsWildcard():
		return []Method{DNS01}
	}
	return []Method{HTTP01, DNS01, ALPN01}
}

// Token names a challenge. It is made from a random seed of the order, so that each challenge has a token of its own
// (RFC 8555 section 8.1).
func Token(seed string, index int, m Method) string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%s|%d|%s", seed, index, m))
	return base64.RawURLEncoding.EncodeToString(sum[:24])
}

// KeyAuthorization is what answers a challenge (RFC 8555 section 8.1).
func KeyAuthorization(token string, k jose.Key) string { return token + "." + k.Thumbprint() }

// TXT is the text that answers a challenge by DNS (RFC 8555 section 8.4).
func TXT(authorization string) string {
	sum := sha256.Sum256([]byte(authorization))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// TXTName is where that text stands.
func TXTName(n san.Name) string { return "_acme-challenge." + n.Under() }

// ALPN is the protocol that a server speaks which answers a challenge by TLS (RFC 8737 section 6.2).
const ALPN = "acme-tls/1"

var identifierID = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 31}

// Answers reports whether what a server sent answers a challenge by HTTP: white space may follow it.
func Answers(body []byte, authorization string) bool {
	got := strings.TrimRight(string(body), " \t\r\n")
	return subtle.ConstantTimeCompare([]byte(got), []byte(authorization)) == 1
}

// CertificateAnswers says what is wrong with a certificate that is to answer a challenge by TLS (RFC 8737 section 3):
// it
// has the name alone, and the digest in a critical extension.
func CertificateAnswers(c *cert.Certificate, n san.Name, authorization string) error {
	if len(c.Names) != 1 || !c.Names[0].Same(n) {
		return fmt.Errorf("the certificate has other names than %s alone", n.Value())
	}
	e, there := c.Extensions.Find(identifierID)
	if !there || !e.Critical {
		return fmt.Errorf("the certificate lacks the critical extension %s", identifierID)
	}
	var got []byte
	rest, err := asn1.Unmarshal(e.Value, &got)
	want := sha256.Sum256([]byte(authorization))
	if err != nil || len(rest) > 0 || subtle.ConstantTimeCompare(got, want[:]) != 1 {
		return fmt.Errorf("the certificate answers another challenge")
	}
	return nil
}

// ServerName is the host that a client asks for by TLS: for an address, its name in the reverse tree (RFC 8738 section
// 6).
func ServerName(n san.Name) string {
	at, err := netip.ParseAddr(n.Value())
	if n.Kind() != san.IP || err != nil {
		return n.Value()
	}
	var b strings.Builder
	bytes := at.AsSlice()
	for i := len(bytes) - 1; i >= 0; i-- {
		if at.Is4() {
			fmt.Fprintf(&b, "%d.", bytes[i])
		} else {
			fmt.Fprintf(&b, "%x.%x.", bytes[i]&15, bytes[i]>>4)
		}
	}
	if at.Is4() {
		return b.String() + "in-addr.arpa"
	}
	return b.String() + "ip6.arpa"
}

// CertificateID names a certificate in renewal information (RFC 9773 section 4.1); "" where it lacks what that needs.
func CertificateID(c *cert.Certificate) string {
	serial, err := asn1.Marshal(c.Serial.Big())
	if err != nil || len(c.AuthorityKey) == 0 || len(serial) < 3 {
		return ""
	}
	return base64.RawURLEncoding.EncodeToString(c.AuthorityKey) + "." + base64.RawURLEncoding.EncodeToString(serial[2:])
}

// ReadCertificateID reads such a name: the identifier of the issuer's key, and the serial. The error is a *Problem.
func ReadCertificateID(s string) (authority, serial []byte, err error) {
	a, b, found := strings.Cut(s, ".")
	if found && len(s) <= 200 {
		authority, err = jose.Base64(a)
		if err == nil {
			serial, err = jose.Base64(b)
		}
		if err == nil && len(authority) > 0 && len(serial) > 0 && len(serial) <= 21 {
			return authority, serial, nil
		}
	}
	return nil, nil, &Problem{Kind: Malformed, Detail: "it is not the name of a certificate (RFC 9773 section 4.1)"}
}

// CheckContacts says what is wrong with the contacts of an account (RFC 8555 section 7.3). The error is a *Problem.
func CheckContacts(list []string) error {
	if len(list) > MostContacts {
		return &Problem{Kind: InvalidContact, Detail: fmt.Sprintf("give %d contacts at most", MostContacts)}
	}
	for _, c := range list {
		address, mail := strings.CutPrefix(c, "mailto:")
		if !mail {
			return &Problem{Kind: UnsupportedContact, Detail: "a contact is a mailto address"}
		}
		at := strings.IndexByte(address, '@')
		odd := strings.ContainsFunc(address, func(r rune) bool { return r <= ' ' || r > '~' })
		if len(c) > longestContact || at <= 0 || at == len(address)-1 || odd || strings.ContainsAny(address, "?,%") {
			return &Problem{Kind: InvalidContact, Detail: "a contact is one mail address, without header fields"}
		}
	}
	return nil
}
