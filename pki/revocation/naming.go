package revocation

import (
	"fmt"
	"path"
	"strconv"
	"strings"
)

// Lists and certificates of a generation lie under names that do not change while it lives,
// since certificates carry them.

// ListFile is the file of a generation's list: of all, for part 0, or of one part.
func ListFile(generation string, part int) string {
	if part == 0 {
		return generation + ".crl"
	}
	return fmt.Sprintf("%s-%d.crl", generation, part)
}

// DeltaFile is the file of the delta of a generation's list.
func DeltaFile(generation string) string { return generation + ".delta.crl" }

// IssuerFile is the file of a generation's certificate.
func IssuerFile(generation string) string { return generation + ".cer" }

// Address is where a file is fetched from.
func Address(base, file string) string { return strings.TrimSuffix(base, "/") + "/" + file }

// PartAt is the part of a generation's lists that an address is about; 0 where it is about
// none.
func PartAt(address, generation string) int {
	name, ok := strings.CutPrefix(path.Base(address), generation+"-")
	if !ok {
		return 0
	}
	number, ok := strings.CutSuffix(name, ".crl")
	n, err := strconv.Atoi(number)
	if !ok || err != nil || n < 1 || strconv.Itoa(n) != number {
		return 0
	}
	return n
}
