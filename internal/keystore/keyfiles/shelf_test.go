package keyfiles

import (
	"context"
	"crypto/rand"
	"errors"
	"testing"

	"ironseal/internal/keystore"
	"ironseal/pki/fault"
	"ironseal/pki/key"
	"ironseal/pki/pbes"
)

// closed is a shelf that says of every file the same.
type closed struct{ says error }

func (c closed) Sealed(context.Context, string) ([]byte, error)          { return nil, c.says }
func (c closed) SealedNames(context.Context) ([]string, error)           { return nil, c.says }
func (c closed) PutSealed(context.Context, string, []byte, []byte) error { return c.says }

// While the records cannot be asked, a file here opens nothing: what opens it may be an earlier passphrase.
func TestAShelfThatCannotBeAskedIsNoAnswer(t *testing.T) {
	ctx := context.Background()
	c := Files{Dir: t.TempDir(), Random: rand.Reader, Work: pbes.Work{Memory: 1 << 14},
		Pass: fromFile(write(t, "tern and gull"))}
	fresh, err := c.Make(ctx, key.P256)
	if err == nil {
		err = c.Keep(fresh, []byte("tern and gull"))
	}
	if err != nil {
		t.Fatal(err)
	}
	c.Shelf = closed{fault.NotFound}
	if !c.Has(fresh.Public) {
		t.Error("what is not on the shelf is in the file")
	}
	gone := errors.New("the server cannot be reached")
	c.Shelf = closed{gone}
	_, err = c.Open(ctx, fresh.Public, "root", keystore.ForCertificate)
	if !errors.Is(err, gone) || c.Has(fresh.Public) {
		t.Errorf("%v", err)
	}
}
