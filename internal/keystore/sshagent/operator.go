package sshagent

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"

	"golang.org/x/crypto/ssh"

	"ironseal/internal/disk"
	"ironseal/internal/keystore"
	"ironseal/pki/fault"
	"ironseal/pki/operator"
)

// Keys are the keys of the person at this machine: in an agent, in a file, or in both.
type Keys struct {
	Agent *Agent // nil for none
	File  string // a private key as SSH keeps it; "" for none
	Pass  keystore.Passphrases

	open ssh.Signer // of the file
}

// Holding finds the first of some keys that can sign here, and how. It is -1 if none exists; why says what could
// not be asked.
func (k *Keys) Holding(ctx context.Context, among []operator.Key) (at int, sign func([]byte) ([]byte, error),
	why error) {
	if k.File != "" {
		s, err := k.fromFile(ctx)
		if err != nil {
			return -1, nil, err
		}
		mine, err := operator.KeyOf(s.PublicKey().Marshal())
		if err != nil {
			return -1, nil, err
		}
		for i, want := range among {
			if want.Same(mine) {
				return i, func(data []byte) ([]byte, error) { return signFile(s, data) }, nil
			}
		}
	}
	if k.Agent == nil {
		return -1, nil, nil
	}
	list, err := k.Agent.List(ctx)
	if err != nil {
		return -1, nil, err
	}
	held := Accepted(list)
	for i, want := range among {
		for _, have := range held {
			if want.Same(have) {
				return i, func(data []byte) ([]byte, error) {
					s, err := k.Agent.Sign(ctx, want.Blob(), data, false)
					if err != nil {
						return nil, err
					}
					return Marshal(s), nil
				}, nil
			}
		}
	}
	return -1, nil, nil
}

func signFile(s ssh.Signer, data []byte) ([]byte, error) {
	algorithm := ""
	if s.PublicKey().Type() == ssh.KeyAlgoRSA {
		algorithm = ssh.KeyAlgoRSASHA512
	}
	by, ok := s.(ssh.AlgorithmSigner)
	if !ok {
		return nil, errors.New("this key cannot sign")
	}
	out, err := by.SignWithAlgorithm(rand.Reader, data, algorithm)
	if err != nil {
		return nil, err
	}
	return Marshal(out), nil
}

// fromFile opens the key of the file, once.
func (k *Keys) fromFile(ctx context.Context) (ssh.Signer, error) {
	if k.open != nil {
		return k.open, nil
	}
	data, err := disk.Read(k.File, operator.Most)
	if err != nil {
		return nil, fmt.Errorf("operator's key: %w", err)
	}
	defer clear(data)
	s, err := ssh.ParsePrivateKey(data)
	if _, sealed := errors.AsType[*ssh.PassphraseMissingError](err); sealed {
		s, err = k.unlock(ctx, data)
	}
	if err != nil {
		return nil, fault.New(fault.BadInput, "operator's key %s: %w", k.File, err)
	}
	k.open = s
	return s, nil
}

func (k *Keys) unlock(ctx context.Context, data []byte) (ssh.Signer, error) {
	for tried := 1; ; tried++ {
		secret, final, err := k.Pass.Passphrase(ctx, keystore.Question{Handle: k.File, Purpose: "to sign acts",
			Again: tried > 1})
		if err != nil {
			return nil, err
		}
		s, err := ssh.ParsePrivateKeyWithPassphrase(data, secret)
		clear(secret)
		if err == nil || final || tried == keystore.Tries {
			return s, err
		}
	}
}
