package audit

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strings"

	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/pbes"
)

// checkKeyFile tells of a key file that is not one encrypted key.
func checkKeyFile(out *Checked, about string, data []byte) {
	if c, err := bundle.Read(data); err != nil || len(c.Of(bundle.EncryptedKey)) != 1 {
		out.fault(about, "it is not one encrypted key", fromBackup)
	} else if _, err := pbes.ReadHeader(c.Of(bundle.EncryptedKey)[0].DER); err != nil {
		out.fault(about, "it cannot be parsed: "+err.Error(), fromBackup)
	}
}

// checkSealed looks at the sealed keys in the records. Whoever may not read them does not check them.
func checkSealed(ctx context.Context, e *estate.Estate, out *Checked, files []string, known map[string]bool) error {
	names, err := e.Records.SealedNames(ctx)
	if errors.Is(err, store.ErrForbidden) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, n := range names {
		about := "records, sealed key " + n
		if strings.HasSuffix(n, ".shares") { // a note of who has shares, and no key
			continue
		}
		out.Keys++
		data, err := e.Records.Sealed(ctx, n)
		if err != nil {
			return err
		}
		checkKeyFile(out, about, data)
		if !known[strings.TrimSuffix(n, ".key")] {
			out.fault(about, "no record names this key: an act was cut off before it was recorded, or a record is gone",
				advice.Say("keep it"))
		}
		if slices.ContainsFunc(files, func(f string) bool { return filepath.Base(f) == n }) {
			out.fault("keys/"+n, "this key stands in the records, and the file here opens with whatever opened it "+
				"when "+
				"it was moved there", advice.Say("move the file off this machine"))
		}
	}
	return nil
}
