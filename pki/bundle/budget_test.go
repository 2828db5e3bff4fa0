package bundle

import (
	"strings"
	"testing"
	"time"

	"ironseal/pki/specimen"
)

// What is read costs in proportion to its length, whatever it is.
func TestReadingIsLinear(t *testing.T) {
	for what, text := range map[string]string{
		"beginnings without an end":    strings.Repeat("-----BEGIN CERTIFICATE-----\n", 15_000),
		"endings without a beginning":  strings.Repeat("-----END CERTIFICATE-----\n", 16_000),
		"bare base 64":                 strings.Repeat("MIIBAjCCAQECAQEwDQYJKoZIhvcNAQEBBQAwDjEMMAoGA1UEAxMD\n", 8_000),
		"bare lines, each begun again": strings.Repeat("MIMGqqoBAQEBAQEBAAAA\n", 20_000),
		"dashes":                       strings.Repeat("-----", 90_000),
		"headers":                      "-----BEGIN CERTIFICATE-----\n" + strings.Repeat("X-Header: y\n", 35_000),
		"zeros":                        strings.Repeat("\x00", 400_000),
		"sequences":                    strings.Repeat("\x30\x80", 200_000),
	} {
		t.Run(what, func(t *testing.T) {
			for _, n := range []int{len(text) / 4, len(text)} {
				specimen.Within(t, time.Now, what, uint64(1<<20+150*n), func() { _, _ = Read([]byte(text[:n])) })
			}
		})
	}
}
