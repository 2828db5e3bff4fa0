//go:build linux

package peers

import (
	"encoding/pem"
	"os"
	"testing"

	"ironseal/pki/pbes"
)

func pemToDER(t *testing.T, from, to string) {
	t.Helper()
	data, err := os.ReadFile(from)
	if err != nil {
		t.Fatal(err)
	}
	block, _ := pem.Decode(data)
	if block == nil || block.Type != "ENCRYPTED PRIVATE KEY" {
		t.Fatalf("%s holds no encrypted key", from)
	}
	if err := os.WriteFile(to, block.Bytes, 0o600); err != nil {
		t.Fatal(err)
	}
}

func openEncrypted(t *testing.T, file, passphrase string) {
	t.Helper()
	der, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := pbes.Decrypt(der, []byte(passphrase)); err != nil {
		t.Errorf("%s: %v", file, err)
	}
	if _, err := pbes.Decrypt(der, []byte("another one")); err == nil {
		t.Errorf("%s: another passphrase opens it", file)
	}
}
