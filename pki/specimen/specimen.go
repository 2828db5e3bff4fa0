// Package specimen makes authorities, certificates and requests for tests, good
// and broken ones. It writes what a plan says, by the encoder alone, so that a
// test can have a chain that no plan would ever let through.
package specimen

import (
	"crypto"
	"crypto/rand"
	"encoding/asn1"
	"math/big"
	"testing"
	"time"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/request"
	"ironseal/pki/san"
)

// Now is the moment at which specimens are valid unless told otherwise.
var Now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// Entity is a certificate with its key.
type Entity struct {
	Cert   *cert.Certificate
	Signer crypto.Signer
}

// Plan says what a specimen holds. Zero values give an ordinary one.
type Plan struct {
	Subject     string // RFC 4514
	Names       []string
	Authority   bool
	PathLength  int // 0 means none here; use Zero for a path length of 0
	Zero        bool
	From, Until time.Time
	Usage       ext.KeyUsage // 0 gives the usual one
	Extended    []string
	Permit      []string
	Exclude     []string
	Extra       ext.Set
	NoBasic     bool // leave out basic constraints
	NoUsage     bool // leave out key usage
	NoKeyIDs    bool
	Signer      crypto.Signer // the key; a new P-256 key when nil
	Key         key.Kind
	Public      *key.Public // the key of someone else, in place of one made here
	Serial      int64       // 0 for one of its own
}

// Key makes a key.
func Key(t testing.TB, k key.Kind) crypto.Signer {
	t.Helper()
	s, err := key.Generate(k, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// Make makes a certificate signed by issuer; on its own when issuer is nil.
func Make(t testing.TB, issuer *Entity, p Plan) *Entity {
	t.Helper()
	if p.Signer == nil {
		k := p.Key
		if k == "" {
			k = key.P256
		}
		p.Signer = Key(t, k)
	}
	subject, err := dn.Parse(p.Subject)
	if err != nil {
		t.Fatal(err)
	}
	pub, err := key.Of(p.Signer)
	if err != nil {
		t.Fatal(err)
	}
	if p.Public != nil {
		pub = *p.Public
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 100))
	if err != nil {
		t.Fatal(err)
	}
	d := cert.Draft{Serial: serial.Add(serial, big.NewInt(1)), Subject: subject, Issuer: subject, NotBefore: p.From,
		NotAfter: p.Until, SPKI: pub.SPKI}
	signer, issuerKey := p.Signer, pub.Identifier()
	if issuer != nil {
		d.Issuer, signer, issuerKey = issuer.Cert.Subject, issuer.Signer, issuer.Cert.Key.Identifier()
	}
	if d.NotBefore.IsZero() {
		d.NotBefore = Now.AddDate(0, -1, 0)
	}
	if p.Serial != 0 {
		d.Serial = big.NewInt(p.Serial)
	}
	if d.NotAfter.IsZero() {
		d.NotAfter = Now.AddDate(1, 0, 0)
	}
	d.Extensions = p.extensions(t, pub, issuerKey, subject.IsEmpty())
	der, err := d.Sign(signer, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c, err := cert.Read(der)
	if err != nil {
		t.Fatal(err)
	}
	return &Entity{c, p.Signer}
}

func (p Plan) extensions(t testing.TB, pub key.Public, issuerKey []byte, subjectEmpty bool) ext.Set {
	var out ext.Set
	if !p.NoBasic {
		b := ext.Basic{Authority: p.Authority, PathLength: -1}
		if p.PathLength > 0 || p.Zero {
			b.PathLength = p.PathLength
		}
		out = append(out, b.Extension())
	}
	usage := p.Usage
	if usage == 0 && p.Authority {
		usage = ext.KeyCertSign | ext.CRLSign
	} else if usage == 0 {
		usage = ext.DigitalSignature
	}
	if !p.NoUsage {
		out = append(out, usage.Extension())
	}
	if len(p.Extended) > 0 {
		var ids []asn1.ObjectIdentifier
		for _, u := range p.Extended {
			id, err := ext.ParseExtendedUsage(u)
			if err != nil {
				t.Fatal(err)
			}
			ids = append(ids, id)
		}
		out = append(out, ext.ExtendedExtension(ids, false))
	}
	if !p.NoKeyIDs {
		out = append(out, ext.KeyID(pub.Identifier()), ext.AuthorityKey(issuerKey))
	}
	if len(p.Names) > 0 {
		e, err := ext.NamesExtension(Names(t, p.Names...), subjectEmpty)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, e)
	}
	if c := (ext.Constraints{Permitted: Constraints(t, p.Permit...),
		Excluded: Constraints(t, p.Exclude...)}); !c.IsEmpty() {
		e, err := c.Extension()
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, e)
	}
	return append(out, p.Extra...)
}

// Names reads typed names.
func Names(t testing.TB, typed ...string) []san.Name {
	t.Helper()
	var out []san.Name
	for _, s := range typed {
		n, err := san.ParseTyped(s)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, n)
	}
	return out
}

// Constraints reads typed constraints.
func Constraints(t testing.TB, typed ...string) []san.Constraint {
	t.Helper()
	var out []san.Constraint
	for _, s := range typed {
		c, err := san.ParseConstraint(s)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, c)
	}
	return out
}

// Request makes a request for a subject and typed names, with more extensions.
func Request(t testing.TB, signer crypto.Signer, subject string, names []string,
	more ...ext.Extension) *request.Request {
	t.Helper()
	if signer == nil {
		signer = Key(t, key.P256)
	}
	n, err := dn.Parse(subject)
	if err != nil {
		t.Fatal(err)
	}
	set := ext.Set(more)
	if len(names) > 0 {
		e, err := ext.NamesExtension(Names(t, names...), false)
		if err != nil {
			t.Fatal(err)
		}
		set = append(ext.Set{e}, set...)
	}
	der, err := request.Draft(n, set, signer, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	r, err := request.Read(der)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// HungryKey is an encrypted key of some hundred bytes that asks whoever opens it for a GiB
// of memory, many times over (RFC 7914 section 7).
func HungryKey() []byte {
	var b cryptobyte.Builder
	sequence := func(b *cryptobyte.Builder, f func(b *cryptobyte.Builder)) { b.AddASN1(casn1.SEQUENCE, f) }
	sequence(&b, func(b *cryptobyte.Builder) {
		sequence(b, func(b *cryptobyte.Builder) {
			b.AddASN1ObjectIdentifier(asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 13})
			sequence(b, func(b *cryptobyte.Builder) {
				sequence(b, func(b *cryptobyte.Builder) {
					b.AddASN1ObjectIdentifier(asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 11591, 4, 11})
					sequence(b, func(b *cryptobyte.Builder) {
						b.AddASN1OctetString(make([]byte, 16))
						for _, n := range []int64{1 << 17, 8, 16} {
							b.AddASN1Int64(n)
						}
					})
				})
				sequence(b, func(b *cryptobyte.Builder) {
					b.AddASN1ObjectIdentifier(asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 42})
					b.AddASN1OctetString(make([]byte, 16))
				})
			})
		})
		b.AddASN1OctetString(make([]byte, 160))
	})
	return b.BytesOrPanic()
}

// Line is a host's certificate, the authorities above it and the host's key.
type Line struct {
	Root, Mid, Leaf *Entity
	Signer          crypto.Signer
}

// NewLine makes a host's certificate under two authorities.
func NewLine(t testing.TB) Line {
	c := Line{Signer: Key(t, key.P256)}
	c.Root = Make(t, nil, Plan{Subject: "CN=Root", Authority: true})
	c.Mid = Make(t, c.Root, Plan{Subject: "CN=Services", Authority: true})
	c.Leaf = Make(t, c.Mid, Plan{Subject: "CN=a.ternbay.example", Names: []string{"a.ternbay.example"},
		Extended: []string{"serverAuth"}, Signer: c.Signer})
	return c
}
