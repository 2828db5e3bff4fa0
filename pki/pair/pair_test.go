package pair

import (
	"crypto/tls"
	"crypto/x509"
	"net"
	"strings"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/san"
	"ironseal/pki/specimen"
	"ironseal/pki/trust"
)

type line struct{ root, mid, leaf *specimen.Entity }

func newLine(t *testing.T, host string, extended ...string) line {
	var l line
	l.root = specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root of " + host, Authority: true})
	l.mid = specimen.Make(t, l.root, specimen.Plan{Subject: "CN=Services of " + host, Authority: true})
	l.leaf = specimen.Make(t, l.mid, specimen.Plan{Subject: "CN=" + host, Names: []string{host}, Extended: extended})
	return l
}

func (l line) peer(known ...*cert.Certificate) Peer {
	return Peer{Title: l.leaf.Cert.Title(), Host: l.leaf.Cert.Names[0].Value(),
		Chain: []*cert.Certificate{l.leaf.Cert, l.mid.Cert}, Known: append(known, l.root.Cert)}
}

var both = []string{"serverAuth", "clientAuth"}

// Each answer is held against two ends of crypto/tls that hold what was found to be needed and
// present what was given.
func TestHandshakesAgree(t *testing.T) {
	a, b := newLine(t, "a.ternbay.example", both...), newLine(t, "b.ternbay.example", both...)
	only := newLine(t, "c.ternbay.example", "serverAuth")
	own := specimen.Make(t, nil, specimen.Plan{Subject: "CN=gate", Names: []string{"gate.ternbay.example"},
		Extended: both, NoBasic: true})
	ended := newLine(t, "d.ternbay.example", both...)
	ended.leaf = specimen.Make(t, ended.mid, specimen.Plan{Subject: "CN=d", Names: []string{"d.ternbay.example"},
		Extended: both, From: specimen.Now.AddDate(-1, 0, 0), Until: specimen.Now.AddDate(0, 0, -1)})
	alone := a.peer(a.mid.Cert)
	alone.Chain = alone.Chain[:1]
	short := a.peer()
	short.Host = "a"
	self := Peer{Title: "gate", Host: "gate.ternbay.example", Chain: []*cert.Certificate{own.Cert}}
	type two [2]*specimen.Entity
	for name, c := range map[string]struct {
		peers   [2]Peer
		signers two
		holds   string // of the four checks, in order
		code    finding.Code
	}{
		"two roots": {[2]Peer{a.peer(), b.peer()}, two{a.leaf, b.leaf}, "yyyy",
			""},
		"no usage for clients": {[2]Peer{a.peer(), only.peer()}, two{a.leaf, only.leaf}, "yyyn",
			finding.UsageMissing},
		"an issuer not presented": {[2]Peer{alone, b.peer()}, two{a.leaf, b.leaf}, "ynny",
			finding.MissingIssuer},
		"a short name": {[2]Peer{short, b.peer()}, two{a.leaf, b.leaf}, "yyny",
			finding.WrongName},
		"its own root": {[2]Peer{self, b.peer()}, two{own, b.leaf}, "yyyy",
			""},
		"expired": {[2]Peer{a.peer(), ended.peer()}, two{a.leaf, ended.leaf}, "nyyn",
			finding.Expired},
	} {
		t.Run(name, func(t *testing.T) {
			got := Judge(Question{Peers: c.peers, Over: TLS, Now: specimen.Now})
			var holds strings.Builder
			for _, w := range got.Ways {
				for _, x := range w.Checks {
					holds.WriteString(map[bool]string{true: "y", false: "n"}[x.Holds])
					if !x.Holds && x.Findings[0].Code != c.code {
						t.Errorf("%s: %+v", name, x.Findings)
					}
				}
				client, server := shake(t, got, c.peers, [2]*specimen.Entity(c.signers), w)
				if client != nil == w.Checks[0].Holds || w.Checks[0].Holds && server != nil == w.Checks[1].Holds {
					t.Errorf("%s: %d to %d: %+v, and TLS says %v, %v", name, w.From, w.To, w.Checks, client, server)
				}
			}
			if holds.String() != c.holds {
				t.Errorf("%s: %s", name, holds.String())
			}
		})
	}
}

// shake connects the two, each holding only what the answer says.
func shake(t *testing.T, a Answer, peers [2]Peer, with [2]*specimen.Entity, w Way) (client, server error) {
	t.Helper()
	config := func(i int) *tls.Config {
		pool := x509.NewCertPool()
		for _, x := range a.Needs[i].Anchors {
			c, err := x509.ParseCertificate(x.Certificate.Raw)
			if err != nil {
				t.Fatal(err)
			}
			pool.AddCert(c)
		}
		mine := tls.Certificate{PrivateKey: with[i].Signer}
		for _, c := range peers[i].Chain {
			mine.Certificate = append(mine.Certificate, c.Raw)
		}
		return &tls.Config{RootCAs: pool, ClientCAs: pool, Certificates: []tls.Certificate{mine},
			ClientAuth: tls.RequireAndVerifyClientCert, ServerName: peers[w.To].Host, MinVersion: tls.VersionTLS12,
			MaxVersion: tls.VersionTLS12, Time: func() time.Time { return specimen.Now },
			GetClientCertificate: func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return &mine, nil }}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	done := make(chan error, 1)
	go func() {
		far, err := l.Accept()
		if err == nil {
			err = tls.Server(far, config(w.To)).Handshake()
			defer far.Close()
		}
		done <- err
	}()
	near, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	client = tls.Client(near, config(w.From)).Handshake()
	near.Close()
	server = <-done
	if server != nil && client != nil && !strings.Contains(client.Error(), "certificate: ") && !strings.Contains(
		client.Error(), "verify") && !strings.Contains(client.Error(), "x509") {
		client = nil // the server turned it away: the client had accepted
	}
	return client, server
}

func TestARequestIsForeseen(t *testing.T) {
	a, b := newLine(t, "a.ternbay.example", both...), newLine(t, "b.ternbay.example", both...)
	asked := Peer{Title: "b.ternbay.example", Host: "b.ternbay.example", Known: []*cert.Certificate{b.root.Cert},
		Chain: []*cert.Certificate{b.mid.Cert}, Planned: &Planned{Template: "web-server",
			Names: specimen.Names(t, "b.ternbay.example")}}
	var err error
	for range 2 {
		got := Judge(Question{Peers: [2]Peer{a.peer(), asked}, Over: TLS, Now: specimen.Now, OneWay: true})
		if len(got.Ways) != 1 || got.Holds() || got.Ways[0].Checks[0].Findings[0].Code != finding.UsageMissing {
			t.Errorf("%+v", got.Ways)
		}
		asked.Planned.Extended, err = ext.ReadExtendedUsage(extendedOf(t, b.leaf.Cert))
		if err != nil {
			t.Fatal(err)
		}
		if got = Judge(Question{Peers: [2]Peer{a.peer(), asked}, Over: TLS, Now: specimen.Now}); !got.Holds() {
			t.Errorf("%+v", got.Ways)
		}
		if words := got.Ways[0].Checks[0].Words(Question{Peers: [2]Peer{a.peer(), asked}}, got.Ways[0]); words !=
			"a.ternbay.example will accept b.ternbay.example as a server" {
			t.Error(words)
		}
		asked.Planned.Names = []san.Name{san.Found(san.DNS, "b")}
		if got = Judge(Question{Peers: [2]Peer{a.peer(), asked}, Over: TLS, Now: specimen.Now}); got.Holds() {
			t.Error("a request without the name holds")
		}
		asked.Planned.Names, asked.Planned.Extended = specimen.Names(t, "b.ternbay.example"), nil
	}
}

func extendedOf(t *testing.T, c *cert.Certificate) []byte {
	t.Helper()
	for _, e := range c.Extensions {
		if ext.NameOf(e.ID) == "extended key usage" {
			return e.Value
		}
	}
	t.Fatal("no extended key usage")
	return nil
}

// What the authority above has prepared is needed too, or the pair breaks on that day; and a
// page names both.
func TestTheNextRootIsNeededToo(t *testing.T) {
	a, b := newLine(t, "a.ternbay.example", both...), newLine(t, "b.ternbay.example", both...)
	next := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root of b.ternbay.example", Authority: true,
		Until: b.root.Cert.NotAfter.AddDate(10, 0, 0)})
	older := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root of b.ternbay.example", Authority: true,
		Until: b.root.Cert.NotAfter.AddDate(-1, 0, 0)})
	permitted, err := trust.ParsePermitted([]string{"dns:b.ternbay.example"})
	if err != nil {
		t.Fatal(err)
	}
	q := Question{Peers: [2]Peer{a.peer(), b.peer(next.Cert, older.Cert, next.Cert)}, Over: TLS, Now: specimen.Now}
	got := Judge(q)
	want := trust.Set{Anchors: []trust.Anchor{{Certificate: b.root.Cert}, {Certificate: next.Cert}}}
	if strings.Join(got.Needs[0].Sums(), " ") != strings.Join(want.Sums(), " ") || len(got.Needs[1].Anchors) != 1 {
		t.Errorf("%+v", got.Needs)
	}
	q.Peers[1].Roots.Anchors = []trust.Anchor{{Certificate: b.root.Cert, Permitted: permitted}}
	if got = Judge(q); len(got.Needs[0].Anchors[0].Permitted) != 1 {
		t.Errorf("the names for which the set trusts it are lost: %+v", got.Needs[0])
	}
	if elsewhere, err := trust.ParsePermitted([]string{"dns:c.ternbay.example"}); err != nil {
		t.Fatal(err)
	} else {
		q.Peers[1].Roots.Anchors[0].Permitted = elsewhere
	}
	if bad := Judge(q); bad.Holds() || bad.Ways[0].Checks[0].Findings[0].Code != finding.ConstraintBroken {
		t.Errorf("%+v", bad.Ways)
	}
	page := string(got.Page(q, 0, []string{"kit"}, "a.pem"))
	if strings.Count(page, "SHA-256") != 2 || !strings.Contains(page, "next generation") ||
		!strings.Contains(page, "only for    dns:b.ternbay.example") ||
		!strings.Contains(page, "Let this side present a.pem") {
		t.Error(page)
	}
	if got.Needs[0].Name == got.Needs[1].Name || setName("x!") == setName("x?") || setName("") == "" {
		t.Error("two sets have one name")
	}
}

func TestProtocols(t *testing.T) {
	if _, err := ParseProtocol("tsl"); err == nil || !strings.Contains(err.Error(), "use tls or ike") {
		t.Error(err)
	}
	gate := newLine(t, "gate.ternbay.example", "ipsecIKE")
	free := newLine(t, "free.ternbay.example")
	got := Judge(Question{Peers: [2]Peer{gate.peer(), free.peer()}, Over: IKE, Now: specimen.Now})
	if !got.Holds() {
		t.Errorf("%+v", got.Ways) // RFC 4945 section 5.1.3.12: usages that are not limited serve
	}
	if got = Judge(Question{Peers: [2]Peer{gate.peer(), free.peer()}, Over: TLS, Now: specimen.Now}); got.Holds() {
		t.Error("ipsecIKE served for TLS")
	}
}
