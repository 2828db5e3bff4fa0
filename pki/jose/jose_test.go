package jose

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
)

// The example of RFC 7638 section 3.1.
func TestPublishedThumbprint(t *testing.T) {
	k, err := Known([]byte(`{"kty":"RSA","n":"` +
		`0vx7agoebGcQSuuPiLJXZptN9nndrQmbXEps2aiAFbWhM78LhWx4cbbfAAtVT86zwu1RK7aPFFxuhD` +
		`R1L6tSoc_BJECPebWKRXjBZCiFV4n3oknjhMstn64tZ_2W-5JsGY4Hc5n9yBXArwl93lqt7_RN5w6Cf0h4QyQ5v-65YGjQR0` +
		`_FDW2QvzqY368QQMicAtaSqzs8KJZgnYb9c7d0zgdAZHzu6qMQvRL5hajrn1n91CbOpbISD08qNLyrdkt-bFTWhAI4vMQFh6` +
		`WeZu0fM4lFd2NcRwr3XPksINHaQ-G_xBniIqbw0Ls1jF44-csFCur-kEgU8awapJzKnqDKgw","e":"AQAB","alg":"RS25` +
		`6","kid":"2011-04-29"}`))
	if err != nil {
		t.Fatal(err)
	}
	if got := k.Thumbprint(); got != "NzbLsXh8uDCcd-6MNwXF4W_7noWXFZAfHkxZsRGC9Xs" {
		t.Error(got)
	}
}

// The examples of RFC 7515 appendix A.2, A.3 and A.1, and of RFC 8037 appendix A.4.
func TestPublishedSignatures(t *testing.T) {
	ec, err := Known([]byte(`{"kty":"EC","crv":"P-256","x":"f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU",` +
		`"y":"x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0"}`))
	if err != nil {
		t.Fatal(err)
	}
	const payload = "eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ"
	m := message(t, "eyJhbGciOiJFUzI1NiJ9", payload,
		"DtEhU3ljbEg8L38VWAfUAqOyKAM6-Xx-F4GawxaepmXFCgfTjDxw5djxLa8ISlSApmWQxfKTUJqPP3-Kg6NU1Q")
	if err := m.Verify(ec); err != nil {
		t.Error(err)
	}
	ed, err := Known([]byte(`{"kty":"OKP","crv":"Ed25519","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}`))
	if err != nil {
		t.Fatal(err)
	}
	m = message(t, "eyJhbGciOiJFZERTQSJ9", "RXhhbXBsZSBvZiBFZDI1NTE5IHNpZ25pbmc",
		"hgyY0il_MGCjP0JzlnLWG1PPOt7-09PGcvMg3AIbQR6dWbhijcNR4ki4iylGjg5BhVsPt9g7sVvpAr_MuM0KAg")
	if err := m.Verify(ed); err != nil {
		t.Error(err)
	}
	if err := m.Verify(ec); !errors.Is(err, ErrAlgorithm) {
		t.Errorf("by another kind of key: %v", err)
	}
	secret, err := Base64("AyM1SysPpbyDfgZld3umj1qzKObwVMkoqQ-EstJQLr_T-1qS0gZH75aKtMN3Yj0iPS4hcgUuTwjAzZr1Z9CAow")
	if err != nil {
		t.Fatal(err)
	}
	m = message(t, "eyJ0eXAiOiJKV1QiLA0KICJhbGciOiJIUzI1NiJ9", payload, "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk")
	if err := m.VerifyMAC(secret); err != nil {
		t.Error(err)
	}
	if err := m.VerifyMAC(secret[1:]); !errors.Is(err, ErrSignature) {
		t.Errorf("by another secret: %v", err)
	}
	if err := m.Verify(ec); !errors.Is(err, ErrAlgorithm) {
		t.Errorf("a MAC by a public key: %v", err)
	}
}

func message(t *testing.T, protected, payload, signature string) Message {
	t.Helper()
	m, err := Read(fmt.Appendf(nil, `{"protected":%q,"payload":%q,"signature":%q}`, protected, payload, signature))
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// Each kind of key signs and is read back; the thumbprint is that of one spelling.
func TestKindsOfKeys(t *testing.T) {
	b64 := base64.RawURLEncoding.EncodeToString
	for name, curve := range map[string]elliptic.Curve{"P-256": elliptic.P256(), "P-384": elliptic.P384(),
		"P-521": elliptic.P521()} {
		k, err := ecdsa.GenerateKey(curve, rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		point, err := k.PublicKey.Bytes()
		if err != nil {
			t.Fatal(err)
		}
		half := (len(point) - 1) / 2
		text := fmt.Sprintf(`{"y":"%s","x":"%s","crv":%q,"kty":"EC"}`, b64(point[1+half:]), b64(point[1:1+half]), name)
		read, err := ReadKey([]byte(text))
		if err != nil || !k.PublicKey.Equal(read.Public) {
			t.Errorf("%s: %v", name, err)
		}
		again, err := Known([]byte(read.JSON()))
		if err != nil || again.Thumbprint() != read.Thumbprint() || !again.Same(read) {
			t.Errorf("%s does not read back: %v", name, err)
		}
	}
	r, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	read, err := ReadKey(fmt.Appendf(nil, `{"kty":"RSA","e":"AQAB","n":"%s"}`, b64(r.N.Bytes())))
	if err != nil || !r.PublicKey.Equal(read.Public) {
		t.Fatal(err)
	}
	header := b64([]byte(`{"alg":"RS256"}`))
	h := crypto.SHA256.New()
	h.Write([]byte(header + "."))
	sig, err := rsa.SignPKCS1v15(nil, r, crypto.SHA256, h.Sum(nil))
	if err != nil {
		t.Fatal(err)
	}
	if err := message(t, header, "", b64(sig)).Verify(read); err != nil {
		t.Error(err)
	}
	public, _, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := ReadKey(fmt.Appendf(nil, `{"kty":"OKP","crv":"Ed25519","x":"%s"}`, b64(public))); err != nil {
		t.Error(err)
	}
}

func TestObjectsAreReadStrictly(t *testing.T) {
	for _, text := range []string{"", "[]", "null", "{", "{}{}", "{} x", `{"a":1,"a":2}`, "{\"a\":\"\xff\"}",
		`{"a":` + strings.Repeat("[", 20) + strings.Repeat("]", 20) + "}"} {
		if _, err := Object([]byte(text)); !errors.Is(err, ErrMalformed) {
			t.Errorf("%q: %v", text, err)
		}
	}
	o, err := Object([]byte(` {"a":{"b":[1,"]}"]},"A":2} `))
	if err != nil || len(o) != 2 {
		t.Errorf("%v, %v", o, err)
	}
	for _, text := range []string{"AA=", "A", "AB", "A\nAA", "+A", "Zh"} {
		if _, err := Base64(text); !errors.Is(err, ErrMalformed) {
			t.Errorf("%q is taken", text)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"protected":"eyJhbGciOiJFUzI1NiJ9","payload":"","signature":"AA"}`))
	f.Add([]byte(`{"protected":"e30","payload":"e30","signature":""}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := Read(data)
		if err == nil && !json.Valid(data) {
			t.Error("it is no JSON")
		}
		if err == nil && m.Header.Key != nil {
			_ = m.Verify(*m.Header.Key)
		}
	})
}
