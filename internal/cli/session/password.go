package session

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/keystore"
	"ironseal/internal/term"
)

// PasswordFlags say where the password of an encrypted file comes from.
type PasswordFlags struct {
	File string
	Made bool
}

// Add adds the options to a command.
func (f *PasswordFlags) Add(c *cobra.Command) {
	c.Flags().StringVar(&f.File, "encrypt-with", "", "the password of the file that is written, from a `FILE`")
	c.Flags().BoolVar(&f.Made, "make-password", false, "make a password, and show it once")
}

// Password gives the password for a new file; made says that it was made here.
func (s *Session) Password(ctx context.Context, f PasswordFlags, what string) (secret []byte, made bool, err error) {
	switch {
	case f.File != "" && f.Made:
		return nil, false, Misused("--encrypt-with and --make-password: use one of the two")
	case f.File != "":
		secret, err = keystore.ReadPassphraseFile(s.Path(f.File))
		return secret, false, err
	case f.Made:
		b := make([]byte, 15)
		if _, err := rand.Read(b); err != nil {
			return nil, false, err
		}
		return []byte(strings.ToLower(base32.StdEncoding.EncodeToString(b))), true, nil
	}
	only := &Passphrases{App: s.App, Errs: s.Errs}
	secret, _, err = only.Choose(ctx, what)
	if errors.Is(err, term.ErrNoTerminal) {
		err = Misused("%s needs a password: give --encrypt-with FILE or --make-password", what)
	}
	return secret, false, err
}
