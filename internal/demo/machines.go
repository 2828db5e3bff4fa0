package demo

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"ironseal/internal/demo/network"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/pkcs"
	"ironseal/pki/request"
	"ironseal/pki/san"
)

// quayTemplate says how far machines on the quay may go without a person.
const quayTemplate = `based-on = "web-server"
title    = "Quay machine"
extended-key-usage = ["serverAuth", "clientAuth"]

[unattended]
by        = ["est", "acme", "scep"]
authority = "services"
names     = ["dns:*.quay.ternbay.example"]
lifetime  = "30d"
per-day   = 50
`

// fleet are the machines on the quay.
type fleet struct {
	Stage
	names    *network.Network
	machines string // where they reach the server
	public   string
	client   *http.Client
}

// PlayMachines plays the story of machines that get and renew their certificates themselves: a gate by EST, a web
// server by ACME, a gateway by SCEP. What is unusual waits for the administrator, and in an incident the machines
// replace what depends on the lost key.
func PlayMachines(ctx context.Context, s Stage) error {
	if err := s.setUp(); err != nil {
		return err
	}
	f := &fleet{Stage: s}
	var err error
	if f.names, err = network.New(); err != nil {
		return fmt.Errorf("demo: %w", err)
	}
	defer f.names.Close()
	var ports [2]string
	for i := range ports {
		if ports[i], err = freePort(); err != nil {
			return err
		}
	}
	f.machines, f.public = "127.0.0.1:"+ports[0], "127.0.0.1:"+ports[1]
	if err := s.play(f.founding()); err != nil {
		return err
	}
	f.Narrate("The server starts. With the key of services it signs what the template lets be signed without a person.")
	stop, err := s.
		Serve("serve --publish --sign=services --desk \"\" --health \"\" --public " + f.public + " --machines " +
			f.machines)
	if err != nil {
		return err
	}
	defer stop()
	for _, act := range []func(context.Context) error{f.trusts, f.gate, f.webServer, f.gateway} {
		if err := act(ctx); err != nil {
			return err
		}
	}
	return nil
}

func (f *fleet) founding() []scene {
	keys := " --key ecdsa-p256"
	if f.FullKeys {
		keys = ""
	}
	web, _ := f.names.Ports()
	return []scene{
		{say: "Tern Bay Ferries has an authority, and machines on the quay that need certificates every month.",
			typed: []string{`estate create harbour --organisation "Tern Bay Ferries" --country NO`},
			then:  func() error { return os.Chdir("harbour") }},
		{typed: []string{"authority create root --yes" + keys,
			"authority create services --under root --yes" + keys},
			then: func() error {
				text, err := os.ReadFile(estate.SettingsFile)
				if err != nil {
					return err
				}
				for _, x := range [][2]string{{`challenge-resolver  = ""`,
					fmt.Sprintf("challenge-resolver  = %q", f.names.Resolver())},
					{"challenge-http-port = 80", fmt.Sprint("challenge-http-port = ", web)},
					{"challenge-local     = false", "challenge-local     = true"}} {
					text = bytes.Replace(text, []byte(x[0]), []byte(x[1]), 1)
				}
				if err := (disk.Disk{}).Replace(estate.SettingsFile, text, 0o644); err != nil {
					return err
				}
				return disk.Disk{}.New(filepath.Join("templates", "quay-machine.toml"), []byte(quayTemplate), 0o644)
			}},
		{say: "A template says how far machines may go without a person: by which protocols, for which names, how\n" +
			"long, and how many a day. (The demo has put the file there, and a DNS server of its own into " +
			"ironseal.toml.)",
			typed: []string{"template show quay-machine"}},
	}
}

// trusts fetches the roots, as a machine does before anything else.
func (f *fleet) trusts(context.Context) error {
	insecure := &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}} // what it fetches is compared by a person
	status, text, err := f.call(insecure, http.MethodGet, "/.well-known/est/cacerts", nil, "", "")
	if err != nil || status != http.StatusOK {
		return errors.Join(fmt.Errorf("demo: no roots: %d", status), err)
	}
	list, err := fromEST(text)
	if err != nil {
		return err
	}
	roots := x509.NewCertPool()
	for _, der := range list {
		if c, err := x509.ParseCertificate(der); err == nil {
			roots.AddCert(c)
		}
	}
	f.client = &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{
		TLSClientConfig: &tls.Config{RootCAs: roots, ServerName: "localhost"}}}
	return nil
}

// call sends a message to the server.
func (f *fleet) call(by *http.Client, method, path string, body []byte, kind, code string) (int, []byte, error) {
	q, err := http.NewRequest(method, "https://"+f.machines+path, bytes.NewReader(body))
	if err != nil {
		return 0, nil, fmt.Errorf("demo: %w", err)
	}
	if kind != "" {
		q.Header.Set("Content-Type", kind)
	}
	if code != "" {
		q.SetBasicAuth("gate", code)
	}
	r, err := by.Do(q)
	if err != nil {
		return 0, nil, fmt.Errorf("demo: %w", err)
	}
	defer r.Body.Close()
	text, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	return r.StatusCode, text, err
}

// fromEST reads certificates as EST sends them.
func fromEST(text []byte) ([][]byte, error) {
	der, err := base64.StdEncoding.DecodeString(strings.ReplaceAll(string(text), "\n", ""))
	if err != nil {
		return nil, fmt.Errorf("demo: %w", err)
	}
	return pkcs.ReadSignedData(der)
}

// drafted is a request for a host, by a new key.
func drafted(host string) (*ecdsa.PrivateKey, []byte, error) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	subject, alt, err := named(host)
	if err != nil {
		return nil, nil, err
	}
	der, err := request.Draft(subject, alt, k, rand.Reader)
	return k, der, err
}

// named are the subject and the alternative name of a host.
func named(host string) (subject dn.Name, alt ext.Set, err error) {
	if subject, err = dn.New(dn.Pair{Type: "CN", Value: host}); err != nil {
		return subject, nil, err
	}
	n, err := san.ParseTyped("dns:" + host)
	if err != nil {
		return subject, nil, err
	}
	e, err := ext.NamesExtension([]san.Name{n}, false)
	return subject, ext.Set{e}, err
}

// secretIn is what a command printed once: the last word of a line of what it said, counted from 0.
func secretIn(said string, line int) string {
	lines := strings.Split(said, "\n")
	if line >= len(lines) {
		return ""
	}
	words := strings.Fields(lines[line])
	if len(words) == 0 {
		return ""
	}
	return words[len(words)-1]
}

// gate enrols by EST: one request within the limits, and one that waits.
func (f *fleet) gate(context.Context) error {
	f.Narrate("A gate speaks EST. It is given a code, and sends its request over HTTPS.")
	line := "enrol code gates --template quay-machine --names ternbay.example --count 2"
	said, err := f.Catch("ironseal "+line, Split(line))
	if err != nil {
		return err
	}
	code := secretIn(said, 1)
	enrol := func(host string) (int, []byte, []byte, error) {
		_, der, err := drafted(host)
		if err != nil {
			return 0, nil, nil, err
		}
		status, text, err := f.call(f.client, http.MethodPost, "/.well-known/est/quay-machine/simpleenroll",
			[]byte(base64.StdEncoding.EncodeToString(der)), "application/pkcs10", code)
		return status, text, der, err
	}
	status, text, _, err := enrol("gate-1.quay.ternbay.example")
	if err != nil || status != http.StatusOK {
		return errors.Join(fmt.Errorf("demo: the gate got %d %s", status, text), err)
	}
	if err := f.got("the gate", text); err != nil {
		return err
	}
	f.Narrate("A crane sends its request with the same code. Its name is not among those that may be signed " +
		"without a\n" +
		"person, so it waits.")
	status, text, der, err := enrol("crane.ternbay.example")
	if err != nil || status != http.StatusAccepted {
		return errors.Join(fmt.Errorf("demo: the crane got %d %s", status, text), err)
	}
	number, _, _ := strings.Cut(string(text), " ")
	f.Answer(false, "the answer to the crane is to come again: "+number+" waits for a person")
	if err := f.play([]scene{{typed: []string{"request show " + number, "sign " + number +
		" --template quay-machine --yes"}}}); err != nil {
		return err
	}
	status, text, err = f.call(f.client, http.MethodPost, "/.well-known/est/quay-machine/simpleenroll",
		[]byte(base64.StdEncoding.EncodeToString(der)), "application/pkcs10", code)
	if err != nil || status != http.StatusOK {
		return errors.Join(fmt.Errorf("demo: the crane got %d %s", status, text), err)
	}
	return f.got("the crane, which asks again,", text)
}

// got tells of a certificate that came by EST.
func (f *fleet) got(who string, text []byte) error {
	list, err := fromEST(text)
	if err != nil {
		return err
	}
	return f.has(who, list[0])
}

func (f *fleet) has(who string, der []byte) error {
	c, err := x509.ParseCertificate(der)
	if err != nil {
		return fmt.Errorf("demo: %w", err)
	}
	f.Answer(true, fmt.Sprintf("%s has its certificate: %s, until %s, by %s", who, c.DNSNames[0],
		c.NotAfter.Format("2006-01-02"), c.Issuer.CommonName))
	return nil
}
