package cert

import (
	"encoding/asn1"

	"ironseal/pki/ext"
)

// RehearsalID marks certificates that were made in a rehearsal. The arc is the
// one that RFC 5612 sets aside for examples, since what carries it must never be
// more than one.
var RehearsalID = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 32473, 18, 1}

// RehearsalMark is that mark. It is not critical: clients take part in rehearsals.
func RehearsalMark() ext.Extension { return ext.Extension{ID: RehearsalID, Value: []byte{5, 0}} }

// Rehearsed reports whether a certificate carries it.
func (c *Certificate) Rehearsed() bool {
	_, marked := c.Extensions.Find(RehearsalID)
	return marked
}
