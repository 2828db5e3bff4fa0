package demo

import (
	"bytes"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/probe"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/key"
	"ironseal/pki/label"
	"ironseal/pki/ocsp"
	"ironseal/pki/request"
)

// gateHost is what the colleague of the story asks a certificate for.
const gateHost = "gate.quay.ternbay.example"

// colleague is Ana Tide, who looks after a gate on the quay. She has a browser, and no account on the authority's
// machine.
type colleague struct {
	Stage
	public, desk string // addresses of the server
	gate         crypto.Signer
	asked        []byte // the request of the gate
	page         string // the address of her page
	roots        *x509.CertPool
	root         *cert.Certificate
	client       *http.Client
}

// PlayDesk plays the story of a colleague who asks for a certificate at the desk of a server, of the gate that uses
// it, and of a client that learns when it is revoked.
func PlayDesk(ctx context.Context, s Stage) error {
	if err := s.setUp(); err != nil {
		return err
	}
	c := &colleague{Stage: s}
	public, err := freePort()
	if err != nil {
		return err
	}
	desk, err := freePort()
	if err != nil {
		return err
	}
	c.public, c.desk = "http://127.0.0.1:"+public, "https://127.0.0.1:"+desk
	if err := s.play(c.founding()); err != nil {
		return err
	}
	s.Narrate("The server starts. It signs lists and OCSP answers on its own, and gives its desk a certificate.\nIt " +
		"signs " +
		"no request: that is for the administrator.")
	stop, err := s.
		Serve("serve --publish --answer --health \"\" --public 127.0.0.1:" + public + " --desk 127.0.0.1:" + desk)
	if err != nil {
		return err
	}
	defer stop()
	for _, act := range []func(context.Context) error{c.arrives, c.handsIn, c.waits, c.fetches, c.revoked} {
		if err := act(ctx); err != nil {
			return err
		}
	}
	return nil
}

func freePort() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", fmt.Errorf("demo: %w", err)
	}
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	return port, err
}

// founding sets up the estate, with the server's addresses in its settings.
func (c *colleague) founding() []scene {
	keys := " --key ecdsa-p256"
	if c.FullKeys {
		keys = ""
	}
	return []scene{
		{say: "Tern Bay Ferries has an authority. Certificates will name this server, where clients fetch lists.",
			typed: []string{`estate create harbour --organisation "Tern Bay Ferries" --country NO ` +
				`--publish-at ` + c.public},
			then: func() error {
				if err := os.Chdir("harbour"); err != nil {
					return err
				}
				text, err := os.ReadFile(estate.SettingsFile)
				if err != nil {
					return err
				}
				text = bytes.Replace(text, []byte(`ocsp           = ""`),
					fmt.Appendf(nil, "ocsp           = %q", c.public+"/ocsp"), 1)
				return disk.Disk{}.Replace(estate.SettingsFile, text, 0o644)
			}},
		{say: "(The demo has put the address for OCSP into ironseal.toml.)",
			typed: []string{"authority create root --yes" + keys,
				"authority create services --under root --yes" + keys}},
	}
}

// arrives fetches the root, and makes a request on the gate.
func (c *colleague) arrives(context.Context) error {
	c.Narrate("Ana Tide looks after a gate on the quay. She fetches the root from the server, and\ncompares its " +
		"check " +
		"code with the one that she got by telephone.")
	_, page, err := c.get(http.DefaultClient, c.public+"/roots")
	if err != nil {
		return err
	}
	_, rest, found := strings.Cut(page, `href="/roots/`)
	name, _, closed := strings.Cut(rest, `"`)
	if !found || !closed {
		return errors.New("demo: the server shows no root")
	}
	_, text, err := c.get(http.DefaultClient, c.public+"/roots/"+name)
	if err != nil {
		return err
	}
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		return errors.New("demo: the server's root is no PEM")
	}
	if c.root, err = cert.Read(block.Bytes); err != nil {
		return err
	}
	c.Answer(true, "the root has the check code "+label.CheckCode(block.Bytes))
	c.roots = x509.NewCertPool()
	c.roots.AppendCertsFromPEM([]byte(text))
	c.client = &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{
		TLSClientConfig: &tls.Config{RootCAs: c.roots}},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	if c.gate, err = key.Generate(key.P256, rand.Reader); err != nil {
		return err
	}
	subject, err := dn.New(dn.Pair{Type: "CN", Value: "gate"})
	if err != nil {
		return err
	}
	c.asked, err = request.Draft(subject, nil, c.gate, rand.Reader)
	return err
}

// get fetches a page.
func (c *colleague) get(by *http.Client, address string) (*http.Response, string, error) {
	r, err := by.Get(address)
	if err != nil {
		return nil, "", fmt.Errorf("demo: %w", err)
	}
	defer r.Body.Close()
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	return r, string(body), err
}

// post sends a form.
func (c *colleague) post(path string, form url.Values) (*http.Response, string, error) {
	r, err := c.client.PostForm(c.desk+path, form)
	if err != nil {
		return nil, "", fmt.Errorf("demo: %w", err)
	}
	defer r.Body.Close()
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	return r, string(body), err
}

// handsIn pastes the request into the desk's form.
func (c *colleague) handsIn(context.Context) error {
	c.Narrate("The gate can put nothing but \"gate\" into its request. She pastes it at the desk, over " +
		"HTTPS,\ntypes the " +
		"real name beside it, reads what the desk makes of it, and hands it in.")
	form := url.Values{"request": {string(bundle.PEM(bundle.Request, c.asked))}, "from": {"Ana Tide"},
		"purpose": {"quay gate"}, "names": {gateHost}, "template": {"web-server"}, "receiver": {"nginx"}}
	r, page, err := c.post("/read", form)
	if err != nil {
		return err
	}
	code := label.CheckCode(c.asked)
	if r.StatusCode != http.StatusOK || !strings.Contains(page, code) || !strings.Contains(page, gateHost) {
		return fmt.Errorf("demo: the desk does not show the request: %s", r.Status)
	}
	c.Answer(true, "the desk shows the request in words, with the check code "+code)
	if r, _, err = c.post("/hand-in", form); err != nil {
		return err
	}
	if c.page = r.Header.Get("Location"); r.StatusCode != http.StatusSeeOther || c.page == "" {
		return fmt.Errorf("demo: the desk takes no request: %s", r.Status)
	}
	c.Answer(true, "handed in; her page has a private address: "+c.desk+c.page[:16]+"…")
	return c.shows("waits", "It waits")
}

// shows asks for her page, and wants a text on it.
func (c *colleague) shows(what, want string) error {
	_, page, err := c.get(c.client, c.desk+c.page)
	if err != nil {
		return err
	}
	if !strings.Contains(page, want) {
		return fmt.Errorf("demo: her page does not say %q", want)
	}
	c.Answer(true, "her page says that it "+what)
	return nil
}

// waits is the administrator's part.
func (c *colleague) waits(context.Context) error {
	return c.play([]scene{{say: "The administrator sees who asks, and what for. The name that Ana typed stands on " +
		"the " +
		"sheet as hers.", typed: []string{"request list", "sign R2 --template web-server --yes"}}})
}

// fetches gets the chain, starts the gate's server, and lets a client ask.
func (c *colleague) fetches(ctx context.Context) error {
	c.Narrate("Her page follows at once. She fetches the chain as nginx takes it, and the gate goes up.")
	if err := c.shows("is signed", "It is signed"); err != nil {
		return err
	}
	if _, page, err := c.get(c.client, c.desk+c.page+"/for/nginx"); err != nil ||
		!strings.Contains(page, "Compare this code first") {
		return errors.Join(errors.New("demo: there is no handover page"), err)
	}
	_, chain, err := c.get(c.client, c.desk+c.page+"/chain.pem")
	if err != nil {
		return err
	}
	found, err := bundle.Read([]byte(chain))
	if err != nil || len(found.Objects) != 2 {
		return errors.Join(errors.New("demo: the chain is not as it should be"), err)
	}
	if err := (disk.Disk{}).New(filepath.Join("..", "gate.chain.pem"), []byte(chain), 0o644); err != nil {
		return err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return fmt.Errorf("demo: %w", err)
	}
	defer listener.Close()
	go serve(listener, tls.Certificate{Certificate: [][]byte{found.Objects[0].DER, found.Objects[1].DER},
		PrivateKey: c.gate})
	r, err := probe.Connect(ctx, listener.Addr().String(), gateHost, []*cert.Certificate{c.root}, time.Now())
	if err != nil || !r.Trusted {
		return errors.Join(fmt.Errorf("demo: the gate is not trusted: %w", r.Refusal), err)
	}
	c.Answer(true, "a client connects to the gate: trusted, "+r.Protocol)
	return c.asks(ocsp.Good)
}

// asks lets a client ask for the status of the gate's certificate, at the address that it names.
func (c *colleague) asks(want ocsp.Status) error {
	text, err := os.ReadFile(filepath.Join("..", "gate.chain.pem"))
	if err != nil {
		return err
	}
	found, err := bundle.Read(text)
	if err != nil {
		return err
	}
	leaf, err := cert.Read(found.Objects[0].DER)
	if err != nil {
		return err
	}
	issuer, err := cert.Read(found.Objects[1].DER)
	if err != nil {
		return err
	}
	id, err := ocsp.IDOf(crypto.SHA256, issuer, leaf.Serial)
	if err != nil {
		return err
	}
	asked, err := ocsp.Request{Asked: []ocsp.ID{id}}.DER()
	if err != nil {
		return err
	}
	var says ocsp.SingleResponse
	for range 20 { // within a second or two
		r, err := http.Post(c.public+"/ocsp", "application/ocsp-request", bytes.NewReader(asked))
		if err != nil {
			return fmt.Errorf("demo: %w", err)
		}
		der, err := io.ReadAll(io.LimitReader(r.Body, ocsp.MostSize))
		r.Body.Close()
		if err != nil {
			return err
		}
		a, err := ocsp.ReadResponse(der)
		if err != nil {
			return err
		}
		if says, _, err = a.Judge(ocsp.Expectation{Issuer: issuer, Serial: leaf.Serial, Now: time.Now(),
			Late: time.Minute}); err != nil {
			return err
		}
		if says.Status == want {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if says.Status != want {
		return fmt.Errorf("demo: OCSP says %s", says.Status)
	}
	c.Answer(want == ocsp.Good, fmt.Sprintf("a client asks by OCSP: the certificate of the gate is %s", says.Status))
	return nil
}

// revoked takes the certificate back.
func (c *colleague) revoked(context.Context) error {
	if err := c.play([]scene{{say: "The gate's key is lost. The administrator revokes.",
		typed: []string{"revoke R2 --reason key-compromise --yes"}}}); err != nil {
		return err
	}
	c.Narrate("Within a second the server tells everybody: by OCSP, by a list that it signs, and on Ana's page.")
	if err := c.asks(ocsp.Revoked); err != nil {
		return err
	}
	for n := 0; ; n++ {
		_, der, err := c.get(http.DefaultClient, c.public+"/services.g1.crl")
		if err != nil {
			return err
		}
		l, err := x509.ParseRevocationList([]byte(der))
		if err != nil {
			return err
		}
		if len(l.RevokedCertificateEntries) == 1 {
			break
		}
		if n == 100 {
			return errors.New("demo: the list does not tell of it")
		}
		time.Sleep(100 * time.Millisecond)
	}
	c.Answer(false, "the list has it")
	return c.shows("is not to be used", "Do not use this certificate")
}
