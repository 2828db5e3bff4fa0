package enrol

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
)

// ServeFolder holds what a server of the estate needs to start without a person, in the estate. Only its owner can
// read it.
const ServeFolder = "serve"

const secretFile = "machines.secret"

// Secret is the one secret of the servers of an estate, from which those of protocols are made: of account credentials,
// of nonces. It is made at the first use. Where it is lost, nothing that was issued is: credentials that no one used
// yet
// have to be made again.
func Secret(e *estate.Estate) ([]byte, error) {
	dir := filepath.Join(e.Dir, ServeFolder)
	path := filepath.Join(dir, secretFile)
	secret, err := readSecret(path)
	if !errors.Is(err, fs.ErrNotExist) {
		return secret, err
	}
	if err := disk.OwnDir(dir); err != nil {
		return nil, err
	}
	secret = make([]byte, 32)
	if _, err := io.ReadFull(e.Env.Random, secret); err != nil {
		return nil, err
	}
	if err := e.Env.Disk.New(path, secret, 0o600); err != nil && !errors.Is(err, disk.ErrExists) {
		return nil, err
	}
	return readSecret(path) // another program may have been quicker
}

func readSecret(path string) ([]byte, error) {
	secret, err := disk.ReadRegular(path, 64)
	if err != nil {
		return nil, err
	}
	if why := disk.Untrusted(path); why != "" {
		return nil, fmt.Errorf("%s: %s", path, why)
	}
	if len(secret) != 32 {
		return nil, fmt.Errorf("%s: it is not a secret of 32 octets: remove it, and make new credentials", path)
	}
	return secret, nil
}
