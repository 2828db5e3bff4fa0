package httpd_test

import (
	"bufio"
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/base64"
	"fmt"
	"io"
	"ironseal/internal/httpd"
	mrand "math/rand/v2"
	"mime"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// A machine learns what its request should have, in the form of a template and in the older one.
func TestESTAttributes(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	got, err := insecure().Get(q.est.URL + "/.well-known/est/gates/csrattrs")
	if err != nil {
		t.Fatal(err)
	}
	defer got.Body.Close()
	text, err := io.ReadAll(got.Body)
	if err != nil || got.StatusCode != 200 || got.Header.Get("Content-Type") != "application/csrattrs" {
		t.Fatal(got.StatusCode, err)
	}
	der, err := base64.StdEncoding.DecodeString(strings.ReplaceAll(string(text), "\n", ""))
	if err != nil {
		t.Fatal(err)
	}
	var list []asn1.RawValue
	if _, err := asn1.Unmarshal(der, &list); err != nil {
		t.Fatal(err)
	}
	found := map[string]asn1.RawValue{}
	for _, one := range list {
		var a struct {
			ID     asn1.ObjectIdentifier
			Values []asn1.RawValue `asn1:"set"`
		}
		if _, err := asn1.Unmarshal(one.FullBytes, &a); err != nil {
			continue // an identifier alone
		}
		found[a.ID.String()] = a.Values[0]
	}
	var info struct {
		Version int
		Subject []asn1.RawValue
		Key     struct {
			Algorithm pkix.AlgorithmIdentifier
		} `asn1:"tag:0"`
		Attributes []struct {
			ID     asn1.ObjectIdentifier
			Values []asn1.RawValue `asn1:"set"`
		} `asn1:"tag:1,set"`
	}
	if _, err := asn1.Unmarshal(found["1.2.840.113549.1.9.16.2.61"].FullBytes, &info); err != nil {
		t.Fatalf("the template form: %v", err)
	}
	if len(info.Subject) == 0 || len(info.Attributes) != 1 || info.Key.Algorithm.Algorithm == nil {
		t.Errorf("%+v", info)
	}
	var extensions []struct {
		ID       asn1.ObjectIdentifier
		Critical bool   `asn1:"optional"`
		Value    []byte `asn1:"optional"`
	}
	if _, err := asn1.Unmarshal(info.Attributes[0].Values[0].FullBytes, &extensions); err != nil {
		t.Fatal(err)
	}
	var ids []string
	for _, e := range extensions {
		ids = append(ids, e.ID.String())
	}
	if !slices.Equal(ids, []string{"2.5.29.17", "2.5.29.15", "2.5.29.37"}) || extensions[0].Value != nil {
		t.Errorf("%v", ids)
	}
	var older []pkix.Extension
	if _, err := asn1.Unmarshal(found["1.2.840.113549.1.9.14"].FullBytes, &older); err != nil || len(older) != 2 {
		t.Errorf("the older form: %v, %v", older, err)
	}
}

// rsaRequest is a request by an RSA key.
func rsaRequest(t *testing.T, k *rsa.PrivateKey, host string) []byte {
	t.Helper()
	der, err := x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{Subject: pkix.Name{CommonName: host},
			DNSNames: []string{host}}, k)
	if err != nil {
		t.Fatal(err)
	}
	return der
}

// The server makes a key for a machine that asks for it, sealed so that nobody else reads it.
func TestESTMakesKeys(t *testing.T) {
	t.Parallel()
	q := newQuay(t, "publish        = []", `publish        = ["all"]`)
	k, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	asks := func(host, code string) *http.Response {
		t.Helper()
		r, err := http.NewRequest(http.MethodPost, q.est.URL+"/.well-known/est/gates/serverkeygen",
			strings.NewReader(base64.StdEncoding.EncodeToString(rsaRequest(t, k, host))))
		if err != nil {
			t.Fatal(err)
		}
		r.SetBasicAuth("gate", code)
		got, err := insecure().Do(r)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { got.Body.Close() })
		return got
	}
	code := q.code("ternbay.example", 5)
	if got := asks("gate-1.quay.ternbay.example", code); got.StatusCode != 403 {
		t.Errorf("where the template does not let it: %d", got.StatusCode)
	}
	if err := os.WriteFile(filepath.Join(q.dir, "templates", "gates.toml"), []byte(gates+"make-keys = true\n"),
		0o644); err != nil {
		t.Fatal(err)
	}
	if got := asks("crane.ternbay.example", code); got.StatusCode != 403 {
		t.Errorf("a name that waits for a person: %d", got.StatusCode)
	}
	if list, err := q.e.Requests(ctx, "declined"); err != nil || len(list) != 1 {
		t.Errorf("a request whose key is kept nowhere waits: %v, %v", list, err)
	}
	got := asks("gate-1.quay.ternbay.example", code)
	kind, params, err := mime.ParseMediaType(got.Header.Get("Content-Type"))
	if got.StatusCode != 200 || kind != "multipart/mixed" || err != nil {
		t.Fatal(got.StatusCode, kind, err)
	}
	var parts [][]byte
	m := multipart.NewReader(got.Body, params["boundary"])
	for {
		p, err := m.NextPart()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(base64.NewDecoder(base64.StdEncoding, p))
		if err != nil {
			t.Fatal(err)
		}
		parts = append(parts, text)
	}
	signed := openedByID(t, k, parts[0])
	var data signedData
	if _, err := asn1.Unmarshal(signed, &data); err != nil {
		t.Fatal(err)
	}
	var content []byte
	if _, err := asn1.Unmarshal(data.Content.Content.Bytes, &content); err != nil {
		t.Fatal(err)
	}
	var keys []asn1.RawValue
	if _, err := asn1.Unmarshal(content, &keys); err != nil || len(keys) != 1 {
		t.Fatal(err)
	}
	made, err := x509.ParsePKCS8PrivateKey(keys[0].FullBytes)
	if err != nil {
		t.Fatal(err)
	}
	_, _, certs, err := reads(parts[1], nil)
	if err != nil {
		t.Fatal(err)
	}
	leaf := parsed(t, certs.Certificates.Bytes)
	if !samePublic(made, leaf) {
		t.Error("the certificate is of another key")
	}
}

func samePublic(made any, leaf *x509.Certificate) bool {
	_, err := tls.X509KeyPair(pemOf("CERTIFICATE", leaf.Raw), pemOfKey(made))
	return err == nil
}

func pemOf(kind string, der []byte) []byte {
	return fmt.Appendf(nil, "-----BEGIN %s-----\n%s\n-----END %[1]s-----\n", kind,
		base64.StdEncoding.EncodeToString(der))
}

func pemOfKey(made any) []byte {
	der, err := x509.MarshalPKCS8PrivateKey(made)
	if err != nil {
		return nil
	}
	return pemOf("PRIVATE KEY", der)
}

// openedByID opens an envelope whose recipient is named by a key identifier.
func openedByID(t *testing.T, k *rsa.PrivateKey, der []byte) []byte {
	t.Helper()
	var outer contentInfo
	var data struct {
		Version    int
		Recipients []struct {
			Version   int
			ID        []byte `asn1:"tag:0"`
			Algorithm pkix.AlgorithmIdentifier
			Key       []byte
		} `asn1:"set"`
		Content encryptedContent
	}
	if _, err := asn1.Unmarshal(der, &outer); err != nil {
		t.Fatal(err)
	}
	if _, err := asn1.Unmarshal(outer.Content.Bytes, &data); err != nil {
		t.Fatal(err)
	}
	//lint:ignore SA1019 the protocol uses it (RFC 8894)
	secret, err := rsa.DecryptPKCS1v15(nil, k, data.Recipients[0].Key)
	if err != nil {
		t.Fatal(err)
	}
	block, err := aes.NewCipher(secret)
	if err != nil {
		t.Fatal(err)
	}
	out := bytes.Clone(data.Content.Content.Bytes)
	cipher.NewCBCDecrypter(block, data.Content.Algorithm.Parameters.Bytes).CryptBlocks(out, out)
	return out[:len(out)-int(out[len(out)-1])]
}

// A request that says for which TLS session it was made is taken by that session alone.
func TestESTBindsRequestsToSessions(t *testing.T) {
	t.Parallel()
	q := newQuay(t)
	code := q.code("quay.ternbay.example", 10)
	for n, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		for _, good := range []bool{true, false} {
			c, err := tls.Dial("tcp", q.est.Listener.Addr().String(), &tls.Config{InsecureSkipVerify: true,
				MinVersion: version, MaxVersion: version})
			if err != nil {
				t.Fatal(err)
			}
			state := c.ConnectionState()
			binding, err := state.ExportKeyingMaterial("EXPORTER-Channel-Binding", nil, 32)
			if err != nil {
				t.Fatal(err)
			}
			if !good {
				binding[0] ^= 1
			}
			k, err := rsa.GenerateKey(rand.Reader, 2048)
			if err != nil {
				t.Fatal(err)
			}
			g := &gateway{t: t, key: k}
			g.asks(base64.StdEncoding.EncodeToString(binding), fmt.Sprintf("gate-%d.quay.ternbay.example", n))
			body := base64.StdEncoding.EncodeToString(g.request)
			fmt.Fprintf(c, "POST /.well-known/est/gates/simpleenroll HTTP/1.1\r\nHost: localhost\r\nAuthorization: "+
				"Basic %s\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s",
				base64.StdEncoding.EncodeToString([]byte("gate:"+code)), len(body), body)
			got, err := http.ReadResponse(bufio.NewReader(c), nil)
			if err != nil {
				t.Fatal(err)
			}
			got.Body.Close()
			c.Close()
			if want := map[bool]int{true: 200, false: 403}[good]; got.StatusCode != want {
				t.Errorf("TLS %x, good %t: %d", version, good, got.StatusCode)
			}
		}
	}
}

// Whatever comes by EST, the answer is of the protocol, and never a fault of the server.
func TestESTSurvivesMutations(t *testing.T) {
	t.Parallel()
	rounds := manyRounds(500)
	q := newQuay(t, "pace           = 600", "pace           = 0")
	q.level.Set(100)
	code := q.code("ternbay.example", 100_000)
	srv, err := httpd.New(q.s, q.logger)
	if err != nil {
		t.Fatal(err)
	}
	handler := srv.Handlers()[httpd.NameMachines]
	random := mrand.New(mrand.NewPCG(5, 6))
	whole := newDevice(t, "crane.ternbay.example").der
	for n := range rounds {
		body := base64.StdEncoding.EncodeToString(mutated(random, whole))
		if n%3 == 0 {
			body = string(mutated(random, []byte(base64.StdEncoding.EncodeToString(whole))))
		}
		path := []string{"simpleenroll", "simplereenroll", "serverkeygen"}[n%3]
		r := httptest.NewRequest(http.MethodPost, "http://example.com/.well-known/est/gates/"+path,
			strings.NewReader(body))
		if n%5 > 0 {
			r.SetBasicAuth("gate", code)
		}
		a := httptest.NewRecorder()
		handler.ServeHTTP(a, r)
		if a.Code >= 500 && a.Code != 503 || a.Code == 503 && path != "serverkeygen" {
			t.Fatalf("%s: %d %s\n%q", path, a.Code, a.Body, body)
		}
	}
}
