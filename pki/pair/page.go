package pair

import (
	"bytes"
	"fmt"

	"ironseal/pki/kit"
	"ironseal/pki/label"
	"ironseal/pki/runes"
)

// Page is what goes with one side's folder, in words. kits are the folders in it; presents
// is the file of what the side presents, "" if none exists.
func (a Answer) Page(q Question, side int, kits []string, presents string) []byte {
	me, other := runes.Escape(q.Peers[side].Title), runes.Escape(q.Peers[1-side].Title)
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s: what it needs, so that it and %s trust each other\n\nTo be trusted here\n", me, other)
	for _, x := range a.Needs[side].Anchors {
		sum := x.Certificate.SHA256()
		fmt.Fprintf(&b, "  %s\n    %s\n    check code  %s\n    SHA-256     %s\n    until       %s\n",
			runes.Escape(x.Certificate.Title()), runes.Escape(x.From), label.CheckCode(x.Certificate.Raw),
			label.Colons(sum[:]), x.Certificate.NotAfter.Format("2006-01-02"))
		if len(x.Permitted) > 0 {
			fmt.Fprintf(&b, "    only for    %s, where this side can hold it to that\n", joined(x.Permitted))
		}
	}
	b.WriteString("\nWhat to do\n  1. Compare the fingerprints above with the people of the other side.\n")
	for _, k := range kits {
		fmt.Fprintf(&b, "  2. Install what is in %s: its READ-ME.txt says how.\n", k)
	}
	n := 3
	if presents != "" {
		fmt.Fprintf(&b, "  %d. Let this side present %s, with its own key.\n", n, presents)
		n++
	} else {
		fmt.Fprintf(&b, "  %d. Have the request of this side signed, and install its certificate.\n", n)
		n++
	}
	fmt.Fprintf(&b, "  %d. Start again what reads them, and connect from either side.\n", n)
	b.WriteString("\nWhat holds then\n")
	for _, w := range a.Ways {
		for _, c := range w.Checks {
			fmt.Fprintf(&b, "  %s\n", kit.Lines(runes.Escape(c.Words(q, w)), 2))
			for _, f := range c.Findings.Refusing() {
				fmt.Fprintf(&b, "    %s\n", kit.Lines(runes.Escape(f.Message), 4))
			}
		}
	}
	return b.Bytes()
}

// Words says in a line what one makes of the other.
func (c Check) Words(q Question, w Way) string {
	by := q.Peers[w.From+w.To-c.Of].Title
	verb := "accepts"
	switch {
	case !c.Holds:
		verb = "refuses"
	case q.Peers[c.Of].Planned != nil:
		verb = "will accept"
	}
	as := "as a server"
	if c.As == Client {
		as = "as a client"
	}
	return fmt.Sprintf("%s %s %s %s", by, verb, q.Peers[c.Of].Title, as)
}
