package bundle

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// What the seeker finds is what the expression alone finds, whatever stands around.
func TestSeekerFindsWhatTheExpressionFinds(t *testing.T) {
	words := []string{"-", "--", "-----", " ", "\t", "\n", "BEGIN ", "BEGIN", "END ", "A", "X509 CRL", "#",
		"-----BEGIN ", "CERTIFICATE", "ABCDEFGHIJKLMNOPQRST"}
	r := rand.New(rand.NewPCG(1, 2))
	found := 0
	for range 20_000 {
		var b strings.Builder
		for range r.IntN(40) {
			b.WriteString(words[r.IntN(len(words))])
		}
		text := b.String()
		s := seeker{what: beginLine(), word: "BEGIN ", text: text}
		for pos := 0; ; {
			want := beginLine().FindStringSubmatchIndex(text[pos:])
			for i := range want {
				want[i] += pos
			}
			got := s.ahead(pos)
			if !slices.Equal(got, want) {
				t.Fatalf("in %q from %d: %v, and the expression finds %v", text, pos, got, want)
			}
			if got == nil {
				break
			}
			found++
			pos = got[1]
		}
	}
	if found < 1000 {
		t.Errorf("only %d were found: the texts are not what they should be", found)
	}
}
