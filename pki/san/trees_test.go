package san

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
)

// covers is the definition of RFC 5280 section 4.2.1.10, one constraint at a time: Trees must answer
// alike.
func covers(c Constraint, n Name, excluding bool) bool {
	host := func(base, host string, below bool) bool {
		switch {
		case base == "":
			return true
		case strings.HasPrefix(base, "."):
			return strings.HasSuffix(host, base)
		}
		return host == base || below && strings.HasSuffix(host, "."+base)
	}
	if n.kind != c.kind {
		return false
	}
	switch c.kind {
	case DNS:
		return host(c.value, n.key, true) || excluding && n.IsWildcard() && afterFirst(c.value) == n.Under()
	case Email:
		if strings.Contains(c.value, "@") {
			return n.key == c.value
		}
		return n.Host() != "" && host(c.value, n.Host(), false)
	case URI:
		return n.Host() != "" && host(c.value, n.Host(), false)
	case IP:
		a, err := netip.ParseAddr(n.key)
		return err == nil && (c.net.Contains(a) || excluding && a.Is4() && c.net.Contains(netip.AddrFrom16(a.As16())))
	}
	return false
}

func TestTreesAnswerAsEachConstraintDoes(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	words := []string{"a", "b", "pier", "example"}
	hostOf := func() string {
		var parts []string
		for range rng.IntN(4) {
			parts = append(parts, words[rng.IntN(len(words))])
		}
		return strings.Join(append(parts, words[rng.IntN(len(words))]), ".")
	}
	addr := func() string {
		return []string{"10.0.0.", "::ffff:10.0.0.", "192.0.2.", "2001:db8::"}[rng.IntN(4)] + fmt.Sprint(rng.IntN(3))
	}
	for round := range 3000 {
		kind := []Kind{DNS, Email, URI, IP}[rng.IntN(4)]
		var list []Constraint
		for range 1 + rng.IntN(4) {
			var c Constraint
			var err error
			switch base := []string{"", "."}[rng.IntN(2)] + hostOf(); kind {
			case IP:
				a := netip.MustParseAddr(addr())
				c = Constraint{kind: IP, net: netip.PrefixFrom(a, rng.IntN(a.BitLen()+1)).Masked()}
			case Email:
				if rng.IntN(2) == 0 {
					base = words[rng.IntN(2)] + "@" + hostOf()
				}
				c, err = hostConstraint(kind, base)
			default:
				if rng.IntN(8) == 0 {
					base = ""
				}
				c, err = hostConstraint(kind, base)
			}
			if err != nil {
				t.Fatal(err)
			}
			list = append(list, c)
		}
		var n Name
		switch kind {
		case DNS:
			n = Found(DNS, []string{"", "*."}[rng.IntN(2)]+hostOf())
		case Email:
			n = Found(Email, words[rng.IntN(2)]+"@"+hostOf())
		case URI:
			n = Found(URI, "https://"+hostOf()+"/x")
		case IP:
			n = Found(IP, addr())
		}
		trees := NewTrees(list)
		for _, excluding := range []bool{false, true} {
			want := false
			for _, c := range list {
				want = want || covers(c, n, excluding)
			}
			if _, got := trees.Covers(n, excluding); got != want {
				t.Fatalf("round %d: %v cover %s (excluding %v): %v, and it should be %v", round, list, n, excluding,
					got, want)
			}
		}
	}
}
