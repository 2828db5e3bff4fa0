// Package distpoint reads and writes where revocation lists are, and what they are about
// (RFC 5280 sections 4.2.1.13 and 5.2.5).
//
// A certificate says at which points its status stands; a list says for which of them
// it speaks. The two belong together when they have a name in common, so both are kept
// here: Point for what is in certificates, Scope for what is in lists.
package distpoint

import (
	"encoding/asn1"
	"errors"
	"slices"
	"strings"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/dn"
	"ironseal/pki/ext"
)

// Most is how many points, or names of one, are read; all points together have four times as many
// names at most.
const Most = 256

// Reasons are those for which a list tells, as RFC 5280 section 4.2.1.13 numbers them:
// bit 1 is keyCompromise, bit 8 aACompromise.
type Reasons uint16

// AllReasons are those that bits mean.
const AllReasons Reasons = 0x1fe

// Name is one name of a point: an address, or an entry of a directory.
type Name struct {
	URI       string
	Directory dn.Name
	other     string // a name of another kind, as it is encoded
}

// Same reports whether two names are the same.
func (n Name) Same(o Name) bool {
	switch {
	case n.URI != "" || o.URI != "":
		return n.URI == o.URI
	case n.other != "" || o.other != "":
		return n.other == o.other
	}
	return !n.Directory.IsEmpty() && n.Directory.Equal(o.Directory)
}

// key is a text by which the same names are equal; "" for one that is the same as none.
func (n Name) key() string {
	switch {
	case n.URI != "":
		return "uri " + n.URI
	case n.other != "":
		return "other " + n.other
	case n.Directory.IsEmpty():
		return ""
	}
	return "directory " + n.Directory.Folded()
}

// Names is a set of names.
type Names map[string]bool

// NamesOf makes a set.
func NamesOf(list []Name) Names {
	out := Names{}
	for _, n := range list {
		if k := n.key(); k != "" {
			out[k] = true
		}
	}
	return out
}

// Meets reports whether two sets have a name in common.
func (s Names) Meets(o Names) bool {
	if len(o) < len(s) {
		s, o = o, s
	}
	for k := range s {
		if o[k] {
			return true
		}
	}
	return false
}

// Meet reports whether two lists of names have one in common.
func Meet(a, b []Name) bool { return NamesOf(a).Meets(NamesOf(b)) }

// Addresses are those of the names that are addresses.
func Addresses(names []Name) (out []string) {
	for _, n := range names {
		if n.URI != "" {
			out = append(out, n.URI)
		}
	}
	return out
}

// Point is where the status of a certificate stands.
type Point struct {
	Names   []Name
	Reasons Reasons // AllReasons where it tells none
	Issuers []Name  // who signs the list, where that is not the certificate's issuer
}

// Scope is what a list is about, where it is not all that its issuer issued.
type Scope struct {
	Names           []Name
	OnlyUsers       bool // certificates of no authority
	OnlyAuthorities bool
	OnlyAttributes  bool // attribute certificates
	Reasons         Reasons
	Indirect        bool // it lists certificates of other issuers too
}

var (
	tag0, tag1, tag2 = casn1.Tag(0).ContextSpecific(), casn1.Tag(1).ContextSpecific(), casn1.Tag(2).ContextSpecific()
	tag3, tag4, tag5 = casn1.Tag(3).ContextSpecific(), casn1.Tag(4).ContextSpecific(), casn1.Tag(5).ContextSpecific()
	uriTag           = casn1.Tag(6).ContextSpecific()
)

var errPoint = errors.New("the points of revocation lists cannot be parsed (RFC 5280 section 4.2.1.13)")

// Read reads the points of a certificate or a list, of the one with this issuer.
func Read(value []byte, issuer dn.Name) ([]Point, error) {
	in := cryptobyte.String(value)
	var seq cryptobyte.String
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !in.Empty() || seq.Empty() {
		return nil, errPoint
	}
	var out []Point
	names := 0
	for !seq.Empty() {
		var one cryptobyte.String
		if !seq.ReadASN1(&one, casn1.SEQUENCE) || len(out) == Most {
			return nil, errPoint
		}
		p, err := readPoint(one, issuer)
		if err != nil {
			return nil, err
		}
		if names += len(p.Names) + len(p.Issuers); names > 4*Most {
			return nil, errPoint
		}
		out = append(out, p)
	}
	return out, nil
}

func readPoint(one cryptobyte.String, issuer dn.Name) (Point, error) {
	p := Point{Reasons: AllReasons}
	var name, reasons, issuers cryptobyte.String
	var named, limited, other bool
	if !one.ReadOptionalASN1(&name, &named, tag0.Constructed()) || !one.ReadOptionalASN1(&reasons, &limited, tag1) ||
		!one.ReadOptionalASN1(&issuers, &other, tag2.Constructed()) || !one.Empty() || !named && !other {
		return p, errPoint
	}
	var err error
	if other {
		if p.Issuers, err = readNames(issuers); err != nil {
			return p, err
		}
		if i := slices.IndexFunc(p.Issuers, func(n Name) bool { return !n.Directory.IsEmpty() }); i >= 0 {
			issuer = p.Issuers[i].Directory
		}
	}
	if named {
		if p.Names, err = readPointName(name, issuer); err != nil {
			return p, err
		}
	}
	if limited {
		if p.Reasons, err = readReasons(reasons); err != nil {
			return p, err
		}
	}
	return p, nil
}

// readPointName reads the choice of a full name or one below the issuer of the list.
func readPointName(in cryptobyte.String, issuer dn.Name) ([]Name, error) {
	var full, below cryptobyte.String
	switch {
	case in.PeekASN1Tag(tag0.Constructed()):
		if !in.ReadASN1(&full, tag0.Constructed()) || !in.Empty() {
			return nil, errPoint
		}
		return readNames(full)
	case !in.ReadASN1(&below, tag1.Constructed()) || !in.Empty():
		return nil, errPoint
	}
	var b cryptobyte.Builder
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(casn1.SET, func(b *cryptobyte.Builder) { b.AddBytes(below) })
	})
	der, err := b.Bytes()
	if err != nil {
		return nil, errPoint
	}
	last, err := dn.Read(der)
	if err != nil {
		return nil, errPoint
	}
	whole, err := issuer.Join(last)
	if err != nil || whole.IsEmpty() {
		return nil, errPoint
	}
	return []Name{{Directory: whole}}, nil
}

// readNames reads general names, given as the content of a SEQUENCE (RFC 5280 section
// 4.2.1.6).
func readNames(in cryptobyte.String) ([]Name, error) {
	var out []Name
	for !in.Empty() {
		var whole, body cryptobyte.String
		var tag casn1.Tag
		rest := in
		if !in.ReadAnyASN1Element(&whole, &tag) || !rest.ReadAnyASN1(&body, &tag) || len(out) == Most {
			return nil, errPoint
		}
		switch tag {
		case uriTag:
			if len(body) == 0 {
				return nil, errPoint
			}
			out = append(out, Name{URI: string(body)})
		case tag4.Constructed():
			d, err := dn.Read(body)
			if err != nil {
				return nil, errPoint
			}
			out = append(out, Name{Directory: d})
		default:
			out = append(out, Name{other: string(whole)})
		}
	}
	if len(out) == 0 {
		return nil, errPoint
	}
	return out, nil
}

// ReadIssuer reads the name of a certificate's issuer that stands in an entry of an
// indirect list (RFC 5280 section 5.3.3).
func ReadIssuer(value []byte) (dn.Name, error) {
	in := cryptobyte.String(value)
	var seq cryptobyte.String
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !in.Empty() {
		return dn.Name{}, errPoint
	}
	names, err := readNames(seq)
	if err != nil {
		return dn.Name{}, err
	}
	for _, n := range names {
		if !n.Directory.IsEmpty() {
			return n.Directory, nil
		}
	}
	return dn.Name{}, errPoint
}

func readReasons(content cryptobyte.String) (Reasons, error) {
	if len(content) < 2 || len(content) > 3 || content[0] > 7 {
		return 0, errPoint
	}
	var out Reasons
	bits := asn1.BitString{Bytes: content[1:], BitLength: 8*(len(content)-1) - int(content[0])}
	for i := range 9 {
		if bits.At(i) != 0 {
			out |= 1 << i
		}
	}
	return out & AllReasons, nil
}

// ReadScope reads what a list is about (RFC 5280 section 5.2.5), of the list with this
// issuer.
func ReadScope(value []byte, issuer dn.Name) (Scope, error) {
	s := Scope{Reasons: AllReasons}
	in := cryptobyte.String(value)
	var seq, name, reasons cryptobyte.String
	var named, limited bool
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !in.Empty() ||
		!seq.ReadOptionalASN1(&name, &named, tag0.Constructed()) || !readFlag(&seq, tag1, &s.OnlyUsers) ||
		!readFlag(&seq, tag2, &s.OnlyAuthorities) || !seq.ReadOptionalASN1(&reasons, &limited, tag3) ||
		!readFlag(&seq, tag4, &s.Indirect) || !readFlag(&seq, tag5, &s.OnlyAttributes) || !seq.Empty() {
		return s, errors.New("what the list is about cannot be parsed (RFC 5280 section 5.2.5)")
	}
	var err error
	if named {
		if s.Names, err = readPointName(name, issuer); err != nil {
			return s, err
		}
	}
	if limited {
		s.Reasons, err = readReasons(reasons)
	}
	return s, err
}

func readFlag(s *cryptobyte.String, tag casn1.Tag, out *bool) bool {
	var content cryptobyte.String
	var there bool
	if !s.ReadOptionalASN1(&content, &there, tag) {
		return false
	}
	if there {
		if len(content) != 1 || content[0] != 0 && content[0] != 0xff {
			return false
		}
		*out = content[0] != 0
	}
	return true
}

// Extension encodes the scope of a list that is named by addresses, critical as RFC
// 5280 section 5.2.5 asks.
func (s Scope) Extension() ext.Extension {
	var b cryptobyte.Builder
	flag := func(b *cryptobyte.Builder, tag casn1.Tag, v bool) {
		if v {
			b.AddASN1(tag, func(b *cryptobyte.Builder) { b.AddUint8(0xff) })
		}
	}
	b.AddASN1(casn1.SEQUENCE, func(b *cryptobyte.Builder) {
		if urls := Addresses(s.Names); len(urls) > 0 {
			b.AddASN1(tag0.Constructed(), func(b *cryptobyte.Builder) {
				b.AddASN1(tag0.Constructed(), func(b *cryptobyte.Builder) {
					for _, u := range urls {
						b.AddASN1(uriTag, func(b *cryptobyte.Builder) { b.AddBytes([]byte(u)) })
					}
				})
			})
		}
		flag(b, tag1, s.OnlyUsers)
		flag(b, tag2, s.OnlyAuthorities)
		if s.Reasons&AllReasons != AllReasons {
			b.AddASN1(tag3, func(b *cryptobyte.Builder) { b.AddBytes(s.Reasons.bits()) })
		}
		flag(b, tag4, s.Indirect)
		flag(b, tag5, s.OnlyAttributes)
	})
	return ext.Extension{ID: ext.ListScope, Critical: true, Value: b.BytesOrPanic()}
}

// bits is the content of a bit string of reasons: the unused bits of its last octet, then the octets (X.690
// section 11.2.2 leaves zeros at the end out).
func (r Reasons) bits() []byte {
	var octets [2]byte
	last := 0
	for n := 1; n <= 8; n++ {
		if r&(1<<n) != 0 {
			octets[n/8] |= 0x80 >> (n % 8)
			last = n
		}
	}
	return append([]byte{byte(7 - last%8)}, octets[:last/8+1]...)
}

// Words says what a list with this scope is about.
func (s Scope) Words() string {
	var out []string
	if a := Addresses(s.Names); len(a) > 0 {
		out = append(out, "certificates that name "+strings.Join(a, " or "))
	} else if len(s.Names) > 0 {
		out = append(out, "certificates that name "+s.Names[0].Directory.String())
	}
	for _, x := range []struct {
		is    bool
		words string
	}{{s.OnlyUsers, "no authorities"}, {s.OnlyAuthorities, "authorities only"},
		{s.OnlyAttributes, "attribute certificates only"}, {s.Indirect, "of other issuers too"},
		{s.Reasons != AllReasons, "for some reasons only"}} {
		if x.is {
			out = append(out, x.words)
		}
	}
	return strings.Join(out, ", ")
}

// Responders are the plain http addresses of OCSP responders in an access extension.
func Responders(value []byte) []string { return access(value, ext.AccessOCSP) }

// access lists the plain http addresses of one method of an authority information access extension.
func access(value []byte, wanted asn1.ObjectIdentifier) (out []string) {
	in := cryptobyte.String(value)
	var seq cryptobyte.String
	if !in.ReadASN1(&seq, casn1.SEQUENCE) {
		return nil
	}
	for n := 0; !seq.Empty() && n < Most; n++ {
		var one, at cryptobyte.String
		var method asn1.ObjectIdentifier
		if !seq.ReadASN1(&one, casn1.SEQUENCE) || !one.ReadASN1ObjectIdentifier(&method) {
			return out
		}
		if method.Equal(wanted) && one.ReadASN1(&at, uriTag) && strings.HasPrefix(string(at), "http://") {
			out = append(out, string(at))
		}
	}
	return out
}

// IssuersOf are the plain http addresses of the issuer's certificate that a certificate names.
func IssuersOf(set ext.Set) []string {
	x, there := set.Find(ext.InfoAccess)
	if !there {
		return nil
	}
	return access(x.Value, ext.AccessIssuers)
}

// ListsOf are the plain http addresses of its issuer's complete lists that a certificate names: those of
// another signer's lists, and of lists that tell of some reasons only, are left out.
func ListsOf(set ext.Set, issuer dn.Name) (out []string) {
	x, there := set.Find(ext.CRLPoints)
	if !there {
		return nil
	}
	points, err := Read(x.Value, issuer)
	if err != nil {
		return nil
	}
	for _, p := range points {
		if len(p.Issuers) > 0 || p.Reasons != AllReasons {
			continue
		}
		for _, u := range Addresses(p.Names) {
			if strings.HasPrefix(u, "http://") {
				out = append(out, u)
			}
		}
	}
	return out
}
