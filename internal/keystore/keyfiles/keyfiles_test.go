package keyfiles

import (
	"context"
	"crypto"
	"crypto/rand"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironseal/internal/keystore"
	"ironseal/pki/key"
	"ironseal/pki/pbes"
)

// fromFile answers from a file, as the command line does.
type fromFile string

func (f fromFile) Passphrase(context.Context, keystore.Question) ([]byte, bool, error) {
	b, err := keystore.ReadPassphraseFile(string(f))
	return b, true, err
}

func write(t *testing.T, text string) string {
	t.Helper()
	p := filepath.Join(t.TempDir(), "pass")
	if err := os.WriteFile(p, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return p
}

func TestOnlyTheSamePassphraseOpens(t *testing.T) {
	ctx := context.Background()
	c := Files{Dir: t.TempDir(), Random: rand.Reader, Work: pbes.Work{Memory: 1 << 14},
		Pass: fromFile(write(t, "tern and gull\n"))}
	fresh, err := c.Make(ctx, key.P256)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := c.Choose(ctx, "root")
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Keep(fresh, secret); err != nil {
		t.Fatal(err)
	}
	if err := c.Keep(fresh, secret); err == nil {
		t.Error("a key file must never be overwritten")
	}
	for _, p := range []struct {
		text string
		open bool
	}{
		// of one length
		{"tern and gull\n", true}, {"tern and gull", true}, {"tern and gull\r\n", true}, {"tern and skua\n", false},
		{"tern and gull\n\n", false}, {" tern and gull", false}, {strings.Repeat("\x00", 13), false},
	} {
		t.Run(p.text, func(t *testing.T) {
			c.Forget()
			c.Pass = fromFile(write(t, p.text))
			o, err := c.Open(ctx, fresh.Public, "root", keystore.ForCertificate)
			if (err == nil) != p.open {
				t.Errorf("passphrase %q: %v", p.text, err)
			}
			if !p.open && !errors.Is(err, pbes.ErrPassphrase) {
				t.Errorf("passphrase %q: %v", p.text, err)
			}
			if o != nil {
				o.Close()
				if _, err := o.Sign(rand.Reader, make([]byte, 32), nil); err == nil {
					t.Error("a closed key signed")
				}
			}
		})
	}
}

func TestPassphrasesAreNormalised(t *testing.T) {
	composed, err := keystore.ReadPassphraseFile(write(t, "bl\u00e5skjell\n"))
	if err != nil {
		t.Fatal(err)
	}
	apart, err := keystore.ReadPassphraseFile(write(t, "bla\u030askjell\n"))
	if err != nil || string(apart) != string(composed) || string(composed) != "bl\u00e5skjell" {
		t.Errorf("%q and %q must be one passphrase: %v", composed, apart, err)
	}
	for _, empty := range []string{"", "\n"} {
		if _, err := keystore.ReadPassphraseFile(write(t, empty)); err == nil {
			t.Error("an empty passphrase file must be refused")
		}
	}
}

func TestAKeyFileThatWasSwappedIsNoticed(t *testing.T) {
	ctx := context.Background()
	c := Files{Dir: t.TempDir(), Random: rand.Reader, Work: pbes.Work{Memory: 1 << 14}, Pass: fromFile(write(t, "x"))}
	var files []string
	var kept []*keystore.Fresh
	for range 2 {
		f, err := c.Make(ctx, key.P256)
		if err != nil {
			t.Fatal(err)
		}
		if err := c.Keep(f, []byte("x")); err != nil {
			t.Fatal(err)
		}
		files, kept = append(files, c.path(f.Public)), append(kept, f)
	}
	if err := os.Rename(files[0], files[1]); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Open(ctx, kept[1].Public, "root", keystore.ForCertificate); err == nil ||
		!strings.Contains(err.Error(), "another key") {
		t.Errorf("%v", err)
	}
	if _, err := c.Open(ctx, kept[0].Public, "root", keystore.ForCertificate); err == nil || c.Has(kept[0].Public) {
		t.Errorf("a missing key: %v", err)
	}
}

// counting counts how often it was asked.
type counting struct{ asked int }

func (c *counting) Passphrase(context.Context, keystore.Question) ([]byte, bool, error) {
	c.asked++
	return []byte("tern and gull"), true, nil
}

// A key that was opened serves until the estate is closed. Then nothing is left of it, nor of a passphrase that
// was not used.
func TestAKeyIsOpenedOnce(t *testing.T) {
	ctx, asks := context.Background(), &counting{}
	c := Files{Dir: t.TempDir(), Random: rand.Reader, Work: pbes.Work{Memory: 1 << 14}, Pass: asks}
	fresh, err := c.Make(ctx, key.P256)
	if err != nil {
		t.Fatal(err)
	}
	if err := c.ChooseAhead(ctx, "root"); err != nil {
		t.Fatal(err)
	}
	secret, err := c.Choose(ctx, "root")
	if err != nil || asks.asked != 1 {
		t.Fatalf("asked %d times: %v", asks.asked, err)
	}
	if err := c.Keep(fresh, secret); err != nil {
		t.Fatal(err)
	}
	if err := c.Ahead(ctx, fresh.Public, "root", keystore.ForCertificate); err != nil {
		t.Fatal(err)
	}
	var uses []keystore.Opened
	for range 2 {
		o, err := c.Open(ctx, fresh.Public, "root", keystore.ForCertificate)
		if err != nil || asks.asked != 2 {
			t.Fatalf("asked %d times, not twice: %v", asks.asked, err)
		}
		uses = append(uses, o)
	}
	sign := func(o keystore.Opened) error {
		_, err := o.Sign(rand.Reader, make([]byte, 32), crypto.SHA256)
		return err
	}
	if uses[0].Close(); sign(uses[0]) == nil || sign(uses[1]) != nil {
		t.Error("closing one use does not end that one alone")
	}
	if err := c.ChooseAhead(ctx, "root"); err != nil {
		t.Fatal(err)
	}
	kept := c.chosen["root"]
	c.Forget()
	if sign(uses[1]) == nil || strings.Trim(string(kept), "\x00") != "" {
		t.Error("something is left")
	}
}
