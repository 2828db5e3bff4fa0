package httpd_test

import (
	"bytes"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
	"crypto/rand"
	"crypto/rsa"
	_ "crypto/sha1"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"slices"
	"strconv"
	"testing"
	"time"
)

// A client of SCEP, written from RFC 8894 and RFC 5652 with the standard library alone.

type (
	contentInfo struct {
		Type    asn1.ObjectIdentifier
		Content asn1.RawValue `asn1:"explicit,tag:0,optional"`
	}
	issuerSerial struct {
		Issuer asn1.RawValue
		Serial *big.Int
	}
	signerInfo struct {
		Version    int
		Who        issuerSerial
		Digest     pkix.AlgorithmIdentifier
		Attributes asn1.RawValue `asn1:"optional,tag:0"`
		Algorithm  pkix.AlgorithmIdentifier
		Signature  []byte
	}
	signedData struct {
		Version      int
		Digests      []pkix.AlgorithmIdentifier `asn1:"set"`
		Content      contentInfo
		Certificates asn1.RawValue `asn1:"optional,tag:0"`
		Lists        asn1.RawValue `asn1:"optional,tag:1"`
		Signers      []signerInfo  `asn1:"set"`
	}
	recipient struct {
		Version   int
		Who       issuerSerial
		Algorithm pkix.AlgorithmIdentifier
		Key       []byte
	}
	encryptedContent struct {
		Type      asn1.ObjectIdentifier
		Algorithm pkix.AlgorithmIdentifier
		Content   asn1.RawValue `asn1:"tag:0"`
	}
	envelopedData struct {
		Version    int
		Recipients []recipient `asn1:"set"`
		Content    encryptedContent
	}
	attr struct {
		ID    asn1.ObjectIdentifier
		Value []asn1.RawValue `asn1:"set"`
	}
)

var (
	oidPlain     = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 1}
	oidSignedMsg = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2}
	oidSealed    = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 3}
	oidRSAKey    = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 1}
	oidAES       = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 2}
	oid3DES      = asn1.ObjectIdentifier{1, 2, 840, 113549, 3, 7}
	oidSum256    = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 1}
	oidSum1      = asn1.ObjectIdentifier{1, 3, 14, 3, 2, 26}
)

func scepID(n int) asn1.ObjectIdentifier {
	return asn1.ObjectIdentifier{2, 16, 840, 1, 113733, 1, 9, n}
}

// gateway is a device that speaks SCEP.
type gateway struct {
	t       testing.TB
	at      string // the address
	key     *rsa.PrivateKey
	signer  *rsa.PrivateKey
	self    *x509.Certificate // by which it signs
	ra      *x509.Certificate
	id      string
	nonce   []byte
	older   bool
	request []byte
	leaf    *x509.Certificate
	lists   [][]byte
}

func newGateway(t testing.TB, at string, code string, names ...string) *gateway {
	t.Helper()
	k, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	g := &gateway{t: t, at: at, key: k, signer: k, id: rand.Text(), nonce: make([]byte, 16)}
	_, _ = rand.Read(g.nonce)
	g.asks(code, names...)
	self := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: names[0]},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		KeyUsage: x509.KeyUsageKeyEncipherment}
	der, err := x509.CreateCertificate(rand.Reader, self, self, k.Public(), k)
	if err != nil {
		t.Fatal(err)
	}
	g.self = parsed(t, der)
	return g
}

// asks makes another request for its key.
func (g *gateway) asks(code string, names ...string) {
	g.t.Helper()
	template := &x509.CertificateRequest{Subject: pkix.Name{CommonName: names[0]}, DNSNames: names}
	der, err := x509.CreateCertificateRequest(rand.Reader, template, g.key)
	if err != nil {
		g.t.Fatal(err)
	}
	if g.request = der; code != "" {
		g.request = g.withPassword(der, code)
	}
}

// withPassword puts a challenge password into a request, and signs it again.
func (g *gateway) withPassword(der []byte, code string) []byte {
	g.t.Helper()
	var csr struct {
		Info struct {
			Version    int
			Subject    asn1.RawValue
			Key        asn1.RawValue
			Attributes []asn1.RawValue `asn1:"tag:0,set"`
		}
		Algorithm pkix.AlgorithmIdentifier
		Signature asn1.BitString
	}
	if _, err := asn1.Unmarshal(der, &csr); err != nil {
		g.t.Fatal(err)
	}
	value, err := asn1.MarshalWithParams(code, "printable")
	if err != nil {
		g.t.Fatal(err)
	}
	password := g.der(attr{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 7}, []asn1.RawValue{{FullBytes: value}}})
	csr.Info.Attributes = append(csr.Info.Attributes, asn1.RawValue{FullBytes: password})
	info := g.der(csr.Info)
	sum := crypto.SHA256.New()
	sum.Write(info)
	sig, err := rsa.SignPKCS1v15(nil, g.key, crypto.SHA256, sum.Sum(nil))
	if err != nil {
		g.t.Fatal(err)
	}
	return g.der(struct {
		Info      asn1.RawValue
		Algorithm pkix.AlgorithmIdentifier
		Signature asn1.BitString
	}{asn1.RawValue{FullBytes: info}, csr.Algorithm, asn1.BitString{Bytes: sig, BitLength: 8 * len(sig)}})
}

func (g *gateway) der(v any) []byte {
	g.t.Helper()
	out, err := asn1.Marshal(v)
	if err != nil {
		g.t.Fatal(err)
	}
	return out
}

func null() asn1.RawValue { return asn1.RawValue{Tag: asn1.TagNull} }

// seals encrypts a content to a certificate.
func (g *gateway) seals(content []byte, to *x509.Certificate) []byte {
	g.t.Helper()
	id, secret, iv := oidAES, make([]byte, 16), make([]byte, 16)
	if g.older {
		id, secret, iv = oid3DES, make([]byte, 24), make([]byte, 8)
	}
	_, _ = rand.Read(secret)
	_, _ = rand.Read(iv)
	block, err := aes.NewCipher(secret)
	if g.older {
		block, err = des.NewTripleDESCipher(secret)
	}
	if err != nil {
		g.t.Fatal(err)
	}
	pad := block.BlockSize() - len(content)%block.BlockSize()
	content = append(slices.Clone(content), bytes.Repeat([]byte{byte(pad)}, pad)...)
	cipher.NewCBCEncrypter(block, iv).CryptBlocks(content, content)
	//lint:ignore SA1019 the protocol uses it (RFC 8894)
	key, err := rsa.EncryptPKCS1v15(rand.Reader, to.PublicKey.(*rsa.PublicKey), secret)
	if err != nil {
		g.t.Fatal(err)
	}
	return g.sealed(id, iv, content, key, to)
}

func (g *gateway) sealed(id asn1.ObjectIdentifier, iv, content, key []byte, to *x509.Certificate) []byte {
	inner := g.der(envelopedData{0, []recipient{{0, issuerSerial{asn1.RawValue{FullBytes: to.RawIssuer},
		to.SerialNumber}, pkix.AlgorithmIdentifier{Algorithm: oidRSAKey, Parameters: null()}, key}},
		encryptedContent{oidPlain, pkix.AlgorithmIdentifier{Algorithm: id,
			Parameters: asn1.RawValue{Tag: asn1.TagOctetString, Bytes: iv}},
			asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0, Bytes: content}}})
	return g.der(contentInfo{oidSealed, asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0, IsCompound: true,
		Bytes: inner}})
}

// signs wraps a content into a signed message of a type.
func (g *gateway) signs(kind int, content []byte) []byte {
	g.t.Helper()
	hash, id := crypto.SHA256, oidSum256
	if g.older {
		hash, id = crypto.SHA1, oidSum1
	}
	sum := hash.New()
	sum.Write(content)
	text := func(s string) asn1.RawValue { return asn1.RawValue{Tag: asn1.TagPrintableString, Bytes: []byte(s)} }
	octets := func(b []byte) asn1.RawValue { return asn1.RawValue{Tag: asn1.TagOctetString, Bytes: b} }
	list := [][]byte{
		g.der(attr{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 3}, []asn1.RawValue{{FullBytes: g.der(oidPlain)}}}),
		g.der(attr{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 4}, []asn1.RawValue{octets(sum.Sum(nil))}}),
		g.der(attr{scepID(2), []asn1.RawValue{text(strconv.Itoa(kind))}}),
		g.der(attr{scepID(7), []asn1.RawValue{text(g.id)}}),
		g.der(attr{scepID(5), []asn1.RawValue{octets(g.nonce)}}),
	}
	slices.SortFunc(list, bytes.Compare)
	attributes := bytes.Join(list, nil)
	set := g.der(asn1.RawValue{Tag: asn1.TagSet, IsCompound: true, Bytes: attributes})
	sum = hash.New()
	sum.Write(set)
	sig, err := rsa.SignPKCS1v15(nil, g.signer, hash, sum.Sum(nil))
	if err != nil {
		g.t.Fatal(err)
	}
	digest := pkix.AlgorithmIdentifier{Algorithm: id, Parameters: null()}
	inner := g.der(signedData{1, []pkix.AlgorithmIdentifier{digest},
		contentInfo{oidPlain, asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0, IsCompound: true,
			Bytes: g.der(content)}},
		asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0, IsCompound: true, Bytes: g.self.Raw}, asn1.RawValue{},
		[]signerInfo{{1, issuerSerial{asn1.RawValue{FullBytes: g.self.RawIssuer}, g.self.SerialNumber}, digest,
			asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0, IsCompound: true, Bytes: attributes},
			pkix.AlgorithmIdentifier{Algorithm: oidRSAKey, Parameters: null()}, sig}}})
	return g.der(contentInfo{oidSignedMsg, asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0, IsCompound: true,
		Bytes: inner}})
}

// reads verifies a signed message by a certificate, and returns its content, attributes, certificates and lists.
func reads(der []byte, by *x509.Certificate) (content []byte, attributes map[string][]byte, data signedData,
	err error) {
	var outer contentInfo
	if _, err = asn1.Unmarshal(der, &outer); err != nil {
		return
	}
	if _, err = asn1.Unmarshal(outer.Content.Bytes, &data); err != nil {
		return
	}
	if len(data.Content.Content.Bytes) > 0 {
		if _, err = asn1.Unmarshal(data.Content.Content.Bytes, &content); err != nil {
			return
		}
	}
	attributes = map[string][]byte{}
	if by == nil {
		return
	}
	if len(data.Signers) != 1 {
		err = errors.New("it has no signer")
		return
	}
	s := data.Signers[0]
	hash := crypto.SHA256
	if s.Digest.Algorithm.Equal(oidSum1) {
		hash = crypto.SHA1
	}
	rest := s.Attributes.Bytes
	for len(rest) > 0 {
		var a attr
		if rest, err = asn1.Unmarshal(rest, &a); err != nil {
			return
		}
		attributes[a.ID.String()] = a.Value[0].Bytes
	}
	sum := hash.New()
	sum.Write(content)
	if !bytes.Equal(attributes["1.2.840.113549.1.9.4"], sum.Sum(nil)) {
		err = errors.New("the digest is of another content")
		return
	}
	set, err := asn1.Marshal(asn1.RawValue{Tag: asn1.TagSet, IsCompound: true, Bytes: s.Attributes.Bytes})
	if err != nil {
		return
	}
	sum = hash.New()
	sum.Write(set)
	err = rsa.VerifyPKCS1v15(by.PublicKey.(*rsa.PublicKey), hash, sum.Sum(nil), s.Signature)
	return
}

// opens decrypts an envelope to the gateway.
func (g *gateway) opens(der []byte) []byte {
	g.t.Helper()
	var outer contentInfo
	var data envelopedData
	if _, err := asn1.Unmarshal(der, &outer); err != nil {
		g.t.Fatal(err)
	}
	if _, err := asn1.Unmarshal(outer.Content.Bytes, &data); err != nil {
		g.t.Fatal(err)
	}
	if got := data.Recipients[0].Who.Serial; got.Cmp(g.self.SerialNumber) != 0 {
		g.t.Fatalf("it is sealed to %v", got)
	}
	//lint:ignore SA1019 the protocol uses it (RFC 8894)
	secret, err := rsa.DecryptPKCS1v15(nil, g.signer, data.Recipients[0].Key)
	if err != nil {
		g.t.Fatal(err)
	}
	var block cipher.Block
	if data.Content.Algorithm.Algorithm.Equal(oid3DES) {
		block, err = des.NewTripleDESCipher(secret)
	} else {
		block, err = aes.NewCipher(secret)
	}
	if err != nil {
		g.t.Fatal(err)
	}
	out := slices.Clone(data.Content.Content.Bytes)
	cipher.NewCBCDecrypter(block, data.Content.Algorithm.Parameters.Bytes).CryptBlocks(out, out)
	return out[:len(out)-int(out[len(out)-1])]
}

func (g *gateway) get(operation string) (int, []byte) {
	g.t.Helper()
	got, err := insecure().Get(g.at + "?operation=" + operation)
	if err != nil {
		g.t.Fatal(err)
	}
	defer got.Body.Close()
	body, err := io.ReadAll(got.Body)
	if err != nil {
		g.t.Fatal(err)
	}
	return got.StatusCode, body
}

// meets fetches the registration certificate.
func (g *gateway) meets() []*x509.Certificate {
	g.t.Helper()
	status, body := g.get("GetCACert")
	if status != http.StatusOK {
		g.t.Fatalf("GetCACert: %d %s", status, body)
	}
	_, _, data, err := reads(body, nil)
	if err != nil {
		g.t.Fatal(err)
	}
	list, err := x509.ParseCertificates(data.Certificates.Bytes)
	if err != nil {
		g.t.Fatal(err)
	}
	for _, c := range list {
		if !c.IsCA && c.KeyUsage&x509.KeyUsageKeyEncipherment != 0 {
			g.ra = c
		}
	}
	return list
}

// posts sends a message, and returns the status of the answer, or its failure.
func (g *gateway) posts(message []byte) string {
	g.t.Helper()
	got, err := insecure().Post(g.at+"?operation=PKIOperation", "application/x-pki-message", bytes.NewReader(message))
	if err != nil {
		g.t.Fatal(err)
	}
	defer got.Body.Close()
	body, err := io.ReadAll(got.Body)
	if err != nil {
		g.t.Fatal(err)
	}
	if got.StatusCode != http.StatusOK {
		return fmt.Sprint("HTTP ", got.StatusCode)
	}
	content, attributes, _, err := reads(body, g.ra)
	if err != nil {
		g.t.Fatal(err)
	}
	id := func(n int) string { return string(attributes[scepID(n).String()]) }
	if id(2) != "3" || id(7) != g.id && id(7) != "" || id(6) != string(g.nonce) && id(6) != "" {
		g.t.Errorf("the answer is of type %s, transaction %s, nonce %x", id(2), id(7), id(6))
	}
	switch id(3) {
	case "2":
		return "failed " + id(4)
	case "3":
		return "pending"
	}
	_, _, data, err := reads(g.opens(content), nil)
	if err != nil {
		g.t.Fatal(err)
	}
	if len(data.Certificates.Bytes) > 0 {
		g.leaf = parsed(g.t, data.Certificates.Bytes)
	}
	if len(data.Lists.Bytes) > 0 {
		g.lists = append(g.lists, data.Lists.Bytes)
	}
	return "success"
}

// sends seals a content, signs it, and sends it.
func (g *gateway) sends(kind int, content []byte) string {
	g.t.Helper()
	if g.ra == nil {
		g.meets()
	}
	return g.posts(g.signs(kind, g.seals(content, g.ra)))
}

// polls asks after its request.
func (g *gateway) polls() string {
	g.t.Helper()
	subject, err := x509.ParseCertificateRequest(g.request)
	if err != nil {
		g.t.Fatal(err)
	}
	return g.sends(20, g.der(struct{ Issuer, Subject asn1.RawValue }{asn1.RawValue{FullBytes: g.ra.RawIssuer},
		asn1.RawValue{FullBytes: subject.RawSubject}}))
}

// asksAbout asks for what belongs to its certificate: itself, or its list.
func (g *gateway) asksAbout(kind int, c *x509.Certificate) string {
	g.t.Helper()
	return g.sends(kind, g.der(issuerSerial{asn1.RawValue{FullBytes: c.RawIssuer}, c.SerialNumber}))
}

// becomes lets it sign by the certificate that it got.
func (g *gateway) becomes() {
	g.self, g.signer = g.leaf, g.key
	g.id = rand.Text()
}

// next is the same gateway with another key, which signs by what it has.
func (g *gateway) next(names ...string) {
	g.t.Helper()
	var err error
	if g.key, err = rsa.GenerateKey(rand.Reader, 2048); err != nil {
		g.t.Fatal(err)
	}
	g.asks("", names...)
}
