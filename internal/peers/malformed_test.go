//go:build linux

package peers

import (
	"crypto/rand"
	"crypto/x509"
	"fmt"
	mrand "math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/key"
	"ironseal/pki/path"
	"ironseal/pki/specimen"
)

// node is one element of a DER structure, to be changed and written again.
type node struct {
	tag  byte
	data []byte // of a primitive one
	kids []*node
}

func parseDER(b []byte) (list []*node, ok bool) {
	for len(b) > 0 {
		if len(b) < 2 || b[0]&0x1f == 0x1f {
			return nil, false
		}
		n, head := int(b[1]), 2
		if n >= 0x80 {
			size := n & 0x7f
			if size == 0 || size > 3 || len(b) < 2+size {
				return nil, false
			}
			n = 0
			for _, x := range b[2 : 2+size] {
				n = n<<8 | int(x)
			}
			head += size
		}
		if len(b) < head+n {
			return nil, false
		}
		e := &node{tag: b[0], data: b[head : head+n]}
		inner := e.data
		if e.tag == 0x04 || e.tag == 0x30 || e.tag&0x20 != 0 { // what is wrapped in octets is changed too
			if kids, ok := parseDER(inner); ok && len(kids) > 0 {
				e.kids = kids
			}
		}
		list, b = append(list, e), b[head+n:]
	}
	return list, true
}

func (n *node) encode() []byte {
	body := n.data
	if n.kids != nil {
		body = nil
		for _, k := range n.kids {
			body = append(body, k.encode()...)
		}
	}
	out := []byte{n.tag}
	switch l := len(body); {
	case l < 0x80:
		out = append(out, byte(l))
	case l < 0x100:
		out = append(out, 0x81, byte(l))
	default:
		out = append(out, 0x82, byte(l>>8), byte(l))
	}
	return append(out, body...)
}

func (n *node) all() []*node {
	out := []*node{n}
	for _, k := range n.kids {
		out = append(out, k.all()...)
	}
	return out
}

// spoil changes one thing somewhere in a structure.
func spoil(root *node, r *mrand.Rand) string {
	list := root.all()
	n := list[1+r.IntN(len(list)-1)]
	switch op := r.IntN(8); {
	case op == 0 && n.kids == nil && len(n.data) > 0:
		n.data = append([]byte(nil), n.data...)
		n.data[r.IntN(len(n.data))] ^= 1 << r.IntN(8)
		return "a bit"
	case op == 1 && len(n.kids) > 0:
		i := r.IntN(len(n.kids))
		n.kids = append(append([]*node{}, n.kids[:i]...), n.kids[i+1:]...)
		if len(n.kids) == 0 {
			n.kids, n.data = nil, nil
		}
		return "one gone"
	case op == 2 && len(n.kids) > 0:
		i := r.IntN(len(n.kids))
		n.kids = append(append(append([]*node{}, n.kids[:i]...), n.kids[i]), n.kids[i:]...)
		return "one twice"
	case op == 3 && len(n.kids) > 1:
		i, j := r.IntN(len(n.kids)), r.IntN(len(n.kids))
		n.kids = append([]*node{}, n.kids...)
		n.kids[i], n.kids[j] = n.kids[j], n.kids[i]
		return "two swapped"
	case op == 4:
		n.tag = []byte{0x02, 0x03, 0x04, 0x05, 0x0c, 0x13, 0x16, 0x17, 0x18, 0x30, 0x31, 0x80, 0x82, 0x86, 0x87, 0xa0,
			0xa3}[r.IntN(17)]
		return "another tag"
	case op == 5 && n.kids == nil && len(n.data) > 0:
		n.data = n.data[:r.IntN(len(n.data))]
		return "shorter"
	case op == 6:
		n.data, n.kids = append(append([]byte(nil), n.content()...), byte(r.IntN(256))), nil
		return "longer"
	case op == 7:
		n.data, n.kids = nil, nil
		return "empty"
	}
	return spoil(root, r)
}

func (n *node) content() []byte {
	if n.kids == nil {
		return n.data
	}
	var out []byte
	for _, k := range n.kids {
		out = append(out, k.encode()...)
	}
	return out
}

// spoiled is a certificate with some things changed and signed again by its issuer.
func spoiled(t *testing.T, c *cert.Certificate, issuer *specimen.Entity, r *mrand.Rand) []byte {
	list, ok := parseDER(c.TBS)
	if !ok {
		t.Fatal("a certificate of ours does not parse")
	}
	for range 1 + r.IntN(2) {
		spoil(list[0], r)
	}
	der, err := key.SignedObject(list[0].encode(), issuer.Signer, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return der
}

func ours(leaf, mid []byte, root *cert.Certificate) bool {
	l, err := cert.Read(leaf)
	if err != nil {
		return false
	}
	m, err := cert.Read(mid)
	if err != nil {
		return false
	}
	return path.Verify(l, []*cert.Certificate{m},
		path.Question{Anchors: []*cert.Certificate{root}, Now: time.Now()}).Valid
}

func library(leaf, mid, root []byte) error {
	l, err := x509.ParseCertificate(leaf)
	if err != nil {
		return err
	}
	m, err := x509.ParseCertificate(mid)
	if err != nil {
		return err
	}
	r, err := x509.ParseCertificate(root)
	if err != nil {
		return err
	}
	roots, between := x509.NewCertPool(), x509.NewCertPool()
	roots.AddCert(r)
	between.AddCert(m)
	_, err = l.Verify(x509.VerifyOptions{Roots: roots, Intermediates: between,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}})
	return err
}

// Chains that were spoiled and signed again: nothing is accepted here that both the
// Go library and Java refuse.
func TestNothingIsAcceptedThatAllOthersRefuse(t *testing.T) {
	long(t)
	peer(t, "java")
	now := time.Now().UTC().Truncate(time.Second)
	live := func(p specimen.Plan) specimen.Plan {
		p.From, p.Until = now.AddDate(-1, 0, 0), now.AddDate(5, 0, 0)
		return p
	}
	root := specimen.Make(t, nil, live(specimen.Plan{Subject: "CN=Root", Authority: true}))
	mid := specimen.Make(t, root, live(specimen.Plan{Subject: "CN=Services", Authority: true, Zero: true,
		Permit: []string{"ternbay.example", "192.0.2.0/24"}}))
	leaf := specimen.Make(t, mid, live(specimen.Plan{Subject: "CN=a.ternbay.example",
		Names: []string{"a.ternbay.example", "192.0.2.7"}, Extended: []string{"serverAuth"}}))
	dir := t.TempDir()
	write := func(name string, data []byte) {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	seed := uint64(1125) // what is changed where; IRONSEAL_SEED tries other changes
	if text := os.Getenv("IRONSEAL_SEED"); text != "" {
		n, err := strconv.ParseUint(text, 10, 64)
		if err != nil {
			t.Fatal(err)
		}
		seed = n
	}
	r := mrand.New(mrand.NewPCG(seed, 4))
	count, accepted := 6000, 0
	why := map[string]error{}
	for i := range count {
		l, m := leaf.Cert.Raw, mid.Cert.Raw
		if i%3 == 0 {
			m = spoiled(t, mid.Cert, root, r)
		} else {
			l = spoiled(t, leaf.Cert, mid, r)
		}
		if !ours(l, m, root.Cert) {
			continue
		}
		accepted++
		if err := library(l, m, root.Cert.Raw); err != nil {
			name := fmt.Sprintf("%06d", i)
			why[name] = err
			write("chains/"+name+"/leaf.der", l)
			write("chains/"+name+"/mid.der", m)
		}
	}
	if accepted == 0 || accepted == count {
		t.Fatalf("%d of %d were accepted: the test tries nothing", accepted, count)
	}
	t.Logf("seed %d: %d of %d are accepted here, %d of them not by the Go library", seed, accepted, count, len(why))
	if len(why) == 0 {
		return
	}
	write("root.der", root.Cert.Raw)
	both := map[string]int{}
	for _, line := range strings.Split(strings.TrimSpace(java(t, "ValidateChains.java", nil,
		filepath.Join(dir, "root.der"), filepath.Join(dir, "chains"))), "\n") {
		name, verdict, _ := strings.Cut(line, " ")
		if strings.HasPrefix(verdict, "refused") {
			key := fmt.Sprintf("%v | %s", why[name], verdict)
			if both[key]++; both[key] == 1 {
				t.Errorf("accepted here, and refused by both: %s: %s", name, key)
			}
		}
	}
}
