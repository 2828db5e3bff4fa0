package revocation

import (
	"fmt"
	"strings"
)

// Reason is why a certificate was revoked (RFC 5280 section 5.3.1).
type Reason int

// The reasons.
const (
	Unspecified          Reason = 0
	KeyCompromise        Reason = 1
	CACompromise         Reason = 2
	AffiliationChanged   Reason = 3
	Superseded           Reason = 4
	CessationOfOperation Reason = 5
	CertificateHold      Reason = 6
	RemoveFromCRL        Reason = 8 // in delta lists only
	PrivilegeWithdrawn   Reason = 9
	AACompromise         Reason = 10
)

var reasons = []struct {
	r                  Reason
	name, word, advice string
}{
	{KeyCompromise, "keyCompromise", "key-compromise", "someone else has, or may have, the private key"},
	{CACompromise, "cACompromise", "ca-compromise",
		"someone else has, or may have, the private key of an authority"},
	{AffiliationChanged, "affiliationChanged", "affiliation-changed",
		"the holder has another name now, or belongs to another organisation; the key is safe"},
	{Superseded, "superseded", "superseded", "another certificate took its place; the key is safe"},
	{CessationOfOperation, "cessationOfOperation", "cessation-of-operation",
		"what it was for has ended; the key is safe"},
	{CertificateHold, "certificateHold", "hold",
		"for now, until you know more; the only one that can be undone"},
	{PrivilegeWithdrawn, "privilegeWithdrawn", "privilege-withdrawn",
		"the holder may no longer do what the certificate allows"},
	{AACompromise, "aACompromise", "aa-compromise", "someone else knows the key of an attribute authority"},
	{Unspecified, "unspecified", "unspecified", "none of the others; it tells clients nothing"},
	{RemoveFromCRL, "removeFromCRL", "", ""},
}

// Known reports whether there is such a reason.
func (r Reason) Known() bool { return r >= 0 && r <= 10 && r != 7 }

// String is the reason by the name that the standard gives it.
func (r Reason) String() string {
	for _, x := range reasons {
		if x.r == r {
			return x.name
		}
	}
	return fmt.Sprintf("reason %d", int(r))
}

// Word is the reason as people type it.
func (r Reason) Word() string {
	for _, x := range reasons {
		if x.r == r && x.word != "" {
			return x.word
		}
	}
	return r.String()
}

// Bit is the reason's bit among those for which a list tells (section 4.2.1.13); 0 for
// unspecified, which has none.
func (r Reason) Bit() int {
	switch r {
	case PrivilegeWithdrawn:
		return 7
	case AACompromise:
		return 8
	}
	return int(r)
}

// ParseReason reads a reason, by the word or by the name of the standard.
func ParseReason(typed string) (Reason, error) {
	plain := func(s string) string {
		return strings.ToLower(strings.NewReplacer("-", "", "_", "", " ", "").Replace(s))
	}
	want := plain(typed)
	for _, x := range reasons {
		if x.word != "" && (plain(x.word) == want || plain(x.name) == want) {
			return x.r, nil
		}
	}
	return 0, fmt.Errorf("there is no reason %q (RFC 5280 section 5.3.1); there are: %s", typed,
		strings.Join(ReasonWords(), ", "))
}

// ReasonWords are the reasons as people type them.
func ReasonWords() []string {
	var out []string
	for _, x := range reasons {
		if x.word != "" {
			out = append(out, x.word)
		}
	}
	return out
}

// Advice says of each reason when it fits, one a line.
func Advice() string {
	var b strings.Builder
	for _, x := range reasons {
		if x.word != "" {
			fmt.Fprintf(&b, "  %-23s%s\n", x.word, x.advice)
		}
	}
	return b.String()
}

// Compromise reports whether a reason says that someone else has, or may have, the key.
func (r Reason) Compromise() bool {
	return r == KeyCompromise || r == CACompromise || r == AACompromise
}
