package hierarchy

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ironseal/pki/key"
	"ironseal/pki/span"
	"ironseal/pki/specimen"
)

var now = specimen.Now

// line makes generations, issuer first, that end after the given numbers of
// years and have the given path lengths (-1 for none).
func line(t *testing.T, years []int, lengths []int) []*Generation {
	t.Helper()
	var parent *specimen.Entity
	var above *Generation
	var out []*Generation
	for i := len(years) - 1; i >= 0; i-- {
		p := specimen.Plan{Subject: "CN=A" + string(rune('0'+i)), Authority: true,
			From: now.Add(-time.Duration(len(years)-i) * time.Minute), Until: now.AddDate(years[i], 0, 0)}
		if lengths[i] >= 0 {
			p.PathLength, p.Zero = lengths[i], true
		}
		e := specimen.Make(t, parent, p)
		g := &Generation{Number: 1, Certificate: e.Cert, Issuer: above,
			Authority: &Authority{Handle: "a" + string(rune('0'+i))}}
		above, parent = g, e
		out = append([]*Generation{g}, out...)
	}
	return out
}

func TestLifeEndsWithTheFirstAbove(t *testing.T) {
	for _, c := range []struct {
		years []int
		want  span.Span
		end   time.Time
		cut   string
	}{
		{[]int{10, 20}, span.Days(397), now.AddDate(0, 0, 397), ""},
		{[]int{1, 20}, span.Days(397), now.AddDate(1, 0, 0), "a0"},
		{[]int{10, 1}, span.Days(397), now.AddDate(1, 0, 0), "a1"},
		{[]int{3, 2, 20}, span.Years(5), now.AddDate(2, 0, 0), "a1"},
		{[]int{10}, span.Years(10), now.AddDate(10, 0, 0), ""},
	} {
		t.Run(c.cut, func(t *testing.T) {
			lengths := make([]int, len(c.years))
			g := Life(line(t, c.years, lengths), now, time.Hour, c.want)
			cut := ""
			if g.CutBy != nil {
				cut = g.CutBy.Authority.Handle
			}
			if !g.NotAfter.Equal(c.end) || cut != c.cut {
				t.Errorf("%v: until %s by %q, want %s by %q", c.years, g.NotAfter, cut, c.end, c.cut)
			}
			if g.NotBefore.Before(now.Add(-time.Minute)) {
				t.Errorf("%v: it begins %s, before its issuer", c.years, g.NotBefore)
			}
		})
	}
}

func TestPathRoom(t *testing.T) {
	for _, c := range []struct {
		lengths []int // issuer first
		want    int
	}{
		{[]int{-1, -1}, -1}, {[]int{0, -1}, 0}, {[]int{-1, 1}, 0}, {[]int{-1, 2}, 1}, {[]int{3, 2, -1}, 1},
		{[]int{-1}, -1}, {[]int{1}, 1}, {[]int{-1, -1, 2}, 0},
	} {
		t.Run(fmt.Sprint(c.lengths), func(t *testing.T) {
			years := make([]int, len(c.lengths))
			for i := range years {
				years[i] = 5
			}
			if got, _ := PathRoom(line(t, years, c.lengths)); got != c.want {
				t.Errorf("path lengths %v leave %d, want %d", c.lengths, got, c.want)
			}
		})
	}
}

func TestProposedLivesNest(t *testing.T) {
	grants := span.Days(397)
	for _, c := range []struct {
		left int
		want int
		word string
	}{{20, 10, "half"}, {30, 10, "template"}, {12, 6, "half"}, {7, 3, "half"}, {4, 3, "renew a0 soon"}} {
		t.Run(c.word, func(t *testing.T) {
			p := Propose(line(t, []int{c.left}, []int{-1}), now, span.Years(10), grants)
			if p.Span != span.Years(c.want) || !strings.Contains(p.Why, c.word) {
				t.Errorf("parent with %d years: %s because %s; want %d years", c.left, p.Span.Words(), p.Why, c.want)
			}
		})
	}
	if p := Propose(nil, now, span.Years(20), span.Years(10)); p.Span != span.Years(20) {
		t.Errorf("a root: %v", p)
	}
	// A parent made a moment ago still counts whole.
	l := line(t, []int{20}, []int{-1})
	if p := Propose(l, now.Add(time.Hour), span.Years(10), grants); p.Span != span.Years(10) {
		t.Errorf("an hour later: %v", p)
	}
}

func TestHandles(t *testing.T) {
	for s, ok := range map[string]bool{"root": true, "services-2": true, "Root": false, "": false, "2root": false,
		"any": false, "itself": false, "a.b": false, "con": false, "com7": false, "com10": true, "a-": true,
		"../x": false, strings.Repeat("a", 41): false} {
		t.Run(s, func(t *testing.T) {
			if got := ValidHandle(s) == nil; got != ok {
				t.Errorf("handle %q: %v", s, got)
			}
		})
	}
}

func TestFindingAuthorities(t *testing.T) {
	g := line(t, []int{5, 10}, []int{-1, -1})
	a, r := g[0].Authority, g[1].Authority
	a.Parent, a.Generations, r.Generations = r, []*Generation{g[0]}, []*Generation{g[1]}
	h := Hierarchy{r, a}
	if h.Generation("a0") != g[0] || h.Generation("a0.g1") != g[0] || h.Generation("a0.g2") != nil ||
		h.Generation("x") != nil {
		t.Error("generations by name")
	}
	if h.SubjectTaken(g[0].Certificate.Subject, "") != a || h.SubjectTaken(g[0].Certificate.Subject, "a0") != nil ||
		h.KeyTaken(g[1].Certificate.Key) != r {
		t.Error("clashes of subject and key")
	}
	if c := h.Children(r); len(c) != 1 || c[0] != a || len(h.Children(nil)) != 1 {
		t.Error("children")
	}
}

// A parent that was renewed with the same key stands in the line with its newest
// certificate; one with a new key, or one that waits for its switch day, does not.
func TestLineFollowsTheKey(t *testing.T) {
	now := specimen.Now
	root := &Authority{Handle: "root"}
	signer := specimen.Key(t, key.P256)
	add := func(a *Authority, issuer *Generation, p specimen.Plan) *Generation {
		p.Authority = true
		g := &Generation{Number: len(a.Generations) + 1, Certificate: specimen.Make(t, nil, p).Cert, Issuer: issuer,
			Authority: a}
		a.Generations = append(a.Generations, g)
		return g
	}
	first := add(root, nil, specimen.Plan{Subject: "CN=Root", Signer: signer, Until: now.AddDate(1, 0, 0)})
	services := &Authority{Handle: "services", Parent: root}
	below := add(services, first, specimen.Plan{Subject: "CN=Services", Until: now.AddDate(3, 0, 0)})
	if got := below.Line(); len(got) != 2 || got[1] != first {
		t.Fatal(got)
	}
	again := add(root, nil, specimen.Plan{Subject: "CN=Root", Signer: signer, Until: now.AddDate(10, 0, 0)})
	other := add(root, nil, specimen.Plan{Subject: "CN=Root", Until: now.AddDate(20, 0, 0)})
	if got := below.Line()[1]; got != again {
		t.Errorf("%s stands in the line, want g2", got.Label())
	}
	again.SwitchDay = now.AddDate(0, 1, 0)
	if got := below.Line()[1]; got != first {
		t.Errorf("%s stands in the line before its switch day", got.Label())
	}
	if root.Current() != other || root.Prepared() != nil || !root.Signs() {
		t.Error("the newest that waits for no day is current")
	}
	other.SwitchDay = now.AddDate(0, 1, 0)
	if root.Current() != first || root.Prepared() != other {
		t.Error("what is prepared does not sign")
	}
	root.Holder = HeldExternally
	if root.Signs() {
		t.Error("a key that is elsewhere does not sign here")
	}
	ships := &Authority{Handle: "ships", Parent: services}
	h := Hierarchy{root, services, ships}
	if h.Depth(root) != 2 || h.Depth(ships) != 0 || len(h.Below(root)) != 2 || len(h.Below(services)) != 1 {
		t.Error("levels are counted wrongly")
	}
}
