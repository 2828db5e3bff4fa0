package keyfiles

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"path/filepath"

	"ironseal/internal/keystore"
	"ironseal/pki/fault"
	"ironseal/pki/key"
	"ironseal/pki/shamir"
)

// A key that custodians hold together is in a file as others are. What opens it is a random secret, which no file has:
// it was divided among them. A note beside the file says who they are. It names the file that it belongs to by its
// digest, and is written before that file: whenever an act is cut off, the note that counts is the one of the file that
// is there.

// note is the name of a note, for a key's file with a digest.
func note(fingerprint, file string) string { return fingerprint + "." + file[:16] + ".shares" }

// sharesOf is the note of a key's file, as it is now; nil where a passphrase opens it.
func (c *Files) sharesOf(public key.Public, data []byte) (*shamir.Note, error) {
	sum := sha256.Sum256(data)
	file := hex.EncodeToString(sum[:])
	text, _, err := c.load(note(fmt.Sprintf("%x", public.Fingerprint()), file))
	if err != nil {
		return nil, nil // no note: whoever has a passphrase is asked
	}
	var n shamir.Note
	if err := json.Unmarshal(text, &n); err != nil || n.File != file || n.Need < 2 || len(n.Custodians) > shamir.Most ||
		n.Need > len(n.Custodians) {
		return nil, fault.New(fault.Internal, "the note of who has shares of a key cannot be read: restore it from "+
			"a backup")
	}
	return &n, nil
}

// NoteShares implements keystore.Rewrapper.
func (c *Files) NoteShares(r keystore.Rewrapped, n shamir.Note) error {
	n.File = fmt.Sprintf("%x", r.SHA256())
	text, err := json.MarshalIndent(n, "", "  ")
	if err != nil {
		return err
	}
	name, text := note(fmt.Sprintf("%x", r.Fingerprint()), n.File), append(text, '\n')
	if w, ours := r.(*rewrapped); ours && w.shelved {
		return c.shelve(context.Background(), name, text)
	}
	return c.Disk.Replace(filepath.Join(c.Dir, name), text, 0o600)
}

// Shares implements keystore.Keystore.
func (c *Files) Shares(public key.Public) (*shamir.Note, error) {
	_, data, _, err := c.read(public, "")
	if err != nil {
		return nil, nil // it is not here
	}
	return c.sharesOf(public, data)
}

// dropNotes takes away the notes of earlier files of a key.
func (c *Files) dropNotes(r *rewrapped) error {
	print := fmt.Sprintf("%x", r.Fingerprint())
	list, err := c.notes(print, false)
	if err != nil {
		return err
	}
	keep := note(print, fmt.Sprintf("%x", r.SHA256()))
	for _, n := range list {
		if n != keep {
			if err := c.Disk.Remove(filepath.Join(c.Dir, n)); err != nil {
				return err
			}
		}
	}
	return nil
}
