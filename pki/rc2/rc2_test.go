package rc2

import (
	"bytes"
	"encoding/hex"
	"testing"
)

// The vectors of RFC 2268 section 5.
func TestPublishedRC2Vectors(t *testing.T) {
	for _, c := range []struct {
		key, plain, encrypted string
		bits                  int
	}{
		{"0000000000000000", "0000000000000000", "ebb773f993278eff", 63},
		{"ffffffffffffffff", "ffffffffffffffff", "278b27e42e2f0d49", 64},
		{"3000000000000000", "1000000000000001", "30649edf9be7d2c2", 64},
		{"88", "0000000000000000", "61a8a244adacccf0", 64},
		{"88bca90e90875a", "0000000000000000", "6ccf4308974c267f", 64},
		{"88bca90e90875a7f0f79c384627bafb2", "0000000000000000", "1a807d272bbe5db1", 64},
		{"88bca90e90875a7f0f79c384627bafb2", "0000000000000000", "2269552ab0f85ca6", 128},
		{"88bca90e90875a7f0f79c384627bafb216f80a6f85920584c42fceb0be255daf1e", "0000000000000000", "5b78d3a43dfff1f1",
			129},
	} {
		t.Run(c.key, func(t *testing.T) {
			k, _ := hex.DecodeString(c.key)
			plain, _ := hex.DecodeString(c.plain)
			want, _ := hex.DecodeString(c.encrypted)
			got, back := make([]byte, 8), make([]byte, 8)
			r := New(k, c.bits)
			r.Encrypt(got, plain)
			r.Decrypt(back, got)
			if !bytes.Equal(got, want) || !bytes.Equal(back, plain) {
				t.Errorf("key %s, %d bits: %x, back %x", c.key, c.bits, got, back)
			}
		})
	}
}
