package demo

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/pkcs"
	"ironseal/pki/request"
)

const gatewayHost = "vpn.quay.ternbay.example"

// gateway enrols by SCEP, over plain HTTP: its messages are sealed and signed themselves.
func (f *fleet) gateway(context.Context) error {
	f.Narrate("A gateway speaks SCEP and nothing else. It is given the address and a code of its own.")
	line := "enrol code vpn --template quay-machine --names quay.ternbay.example"
	said, err := f.Catch("ironseal "+line, Split(line))
	if err != nil {
		return err
	}
	k, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return err
	}
	self, err := selfSigned(k)
	if err != nil {
		return err
	}
	subject, alt, err := named(gatewayHost)
	if err != nil {
		return err
	}
	der, err := request.DraftWithPassword(subject, alt, secretIn(said, 1), k, rand.Reader)
	if err != nil {
		return err
	}
	by, err := f.registration()
	if err != nil {
		return err
	}
	sealed, err := pkcs.Seal(nil, der, by, pkcs.AES128, rand.Reader)
	if err != nil {
		return err
	}
	return f.exchanges(k, self, by, sealed)
}

// exchanges sends a sealed request, and opens the answer.
func (f *fleet) exchanges(k *rsa.PrivateKey, self, by *cert.Certificate, sealed []byte) error {
	id := func(n int) asn1.ObjectIdentifier { return asn1.ObjectIdentifier{2, 16, 840, 1, 113733, 1, 9, n} }
	text := func(s string) []byte { return append([]byte{0x13, byte(len(s))}, s...) }
	message, err := pkcs.Draft{Content: sealed, Certificates: [][]byte{self.Raw}, RSA: true,
		Attributes: []pkcs.Attribute{
			{ID: id(2), Value: text("19")}, {ID: id(7), Value: text(rand.Text())},
			{ID: id(5), Value: append([]byte{4, 16}, make([]byte, 16)...)}}}.Sign(k, rand.Reader)
	if err != nil {
		return err
	}
	_, answer, err := f.scep("PKIOperation", message)
	if err != nil {
		return err
	}
	s, err := pkcs.ReadSigned(answer)
	if err == nil {
		err = s.Verify(by.Key, false)
	}
	if err != nil {
		return err
	}
	if s.Content == nil {
		return errors.New("demo: the gateway got no certificate")
	}
	e, err := pkcs.ReadEnvelope(s.Content)
	if err != nil {
		return err
	}
	inner, err := e.Open(self, k, rand.Reader)
	if err != nil {
		return err
	}
	list, err := pkcs.ReadSignedData(inner)
	if err != nil {
		return err
	}
	return f.has("the gateway", list[0])
}

// scep asks the server by SCEP.
func (f *fleet) scep(operation string, message []byte) (int, []byte, error) {
	at := "http://" + f.public + "/scep/quay-machine?operation=" + operation
	var r *http.Response
	var err error
	if message == nil {
		r, err = http.Get(at)
	} else {
		r, err = http.Post(at, "application/x-pki-message", bytes.NewReader(message))
	}
	if err != nil {
		return 0, nil, fmt.Errorf("demo: %w", err)
	}
	defer r.Body.Close()
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	return r.StatusCode, body, err
}

// registration is the certificate to which messages are sealed. It is signed again where the authority was renewed.
func (f *fleet) registration() (*cert.Certificate, error) {
	for range 100 {
		status, body, err := f.scep("GetCACert", nil)
		if err != nil {
			return nil, err
		}
		if status == http.StatusOK {
			list, err := pkcs.ReadSignedData(body)
			if err != nil {
				return nil, err
			}
			return cert.Read(list[0])
		}
		time.Sleep(100 * time.Millisecond)
	}
	return nil, errors.New("demo: there is no registration certificate")
}

func selfSigned(k *rsa.PrivateKey) (*cert.Certificate, error) {
	t := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: gatewayHost},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, t, t, k.Public(), k)
	if err != nil {
		return nil, err
	}
	return cert.Read(der)
}
