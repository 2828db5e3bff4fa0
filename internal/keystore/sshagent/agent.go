// Package sshagent signs with keys that an SSH agent holds: an operator's, or an authority's. The agent may be a locked
// one on another machine, reached by a forwarded socket, or may hold keys that never leave a token. It is spoken to as
// something that may stall, lie, or die: every question has a time-out, and every signature is verified by whoever
// asked for it.
package sshagent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"runtime"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/operator"
)

// Agent is an SSH agent. Each question connects again, so that an agent which was restarted serves too.
type Agent struct {
	Socket string        // a socket's path; on Windows a pipe's name
	Wait   time.Duration // for each answer; 0 is DefaultWait
}

// DefaultWait is how long an answer is waited for that needs no confirmation.
const DefaultWait = 15 * time.Second

// pipe is where Windows has its agent.
const pipe = `\\.\pipe\openssh-ssh-agent`

// Here is the agent that the environment names; nil where it names none.
func Here(env func(string) string) *Agent {
	if socket := strings.TrimSpace(env("SSH_AUTH_SOCK")); socket != "" {
		return &Agent{Socket: socket}
	}
	if runtime.GOOS == "windows" {
		if _, err := os.Stat(pipe); err == nil {
			return &Agent{Socket: pipe}
		}
	}
	return nil
}

// Held is a key that an agent holds.
type Held struct {
	Blob    []byte // as SSH writes it
	Format  string
	Comment string
}

// mostKeys bounds how many keys of an agent are looked at.
const mostKeys = 1000

// List tells which keys the agent holds.
func (a *Agent) List(ctx context.Context) ([]Held, error) {
	list, err := ask(ctx, a, func(c agent.ExtendedAgent) ([]*agent.Key, error) { return c.List() })
	if err != nil {
		return nil, err
	}
	if len(list) > mostKeys {
		list = list[:mostKeys]
	}
	var out []Held
	for _, k := range list {
		out = append(out, Held{k.Blob, k.Format, k.Comment})
	}
	return out, nil
}

// Sign lets the agent sign with a key. RSA keys sign with SHA-512, or with SHA-256 where that is asked for.
func (a *Agent) Sign(ctx context.Context, blob, data []byte, sha256 bool) (*ssh.Signature, error) {
	key, err := ssh.ParsePublicKey(blob)
	if err != nil {
		return nil, fault.New(fault.BadInput, "this is no key of an agent: %w", err)
	}
	var flags agent.SignatureFlags
	if key.Type() == ssh.KeyAlgoRSA {
		if flags = agent.SignatureFlagRsaSha512; sha256 {
			flags = agent.SignatureFlagRsaSha256
		}
	}
	out, err := ask(ctx, a, func(c agent.ExtendedAgent) (*ssh.Signature, error) {
		return c.SignWithFlags(key, data, flags)
	})
	if err == nil && out == nil {
		err = errors.New("the agent answered without a signature")
	}
	return out, err
}

// ask asks one question on a connection of its own. It returns when the time is over, whatever the agent does; what the
// agent answers after that is dropped.
func ask[T any](ctx context.Context, a *Agent, question func(agent.ExtendedAgent) (T, error)) (T, error) {
	var none T
	wait := a.Wait
	if wait == 0 {
		wait = DefaultWait
	}
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	conn, err := dial(ctx, a.Socket)
	if err != nil {
		return none, fault.New(fault.Unavailable, "the SSH agent at %s cannot be reached: %w", a.Socket, err).Then(
			advice.Say("start it, or name another by SSH_AUTH_SOCK"))
	}
	type answer struct {
		said T
		err  error
	}
	done := make(chan answer, 1)
	go func() {
		defer func() {
			if bad := recover(); bad != nil {
				done <- answer{err: fmt.Errorf("its answer cannot be read: %v", bad)}
			}
		}()
		said, err := question(agent.NewClient(conn))
		done <- answer{said, err}
	}()
	var got answer
	select {
	case got = <-done:
	case <-ctx.Done():
		got.err = fmt.Errorf("it did not answer within %s", wait)
		if cause := context.Cause(ctx); !errors.Is(cause, context.DeadlineExceeded) {
			got.err = cause
		}
	}
	closed := conn.Close()
	if got.err != nil {
		return none, fault.New(fault.Unavailable, "the SSH agent at %s: %w", a.Socket, got.err)
	}
	return got.said, closed
}

// dial reaches an agent.
func dial(ctx context.Context, socket string) (io.ReadWriteCloser, error) {
	if strings.HasPrefix(socket, `\\.\pipe\`) {
		return os.OpenFile(socket, os.O_RDWR, 0)
	}
	return (&net.Dialer{}).DialContext(ctx, "unix", socket)
}

// Marshal writes a signature as SSH does.
func Marshal(s *ssh.Signature) []byte { return ssh.Marshal(s) }

// Accepted are the keys of an agent that an operator may have.
func Accepted(list []Held) (out []operator.Key) {
	for _, h := range list {
		if k, err := operator.KeyOf(h.Blob); err == nil {
			out = append(out, k)
		}
	}
	return out
}
