package request

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/md5"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"net"
	"net/url"
	"strings"
	"testing"

	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/key"
	"ironseal/pki/san"
)

type oid = asn1.ObjectIdentifier

func rdn(t testing.TB, text string) asn1.RawValue {
	t.Helper()
	n, err := dn.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return asn1.RawValue{FullBytes: n.DER()}
}

// handmade makes a request whose parts are given as bytes, as a device with an
// odd encoder would; it is signed properly by an elliptic key.
func handmade(t testing.TB, subject, spki asn1.RawValue, attributes []byte, signer *ecdsa.PrivateKey) []byte {
	t.Helper()
	if spki.FullBytes == nil {
		der, err := x509.MarshalPKIXPublicKey(signer.Public())
		if err != nil {
			t.Fatal(err)
		}
		spki = asn1.RawValue{FullBytes: der}
	}
	body := append([]byte{2, 1, 0}, subject.FullBytes...)
	body = append(append(body, spki.FullBytes...), attributes...)
	tbs := marshal(t, asn1.RawValue{Class: 0, Tag: 16, IsCompound: true, Bytes: body})
	sum := sha256.Sum256(tbs)
	sig, err := signer.Sign(rand.Reader, sum[:], crypto.SHA256)
	if err != nil {
		t.Fatal(err)
	}
	return wrap(t, tbs, oid{1, 2, 840, 10045, 4, 3, 2}, sig)
}

func wrap(t testing.TB, tbs []byte, alg oid, sig []byte) []byte {
	return marshal(t, struct {
		TBS asn1.RawValue
		Alg pkix.AlgorithmIdentifier
		Sig asn1.BitString
	}{asn1.RawValue{FullBytes: tbs}, pkix.AlgorithmIdentifier{Algorithm: alg},
		asn1.BitString{Bytes: sig, BitLength: 8 * len(sig)}})
}

func marshal(t testing.TB, v any) []byte {
	t.Helper()
	der, err := asn1.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return der
}

func extensionRequest(t testing.TB, id oid, names ...string) []byte {
	t.Helper()
	var list []san.Name
	for _, s := range names {
		list = append(list, san.Found(san.DNS, s))
	}
	alt, err := ext.NamesExtension(list, false)
	if err != nil {
		t.Fatal(err)
	}
	set := marshal(t, []struct {
		ID    oid
		Value []byte
	}{{alt.ID, alt.Value}})
	return marshal(t, struct {
		ID     oid
		Values []asn1.RawValue `asn1:"set"`
	}{id, []asn1.RawValue{{FullBytes: set}}})
}

func attributeList(t testing.TB, list ...[]byte) []byte {
	t.Helper()
	var all []byte
	for _, a := range list {
		all = append(all, a...)
	}
	return marshal(t, asn1.RawValue{Class: 2, Tag: 0, IsCompound: true, Bytes: all})
}

func ecKey(t testing.TB) *ecdsa.PrivateKey {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func TestRequestsOfTheStandardLibraryAreRead(t *testing.T) {
	rsaKey, _ := rsa.GenerateKey(rand.Reader, 2048)
	u, _ := url.Parse("https://ternbay.example/")
	for _, k := range []crypto.Signer{ecKey(t), rsaKey} {
		der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{
			Subject: pkix.Name{CommonName: "booking.ternbay.example", Organization: []string{"Tern Bay Ferries"},
				Country: []string{"NO"}},
			DNSNames: []string{"booking.ternbay.example"}, IPAddresses: []net.IP{net.IPv4(192, 0, 2, 1)},
			EmailAddresses: []string{"a@ternbay.example"}, URIs: []*url.URL{u},
		}, k)
		if err != nil {
			t.Fatal(err)
		}
		r, err := Read(der)
		if err != nil {
			t.Fatal(err)
		}
		if err := r.Proven(); err != nil {
			t.Error(err)
		}
		if r.Subject.String() != "CN=booking.ternbay.example,O=Tern Bay Ferries,C=NO" || len(r.Names) != 4 ||
			len(r.Remarks) > 0 {
			t.Errorf("%s %v %v", r.Subject, r.Names, r.Remarks)
		}
	}
}

func TestDraftsAreReadByTheStandardLibrary(t *testing.T) {
	for _, kind := range []key.Kind{key.P256, key.P384, key.RSA2048, key.Ed25519} {
		signer, _ := key.Generate(kind, rand.Reader)
		n, _ := san.ParseTyped("booking.ternbay.example")
		alt, _ := ext.NamesExtension([]san.Name{n}, false)
		subject, _ := dn.Parse("CN=booking.ternbay.example")
		der, err := Draft(subject, ext.Set{alt}, signer, rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		c, err := x509.ParseCertificateRequest(der)
		if err != nil {
			t.Fatalf("%s: %v", kind, err)
		}
		if err := c.CheckSignature(); err != nil || len(c.DNSNames) != 1 {
			t.Errorf("%s: %v %v", kind, err, c.DNSNames)
		}
	}
}

// What real devices send, and the standard library refuses or drops.
func TestWhatDevicesSendIsRead(t *testing.T) {
	k := ecKey(t)
	name := rdn(t, "CN=gate.ternbay.example")
	underscore := asn1.RawValue{FullBytes: []byte{0x30, 0x11, 0x31, 0x0f, 0x30, 0x0d, 6, 3, 0x55, 4, 3, 0x13, 6, 'g',
		'_', '3', '@', 'x', 'y'}}
	point := elliptic.MarshalCompressed(elliptic.P256(), k.X, k.Y)
	compressed := marshal(t, struct {
		Alg struct{ A, B oid }
		Key asn1.BitString
	}{struct{ A, B oid }{oid{1, 2, 840, 10045, 2, 1}, oid{1, 2, 840, 10045, 3, 1, 7}},
		asn1.BitString{Bytes: point, BitLength: 8 * len(point)}})
	challenge := marshal(t, struct {
		ID     oid
		Values []string `asn1:"set"`
	}{oidChallenge, []string{"gannet"}})
	for _, c := range []struct {
		what    string
		der     []byte
		names   int
		library bool // whether the standard library sees as many names
	}{
		{"attributes left out", handmade(t, name, asn1.RawValue{}, nil, k), 0, true},
		{"underscore and at sign in a PrintableString", handmade(t, underscore, asn1.RawValue{}, attributeList(t), k),
			0, false},
		{"compressed point", handmade(t, name, asn1.RawValue{FullBytes: compressed}, attributeList(t), k), 0, false},
		{"older vendor attribute", handmade(t, name, asn1.RawValue{},
			attributeList(t, extensionRequest(t, oidOlderRequest, "a.example")), k), 1, false},
		{"two extension requests", handmade(t, name, asn1.RawValue{},
			attributeList(t, extensionRequest(t, oidExtensionRequest, "a.example"),
				extensionRequest(t, oidExtensionRequest, "b.example")), k), 2, false},
		{"challenge password", handmade(t, name, asn1.RawValue{}, attributeList(t, challenge), k), 0, true},
	} {
		t.Run(c.what, func(t *testing.T) {
			r, err := Read(c.der)
			if err != nil {
				t.Errorf("%s: %v", c.what, err)
				return
			}
			if err := r.Proven(); err != nil {
				t.Errorf("%s: %v", c.what, err)
			}
			if len(r.Names) != c.names {
				t.Errorf("%s: names %v", c.what, r.Names)
			}
			std, err := x509.ParseCertificateRequest(c.der)
			if sees := err == nil && len(std.DNSNames) == c.names && std.PublicKey != nil; sees && !c.library {
				t.Logf("%s: the standard library reads this by now", c.what)
			}
		})
	}
	r, _ := Read(handmade(t, name, asn1.RawValue{}, attributeList(t, challenge), k))
	for _, f := range r.Examine() {
		if strings.Contains(f.Message+f.Remedy, "gannet") {
			t.Error("a challenge password must be shown nowhere")
		}
	}
	if !r.Examine().Has(finding.ChallengePresent) {
		t.Error("that a challenge password is there must be told")
	}
}

func TestHopelessSignaturesAreBars(t *testing.T) {
	k, _ := rsa.GenerateKey(rand.Reader, 2048)
	spki, _ := x509.MarshalPKIXPublicKey(k.Public())
	body := append([]byte{2, 1, 0}, rdn(t, "CN=old.ternbay.example").FullBytes...)
	tbs := marshal(t, asn1.RawValue{Class: 0, Tag: 16, IsCompound: true,
		Bytes: append(append(body, spki...), attributeList(t)...)})
	md, sh := md5.Sum(tbs), sha1.Sum(tbs)
	for _, c := range []struct {
		alg  oid
		hash crypto.Hash
		sum  []byte
	}{{oid{1, 2, 840, 113549, 1, 1, 4}, crypto.MD5, md[:]}, {oid{1, 2, 840, 113549, 1, 1, 5}, crypto.SHA1, sh[:]}} {
		sig, err := rsa.SignPKCS1v15(rand.Reader, k, c.hash, c.sum)
		if err != nil {
			t.Fatal(err)
		}
		r, err := Read(wrap(t, tbs, c.alg, sig))
		if err != nil {
			t.Fatal(err)
		}
		if err := r.Proven(); err != nil {
			t.Errorf("the proof itself holds: %v", err)
		}
		if f := r.Examine(); f[0].Code != finding.WeakHash || f[0].Severity != finding.Refused {
			t.Errorf("%v", f)
		}
		sig[9] ^= 1
		r, _ = Read(wrap(t, tbs, c.alg, sig))
		if r.Proven() == nil || !r.Examine().Has(finding.NoProof) {
			t.Error("a changed signature must be seen")
		}
	}
}

func TestExamineSaysWhatAnExpertWouldNotice(t *testing.T) {
	k := ecKey(t)
	ask := func(subject string, names ...string) *Request {
		var attrs []byte
		if len(names) > 0 {
			attrs = extensionRequest(t, oidExtensionRequest, names...)
		}
		r, err := Read(handmade(t, rdn(t, subject), asn1.RawValue{}, attributeList(t, attrs), k))
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	for _, c := range []struct {
		what string
		r    *Request
		want finding.Code
	}{
		{"no names", ask("CN=a.ternbay.example"), finding.NoNames},
		{"common name missing from names", ask("CN=a.ternbay.example", "b.ternbay.example"), finding.CommonNameAdded},
		{"short name", ask("CN=gate", "gate"), finding.ShortName},
		{"address as DNS name", ask("CN=a.ternbay.example", "192.0.2.7"), finding.AddressAsDNS},
		{"wildcard", ask("CN=*.ternbay.example", "*.ternbay.example"), finding.WildcardName},
		{"not a name", ask("CN=a.ternbay.example", "a b"), finding.BadName},
		{"wildcard in the middle", ask("CN=a.ternbay.example", "a.*.example"), finding.BadName},
		{"twice, by case and dot", ask("CN=a.ternbay.example", "a.ternbay.example", "A.TernBay.example."),
			finding.DuplicateName},
		{"a person's name", ask("CN=Harbour Master", "a.ternbay.example"), finding.CommonNameOdd},
		{"a path", ask("CN=../../etc/x"), finding.CommonNameOdd},
		{"terminal escapes", ask("CN=a\x1b[31mb"), finding.HostileText},
		{"bidirectional marks", ask("CN=a\u202eb"), finding.HostileText},
		{"newline in a name", ask("CN=a.ternbay.example", "a\nb"), finding.HostileText},
	} {
		t.Run(c.what, func(t *testing.T) {
			if got := c.r.Examine(); !got.Has(c.want) {
				t.Errorf("%s: %v, want %s", c.what, got.Codes(), c.want)
			}
		})
	}
	if clean := ask("CN=a.ternbay.example", "a.ternbay.example").Examine(); len(clean) > 0 {
		t.Errorf("a tidy request has findings: %v", clean)
	}
}

func TestManyBadNamesDoNotBecomeNoise(t *testing.T) {
	var names []string
	for range 5000 {
		names = append(names, "a b")
	}
	r, err := Read(handmade(t, rdn(t, "CN=a.ternbay.example"), asn1.RawValue{},
		attributeList(t, extensionRequest(t, oidExtensionRequest, names...)), ecKey(t)))
	if err != nil {
		t.Fatal(err)
	}
	if f := r.Examine(); len(f) > 20 {
		t.Errorf("%d findings", len(f))
	}
}

func FuzzRead(f *testing.F) {
	k := ecKey(f)
	f.Add(handmade(f, rdn(f, "CN=a.example"), asn1.RawValue{},
		attributeList(f, extensionRequest(f, oidExtensionRequest, "a.example")), k))
	f.Add(handmade(f, rdn(f, "CN=a.example"), asn1.RawValue{}, nil, k))
	f.Fuzz(func(t *testing.T, der []byte) {
		r, err := Read(der)
		if err != nil {
			return
		}
		_, _ = r.Title(), r.AsksAuthority()
		_ = NameFindings(r.Names)
		_ = SubjectFindings(r.Subject)
	})
}

func BenchmarkReadAndCheck(b *testing.B) {
	signer, _ := key.Generate(key.P256, rand.Reader)
	n, _ := san.ParseTyped("booking.ternbay.example")
	alt, _ := ext.NamesExtension([]san.Name{n}, false)
	subject, _ := dn.Parse("CN=booking.ternbay.example")
	der, err := Draft(subject, ext.Set{alt}, signer, rand.Reader)
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		r, err := Read(der)
		if err != nil {
			b.Fatal(err)
		}
		if f := r.Examine(); len(f) > 0 {
			b.Fatal(f)
		}
	}
}

func TestAShortNameBesideItsFullFormIsOnPurpose(t *testing.T) {
	both := []san.Name{san.Found(san.DNS, "pier"), san.Found(san.DNS, "Pier.ternbay.example")}
	if f := NameFindings(both); f.Has(finding.ShortName) {
		t.Errorf("%v", f)
	}
	if f := NameFindings(both[:1]); !f.Has(finding.ShortName) {
		t.Errorf("%v", f)
	}
}

func TestNamesOfServicesAreUnitedSortedAndPruned(t *testing.T) {
	host, _ := san.ParseTyped("shop.ternbay.example")
	list := []san.Name{host}
	for _, word := range []string{"web", "Gateway"} {
		v, err := ServiceNamed(word)
		if err != nil {
			t.Fatal(err)
		}
		in, out := v.NamesOf(host, "quay.ternbay.example")
		list = append(append(list, in...), out...)
	}
	for _, more := range []string{"*.quay.ternbay.example", "192.0.2.8", "SHOP.ternbay.example."} {
		n, err := san.ParseTyped(more)
		if err != nil {
			t.Fatal(err)
		}
		list = append(list, n)
	}
	kept, pruned := Unite(list)
	var got []string
	for _, n := range kept {
		got = append(got, n.Value())
	}
	want := "shop.ternbay.example *.quay.ternbay.example vpn.ternbay.example www.shop.ternbay.example 192.0.2.8"
	if strings.Join(got, " ") != want {
		t.Errorf("kept %v, want %s", got, want)
	}
	if len(pruned) != 2 {
		t.Errorf("pruned %v", pruned)
	}
	if _, err := ServiceNamed("wbe"); err == nil || !strings.Contains(err.Error(), "web, mail") {
		t.Errorf("an unknown service: %v", err)
	}
	address, _ := san.ParseTyped("192.0.2.9")
	v, _ := ServiceNamed("web")
	if in, out := v.NamesOf(address, ""); len(in)+len(out) != 0 {
		t.Error("an address has no names of services")
	}
}
