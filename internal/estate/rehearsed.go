package estate

import (
	"ironseal/pki/cert"
	"ironseal/pki/finding"
)

// RehearsalFindings keeps what was made in a rehearsal out of a real estate.
func (e *Estate) RehearsalFindings(list []*cert.Certificate) finding.List {
	if e.Rehearsal {
		return nil
	}
	var out finding.List
	for _, c := range list {
		if c.Rehearsed() {
			out = append(out, finding.New(finding.RehearsalMade, "%s was made in a rehearsal.", c.Title()))
		}
	}
	return out
}

// RehearsalPassphrase opens every key of a rehearsal. It is no secret: the keys
// are thrown away.
const RehearsalPassphrase = "rehearsal"
