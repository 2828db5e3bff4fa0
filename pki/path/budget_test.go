package path

import (
	"fmt"
	"testing"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/finding"
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

// Names times constraints: a chain of a few hundred kilobytes from a stranger costs no minutes.
func TestNamesTimesConstraintsAreQuick(t *testing.T) {
	var permit, names []string
	for i := range 4000 {
		permit = append(permit, fmt.Sprintf("dns:h%d.pier.example", i))
		names = append(names, fmt.Sprintf("a.h%d.pier.example", i))
	}
	root := specimen.Make(t, nil, specimen.Plan{Subject: "CN=Root", Authority: true})
	mid := specimen.Make(t, root, specimen.Plan{Subject: "CN=Mid", Authority: true, Permit: permit,
		Exclude: permit[:1]})
	low := specimen.Make(t, mid, specimen.Plan{Subject: "CN=Low", Authority: true, Permit: permit})
	leaf := specimen.Make(t, low, specimen.Plan{Subject: "CN=leaf", Names: names})
	specimen.Within(t, time.Now, "4,000 names under 8,000 constraints", 300<<20, func() {
		v := Verify(leaf.Cert, []*cert.Certificate{low.Cert, mid.Cert},
			Question{Anchors: []*cert.Certificate{root.Cert},
				Now: specimen.Now})
		if v.Valid || !v.Reasons().Has(finding.ConstraintBroken) {
			t.Errorf("%v", v.Reasons())
		}
	})
}
