// Command work does one thing with an input of size n and counts how often each statement of the core ran. It
// is built with -cover, and writes the counters of case after case into folders NAME-SIZE.
package main

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"encoding/asn1"
	"fmt"
	"math/big"
	"os"
	"path/filepath"
	"runtime/coverage"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/distpoint"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/handover"
	"ironseal/pki/kit"
	"ironseal/pki/match"
	"ironseal/pki/ocsp"
	"ironseal/pki/pair"
	"ironseal/pki/path"
	"ironseal/pki/pkcs"
	"ironseal/pki/request"
	"ironseal/pki/revocation"
	"ironseal/pki/specimen"
	"ironseal/pki/status"
	"ironseal/pki/trust"
)

// tb lets specimens be made outside of a test.
type tb struct{ testing.TB }

func (tb) Helper() {}

func (tb) Fatal(args ...any) { panic(fmt.Sprint(args...)) }

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// one is a case: it makes an input of size n, and gives what is to be counted.
type one struct {
	name string
	from int
	make func(n int) func()
}

func hosts(n int) (out []string) {
	for i := range n {
		out = append(out, fmt.Sprintf("h%d.ternbay.example", i))
	}
	return out
}

var w = specimen.NewLine(tb{})

func leaf(p specimen.Plan) *specimen.Entity {
	if p.Subject == "" {
		p.Subject = "CN=a.ternbay.example"
	}
	return specimen.Make(tb{}, w.Mid, p)
}

func leaves(n int) (out []*cert.Certificate) {
	for range n {
		out = append(out, leaf(specimen.Plan{Names: []string{"a.ternbay.example"}}).Cert)
	}
	return out
}

// twins are authorities of one name with n keys, each of which may have issued the leaf.
func twins(n int) (out []*cert.Certificate) {
	for range n {
		out = append(out, specimen.Make(tb{}, w.Root, specimen.Plan{Subject: "CN=Services", Authority: true,
			NoKeyIDs: true}).Cert)
	}
	return out
}

func list(by *specimen.Entity, number int64, at string, entries int) *revocation.List {
	d := revocation.Draft{Issuer: by.Cert.Subject, KeyID: by.Cert.SubjectKey, Number: number,
		This: specimen.Now.Add(-time.Hour), Next: specimen.Now.Add(time.Hour)}
	if at != "" {
		s := distpoint.Scope{Names: []distpoint.Name{{URI: at}}, Reasons: distpoint.AllReasons}
		d.Scope = &s
	}
	var rows []byte
	for i := range entries {
		serial := cert.SerialOf(big.NewInt(1<<40 + int64(i)))
		rows = must(revocation.AppendEntry(rows, revocation.Entry{Serial: serial, At: specimen.Now,
			Reason: revocation.Superseded}))
	}
	return must(revocation.ReadList(must(d.Sign([][]byte{rows}, by.Signer, rand.Reader, nil))))
}

func answer(n int) []byte {
	d := ocsp.Draft{Responder: w.Mid.Cert, Attach: true, At: specimen.Now}
	for range n {
		c := leaf(specimen.Plan{})
		d.Responses = append(d.Responses, ocsp.SingleResponse{ID: must(ocsp.IDOf(crypto.SHA1, w.Mid.Cert,
			c.Cert.Serial)),
			Status: ocsp.Good, This: specimen.Now, Next: specimen.Now.Add(time.Hour)})
	}
	return must(d.Sign(w.Mid.Signer, rand.Reader))
}

func addresses(n int) (out []string) {
	for i := range n {
		out = append(out, fmt.Sprintf("http://pki.ternbay.example/%d.crl", i))
	}
	return out
}

func pem(list []*cert.Certificate) []byte {
	var b bytes.Buffer
	for _, c := range list {
		b.Write(bundle.PEM(bundle.Certificate, c.Raw))
	}
	return b.Bytes()
}

func question() path.Question {
	return path.Question{Now: specimen.Now, Anchors: []*cert.Certificate{w.Root.Cert}}
}

// constrained is a chain whose authority has n permitted and n excluded trees, and a leaf with n names.
func constrained(names, trees int) (chain []*cert.Certificate) {
	var permit, exclude []string
	for i := range trees {
		permit = append(permit, fmt.Sprintf("h%d.ternbay.example", i))
		exclude = append(exclude, fmt.Sprintf("x%d.ternbay.example", i))
	}
	ca := specimen.Make(tb{}, w.Root, specimen.Plan{Subject: "CN=Narrow", Authority: true, Permit: permit,
		Exclude: exclude})
	return []*cert.Certificate{specimen.Make(tb{}, ca, specimen.Plan{Subject: "CN=h0.ternbay.example",
		Names: hosts(names)}).Cert, ca.Cert}
}

var cases = []one{
	{"a name with parts", 50, func(n int) func() {
		der := must(dn.Parse("CN=a" + strings.Repeat(",OU=x", n))).DER()
		return func() { _, _ = dn.Read(der) }
	}},
	{"a certificate with names", 200, func(n int) func() {
		der := leaf(specimen.Plan{Names: hosts(n)}).Cert.Raw
		return func() { must(cert.Read(der)) }
	}},
	{"a certificate with extensions", 20, func(n int) func() {
		var more ext.Set
		for i := range n {
			more = append(more, ext.Extension{ID: asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 32473, 99, i},
				Value: []byte{5, 0}})
		}
		der := leaf(specimen.Plan{Extra: more}).Cert.Raw
		return func() { must(cert.Read(der)) }
	}},
	{"a request with names", 200, func(n int) func() {
		r := specimen.Request(tb{}, nil, "CN=a.ternbay.example", hosts(n))
		return func() { must(request.Read(r.Raw)) }
	}},
	{"distribution points", 20, func(n int) func() {
		value := ext.ListAddresses(addresses(n)).Value
		return func() { must(distpoint.Read(value, w.Mid.Cert.Subject)) }
	}},
	{"policies", 20, func(n int) func() {
		var ids []string
		for i := range n {
			ids = append(ids, fmt.Sprintf("1.3.6.1.4.1.32473.%d", i))
		}
		value := must(ext.Policies(ids)).Value
		return func() { must(ext.ReadPolicies(value)) }
	}},
	{"a list with entries", 2000, func(n int) func() {
		der := list(w.Mid, 1, "", n).Raw
		return func() { must(revocation.ReadList(der)) }
	}},
	{"every entry of a list", 2000, func(n int) func() {
		l := list(w.Mid, 1, "", n)
		return func() { _ = l.Each(func(revocation.Entry) error { return nil }) }
	}},
	{"an answer about certificates", 50, func(n int) func() {
		der := answer(n)
		return func() { must(ocsp.ReadResponse(der)) }
	}},
	{"a heap of PEM", 50, func(n int) func() {
		data := pem(leaves(n))
		return func() { must(bundle.Read(data)) }
	}},
	{"a heap of noise", 4000, func(n int) func() {
		data := []byte(strings.Repeat("-----BEGIN -----END 0\x30\x82\n", n))
		return func() { _, _ = bundle.Read(data) }
	}},
	{"signed data", 50, func(n int) func() {
		var raw [][]byte
		for _, c := range leaves(n) {
			raw = append(raw, c.Raw)
		}
		der := must(pkcs.WriteSignedData(raw))
		return func() { must(pkcs.ReadSignedData(der)) }
	}},
	{"a table of parties", 200, func(n int) func() {
		data := []byte("party,endpoint\n" + strings.Join(hosts(n), ",a:1\n") + ",a:1\n")
		return func() { must(trust.ReadParties(data)) }
	}},
	{"reports of kits", 200, func(n int) func() {
		row := `{"host":"quay","platform":"debian","store":"/x","act":"check","sha256":["` + strings.Repeat("a", 64) +
			`"],"missing":[],"when":"2026-01-01T00:00:00Z"}` + "\n"
		data := []byte(strings.Repeat(row, n))
		return func() { _, _ = kit.ReadReports(data, specimen.Now.AddDate(10, 0, 0)) }
	}},
	{"a chain among strangers", 20, func(n int) func() {
		others := append(twins(n), w.Mid.Cert)
		return func() { path.Verify(w.Leaf.Cert, others, question()) }
	}},
	{"names under many trees", 100, func(n int) func() {
		chain := constrained(n, n)
		return func() { path.Verify(chain[0], chain[1:], question()) }
	}},
	{"status by many lists", 100, func(n int) func() {
		var lists []*revocation.List
		for i := range n {
			lists = append(lists, list(w.Mid, int64(i+1), addresses(n)[i], 1))
		}
		return func() {
			status.New(status.Evidence{Lists: lists}, question(), true).Of([]*cert.Certificate{w.Leaf.Cert,
				w.Mid.Cert,
				w.Root.Cert})
		}
	}},
	{"status by many signers", 10, func(n int) func() {
		unknown := specimen.Make(tb{}, w.Root, specimen.Plan{Subject: "CN=Services", Authority: true})
		l, signers := list(unknown, 1, "", 1), twins(n)
		return func() {
			status.New(status.Evidence{Lists: []*revocation.List{l}, Signers: signers}, question(),
				true).Of([]*cert.Certificate{w.Leaf.Cert, w.Mid.Cert, w.Root.Cert})
		}
	}},
	{"status by many answers", 10, func(n int) func() {
		var answers []*ocsp.Response
		for range n {
			answers = append(answers, must(ocsp.ReadResponse(answer(1))))
		}
		return func() {
			status.New(status.Evidence{Answers: answers}, question(), true).Of([]*cert.Certificate{w.Leaf.Cert,
				w.Mid.Cert, w.Root.Cert})
		}
	}},
	{"a heap in order", 20, func(n int) func() {
		heap := append(leaves(1), twins(n)...)
		return func() { _, _, _ = handover.Sort(heap, nil) }
	}},
	{"a heap of one name in order", 20, func(n int) func() {
		heap := append(leaves(n), twins(n)...)
		return func() { _, _, _ = handover.Sort(heap, nil) }
	}},
	{"strangers above strangers", 20, func(n int) func() {
		above := twins(n)
		for range n {
			above = append(above, specimen.Make(tb{}, specimen.Make(tb{}, nil, specimen.Plan{Subject: "CN=Services",
				Authority: true}), specimen.Plan{Subject: "CN=Services", Authority: true, NoKeyIDs: true}).Cert)
		}
		return func() { path.Verify(w.Leaf.Cert, above, question()) }
	}},
	{"relations of a heap", 20, func(n int) func() {
		var heap []match.Thing
		for _, c := range leaves(n) {
			heap = append(heap, match.Thing{Certificate: c})
		}
		return func() { match.Find(heap) }
	}},
	{"relations of one name", 150, func(n int) func() {
		var heap []match.Thing
		for _, c := range append(twins(n), leaves(n)...) {
			heap = append(heap, match.Thing{Certificate: c})
		}
		return func() { match.Find(heap) }
	}},
	{"a pair with many roots", 10, func(n int) func() {
		side := pair.Peer{Chain: []*cert.Certificate{w.Leaf.Cert, w.Mid.Cert},
			Roots: trust.Set{Name: "own", Anchors: anchors(append(twins(n), w.Root.Cert))}}
		return func() {
			pair.Judge(pair.Question{Peers: [2]pair.Peer{side, side}, Over: pair.TLS, Now: specimen.Now})
		}
	}},
}

func anchors(list []*cert.Certificate) (out []trust.Anchor) {
	for _, c := range list {
		out = append(out, trust.Anchor{Certificate: c, Purposes: trust.Purposes()})
	}
	return out
}

func main() {
	percent := must(strconv.Atoi(os.Args[2])) // of the size of each case
	for n, c := range cases {
		for times := range 2 {
			do := c.make(c.from * percent / 100 << times)
			if err := coverage.ClearCounters(); err != nil {
				panic(err)
			}
			do()
			dir := filepath.Join(os.Args[1], fmt.Sprintf("%d-%d", n, times))
			if err := os.MkdirAll(dir, 0o755); err != nil {
				panic(err)
			}
			if err := coverage.WriteMetaDir(dir); err != nil {
				panic(err)
			}
			if err := coverage.WriteCountersDir(dir); err != nil {
				panic(err)
			}
		}
		fmt.Println(c.name)
	}
}
