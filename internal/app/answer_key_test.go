//go:build unix

package app_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"net"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	xocsp "golang.org/x/crypto/ocsp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"ironseal/internal/app/revoke/publishing"
	"ironseal/internal/keystore/sshagent"
	"ironseal/pki/ocsp"
)

// moody is an agent that signs as it is asked, signs with another key, or does not answer.
type moody struct {
	agent.Agent
	mood  *atomic.Int32 // 0, 1, 2
	other crypto.Signer
}

func (m moody) SignWithFlags(k ssh.PublicKey, data []byte, _ agent.SignatureFlags) (*ssh.Signature, error) {
	switch m.mood.Load() {
	case 1:
		s, err := ssh.NewSignerFromSigner(m.other)
		if err != nil {
			return nil, err
		}
		return s.Sign(rand.Reader, data)
	case 2:
		time.Sleep(10 * time.Second)
	}
	return m.Agent.Sign(k, data)
}

func (m moody) Extension(string, []byte) ([]byte, error) { return nil, agent.ErrExtensionUnsupported }

func socketOf(t *testing.T, a agent.Agent) *sshagent.Agent {
	t.Helper()
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
			go func() {
				_ = agent.ServeAgent(a, c) // ends with the connection
				c.Close()
			}()
		}
	}()
	return &sshagent.Agent{Socket: socket}
}

// A key that an agent holds signs OCSP answers. An agent that lies signs none that is handed out, and one that does not
// answer is waited for only a moment.
func TestAnAgentsKeySignsAnswers(t *testing.T) {
	t.Parallel()
	dir, e, list := signed(t, 1)
	e.Close()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	other, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	ring := agent.NewKeyring()
	if err := ring.Add(agent.AddedKey{PrivateKey: k}); err != nil {
		t.Fatal(err)
	}
	public, err := ssh.NewPublicKey(k.Public())
	if err != nil {
		t.Fatal(err)
	}
	mood := &atomic.Int32{}
	w := world()
	w.Agent = socketOf(t, moody{ring, mood, other})
	e = reopen(t, dir, w)
	e.Settings.Serve.AnswerKey = sshagent.Prefix + ssh.FingerprintSHA256(public)
	services, err := e.Generation(ctx, "services")
	if err != nil {
		t.Fatal(err)
	}
	l := live(t, e, "")
	if err := l.Keep(ctx, publishing.Ask{Only: []string{"services"}}); err != nil {
		t.Fatal(err)
	}
	asked, err := xocsp.CreateRequest(parsed(t, list[0].Certificate), parsed(t, services.Certificate), nil)
	if err != nil {
		t.Fatal(err)
	}
	a, err := xocsp.ParseResponseForCert(response(t, e, l, asked), parsed(t, list[0].Certificate),
		parsed(t, services.Certificate))
	if err != nil || a.Status != xocsp.Good || !k.PublicKey.Equal(a.Certificate.PublicKey) {
		t.Fatalf("%+v, %v", a, err)
	}
	for how, want := range map[int32]ocsp.ResponseStatus{1: ocsp.InternalError, 2: ocsp.TryLater} {
		mood.Store(how)
		fresh := live(t, e, "")
		fresh.Inherit(l)
		head, _, err := e.Records.Newest(ctx)
		if err == nil {
			err = fresh.Update(ctx, head.Seq, nil)
		}
		if err != nil {
			t.Fatal(err)
		}
		begin := time.Now()
		if told, err := fresh.Answer(ctx, asked); err == nil || told.Status != want || time.
			Since(begin) > 8*time.Second {
			t.Errorf("%v, %v after %v: %v was expected", told.Status, err, time.Since(begin), want)
		}
	}
	e.Settings.Serve.AnswerKey = sshagent.Prefix + "SHA256:nothing"
	if err := live(t, e, "").Keep(ctx, publishing.Ask{}); err == nil {
		t.Error("a key that the agent does not hold")
	}
}
