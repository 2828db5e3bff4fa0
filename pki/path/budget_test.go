package path

import (
	"fmt"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/key"
	"ironseal/pki/specimen"
)

// Ten thousand certificates that have nothing to do with each other are sorted out
// without comparing each with each.
func TestAHeapOfStrangersIsQuick(t *testing.T) {
	signer := specimen.Key(t, key.P256)
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true, Signer: signer})
	var heap []*cert.Certificate
	for i := range 9900 {
		c := *root.Cert // as if each had been read: what names it, and its bytes, differ
		c.Raw = fmt.Appendf(nil, "certificate %d", i)
		var err error
		if c.Subject, err = dn.Parse(fmt.Sprintf("CN=subject %d", i)); err != nil {
			t.Fatal(err)
		}
		if c.Issuer, err = dn.Parse(fmt.Sprintf("CN=issuer %d", i)); err != nil {
			t.Fatal(err)
		}
		heap = append(heap, &c)
	}
	specimen.Within(t, time.Now, "9,900 strangers", 200<<20, func() {
		if LeafOf(heap) == nil || len(OrderFindings(heap)) == 0 {
			t.Error("nothing is said of them")
		}
	})
}
