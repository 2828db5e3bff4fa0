package sshagent

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/binary"
	"errors"
	"io"
	"math/big"
	"net"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"ironseal/internal/disk"
	"ironseal/internal/keystore"
	"ironseal/internal/keystore/keyfiles"
	"ironseal/pki/key"
	"ironseal/pki/pbes"
)

var ctx = context.Background()

// serving is an agent that serves each connection by a function.
func serving(t testing.TB, serve func(net.Conn)) *Agent {
	t.Helper()
	if runtime.GOOS == "windows" {
		t.Skip("an agent of Windows has a pipe, and no socket")
	}
	socket := filepath.Join(t.TempDir(), "a")
	l, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go serve(c)
		}
	}()
	return &Agent{Socket: socket, Wait: 2 * time.Second}
}

// holding is an agent with keys.
func holding(t testing.TB, keys ...any) (*Agent, agent.Agent) {
	t.Helper()
	ring := agent.NewKeyring()
	for _, k := range keys {
		if err := ring.Add(agent.AddedKey{PrivateKey: k}); err != nil {
			t.Fatal(err)
		}
	}
	return serving(t, func(c net.Conn) {
		_ = agent.ServeAgent(ring, c) // ends with the connection
		c.Close()
	}), ring
}

func made(t testing.TB) map[string]crypto.Signer {
	t.Helper()
	out := map[string]crypto.Signer{}
	var err error
	for name, c := range map[string]elliptic.Curve{"P-256": elliptic.P256(), "P-384": elliptic.P384(),
		"P-521": elliptic.P521()} {
		if out[name], err = ecdsa.GenerateKey(c, rand.Reader); err != nil {
			t.Fatal(err)
		}
	}
	if out["RSA"], err = rsa.GenerateKey(rand.Reader, 2048); err != nil {
		t.Fatal(err)
	}
	_, ed, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	out["Ed25519"] = ed
	return out
}

func printOf(t testing.TB, k crypto.Signer) string {
	t.Helper()
	s, err := ssh.NewPublicKey(k.Public())
	if err != nil {
		t.Fatal(err)
	}
	return ssh.FingerprintSHA256(s)
}

func storeWith(t testing.TB, a *Agent) *Store {
	t.Helper()
	dir := t.TempDir()
	return &Store{Keystore: &keyfiles.Files{Dir: dir, Random: rand.Reader, Work: pbes.Work{Memory: 8 << 20},
		Pass: always{}}, Dir: dir, Agent: a, Disk: disk.Disk{}}
}

type always struct{}

func (always) Passphrase(context.Context, keystore.Question) ([]byte, bool, error) {
	return []byte("tern and gull"), false, nil
}

// Every kind of key signs through an agent, many times, and the signature is one of X.509.
func TestEveryKindSigns(t *testing.T) {
	for name, k := range made(t) {
		t.Run(name, func(t *testing.T) {
			a, _ := holding(t, k)
			s := storeWith(t, a)
			fresh, err := s.At(ctx, Prefix+printOf(t, k))
			if err != nil {
				t.Fatal(err)
			}
			if err := s.Keep(fresh, nil); err != nil {
				t.Fatal(err)
			}
			if !storeWith(t, a).Has(fresh.Public) || !s.Has(fresh.Public) {
				t.Error("the agent's key is not known")
			}
			opened, err := s.Open(ctx, fresh.Public, "root", keystore.ForCertificate)
			if err != nil {
				t.Fatal(err)
			}
			for range 300 { // short numbers in signatures are rare
				if _, _, err := key.SignMessage([]byte("a certificate"), opened, rand.Reader); err != nil {
					t.Fatal(err)
				}
			}
			opened.Close()
			if _, _, err := key.SignMessage([]byte("a certificate"), opened, rand.Reader); err == nil {
				t.Error("a key that was closed signs")
			}
		})
	}
}

// An agent that lies, stalls, dies or answers garbage signs nothing, and is not waited for longer than it may take.
func TestAnAgentThatLies(t *testing.T) {
	k := made(t)["P-256"]
	other := made(t)["P-256"]
	honest, ring := holding(t, k)
	fresh, err := storeWith(t, honest).At(ctx, Prefix+printOf(t, k))
	if err != nil {
		t.Fatal(err)
	}
	reply := func(body []byte) func(net.Conn) {
		return func(c net.Conn) {
			defer c.Close()
			for {
				var n [4]byte
				if _, err := io.ReadFull(c, n[:]); err != nil {
					return
				}
				if _, err := io.CopyN(io.Discard, c, int64(binary.BigEndian.Uint32(n[:]))); err != nil {
					return
				}
				if _, err := c.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(body))),
					body...)); err != nil {
					return
				}
			}
		}
	}
	signature := func(format string, blob []byte) []byte {
		return append([]byte{14}, ssh.Marshal(struct{ S []byte }{ssh.Marshal(ssh.Signature{Format: format,
			Blob: blob})})...)
	}
	wrongKey := func(c net.Conn) {
		defer c.Close()
		_ = agent.ServeAgent(liar{ring, other}, c)
	}
	for name, serve := range map[string]func(net.Conn){
		"closes at once": func(c net.Conn) { c.Close() },
		"says nothing":   func(c net.Conn) { time.Sleep(10 * time.Second); c.Close() },
		"drips":          func(c net.Conn) { defer c.Close(); drip(c) },
		"failure":        reply([]byte{5}),
		"empty":          reply(nil),
		"garbage":        reply([]byte("garbage that is no answer of an agent")),
		"a huge length": func(c net.Conn) {
			c.Write([]byte{0xff, 0xff, 0xff, 0xff})
			time.
				Sleep(3 * time.Second)
			c.Close()
		},
		"another key signs": wrongKey,
		"another format":    reply(signature(ssh.KeyAlgoRSA, []byte{1, 2, 3})),
		"zeros": reply(signature(ssh.KeyAlgoECDSA256, ssh.Marshal(struct {
			R,
			S *big.Int
		}{new(big.Int), new(big.Int)}))),
		"negative numbers": reply(signature(ssh.KeyAlgoECDSA256, ssh.Marshal(struct{ R, S *big.Int }{big.
			NewInt(-1), big.NewInt(-5)}))),
		"numbers cut off": reply(signature(ssh.KeyAlgoECDSA256, []byte{0, 0, 0, 40, 1})),
		"numbers beyond bounds": reply(signature(ssh.KeyAlgoECDSA256, ssh.Marshal(struct {
			R,
			S *big.Int
		}{new(big.Int).Lsh(big.NewInt(1), 9000), big.NewInt(5)}))),
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			a := serving(t, serve)
			a.Wait = time.Second
			h := &signer{ctx: ctx, agent: a, blob: fresh.Signer().(*signer).blob, public: fresh.Public, handle: "root"}
			begin := time.Now()
			if _, _, err := key.SignMessage([]byte("a certificate"), h, rand.Reader); err == nil {
				t.Error("it signed")
			}
			if took := time.Since(begin); took > 3*time.Second {
				t.Errorf("it was waited for %v", took)
			}
		})
	}
}

// drip sends an octet at a time.
func drip(c net.Conn) {
	for range 100 {
		if _, err := c.Write([]byte{0}); err != nil {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// liar signs with another key than it is asked for.
type liar struct {
	agent.Agent
	other crypto.Signer
}

func (l liar) Sign(_ ssh.PublicKey, data []byte) (*ssh.Signature, error) {
	s, err := ssh.NewSignerFromSigner(l.other)
	if err != nil {
		return nil, err
	}
	return s.Sign(rand.Reader, data)
}

// A key of a file goes into an agent, which must sign with it first; what an agent does not hold any more is told.
func TestAFilesKeyGoesToAnAgent(t *testing.T) {
	for name, k := range made(t) {
		t.Run(name, func(t *testing.T) {
			a, ring := holding(t)
			s := storeWith(t, a)
			fresh, err := keystore.FreshOf(k)
			if err != nil {
				t.Fatal(err)
			}
			if err := s.Keep(fresh, []byte("tern and gull")); err != nil {
				t.Fatal(err)
			}
			if err := s.ToAgent(ctx, fresh.Public, "root", false); err != nil {
				t.Fatal(err)
			}
			if _, err := s.SetAside(fresh.Public, filepath.Join(t.TempDir(), "aside")); err != nil {
				t.Fatal(err)
			}
			again := storeWith(t, a)
			again.Dir = s.Dir
			o, err := again.Open(ctx, fresh.Public, "root", keystore.ForCertificate)
			if err != nil {
				t.Fatal(err)
			}
			if _, _, err := key.SignMessage([]byte("a certificate"), o, rand.Reader); err != nil {
				t.Fatal(err)
			}
			if err := ring.RemoveAll(); err != nil {
				t.Fatal(err)
			}
			late := storeWith(t, a)
			late.Dir = s.Dir
			if _, err := late.Open(ctx, fresh.Public, "root", keystore.ForCertificate); err == nil ||
				!strings.Contains(err.Error(), "does not hold it now") {
				t.Errorf("%v", err)
			}
			late.Agent = nil
			if _, err := late.Open(ctx, fresh.Public, "root", keystore.ForCertificate); err == nil {
				t.Error("it opened without an agent")
			}
		})
	}
}

// What is longer than agents take is refused before it is sent.
func TestLongMessagesAreRefused(t *testing.T) {
	k := made(t)["P-256"]
	a, _ := holding(t, k)
	fresh, err := storeWith(t, a).At(ctx, Prefix+printOf(t, k)[:20])
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := key.SignMessage(make([]byte, MostSigned+1), fresh.Signer(), rand.Reader); err == nil ||
		!strings.Contains(err.Error(), "KiB at once") {
		t.Errorf("%v", err)
	}
	if _, err := storeWith(t, a).At(ctx, Prefix+"SHA256:"); err == nil {
		t.Error("no fingerprint found a key")
	}
	if _, err := storeWith(t, a).At(ctx, "hsm:1"); err == nil || errors.Is(err, io.EOF) {
		t.Errorf("%v", err)
	}
}

// BenchmarkSign compares a signature through an agent with one by the key itself.
func BenchmarkSign(b *testing.B) {
	k := made(b)["P-256"]
	a, _ := holding(b, k)
	fresh, err := storeWith(b, a).At(ctx, Prefix+printOf(b, k))
	if err != nil {
		b.Fatal(err)
	}
	for name, s := range map[string]crypto.Signer{"raw": k, "agent": fresh.Signer()} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if _, _, err := key.SignMessage([]byte("a certificate"), s, rand.Reader); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
