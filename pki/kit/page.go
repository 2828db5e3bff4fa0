package kit

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"

	"ironseal/pki/label"
	"ironseal/pki/runes"
)

// shown makes a text of a certificate's harmless on a page.
func shown(text string) string { return runes.Escape(text) }

// page is what goes with a kit, in words.
func (p Platform) page(j Job, items []Item, notes []string) []byte {
	var b bytes.Buffer
	what := "roots to be trusted"
	if j.Leaving {
		what = "roots to be taken out"
	}
	fmt.Fprintf(&b, "%s: %s\n\nFrom %s, the trust set %q: %s\n", p.Title, what, shown(j.Owner), j.Set.Name,
		shown(j.Set.Title))
	if p.Covers != "" && !j.Leaving {
		fmt.Fprintf(&b, "\nWho trusts them then\n  %s\n", Lines(p.Covers, 2))
	}
	b.WriteString("\nCompare these fingerprints first, with someone who reads them aloud\n")
	for _, i := range items {
		sum := i.Certificate.SHA256()
		fmt.Fprintf(&b, "  %s\n    file        %s\n    check code  %s\n    SHA-256     %s\n    until       %s\n",
			shown(i.Certificate.Title()), i.File, label.CheckCode(i.Certificate.Raw), label.Colons(sum[:]),
			i.Certificate.NotAfter.Format("2006-01-02"))
	}
	b.WriteString("\nWhat is here\n")
	for _, f := range p.Files {
		if j.skips(f) {
			continue
		}
		fmt.Fprintf(&b, "  %-24s  %s\n", strings.NewReplacer("{file}", "*", "{short}", "*", "{set}", j.Set.Name,
			"{mark}",
			j.Mark).Replace(f.Name), f.For)
	}
	fmt.Fprintf(&b, "  %-24s  the hashes of all files: sha256sum -c %s\n", SumsFile, SumsFile)
	if j.Signed {
		fmt.Fprintf(&b, "  %-24s  %s\n", SignatureFile, Lines("the signature over them"+j.howChecked(), 28))
	}
	b.WriteString("\nWhat to do\n" + p.steps(j))
	if len(notes) > 0 {
		b.WriteString("\nTo be known\n")
		for _, n := range notes {
			fmt.Fprintf(&b, "  %s\n", Lines(shown(n), 2))
		}
	}
	return b.Bytes()
}

// steps says how the anchors are installed, or how they are taken out.
func (p Platform) steps(j Job) string {
	var b strings.Builder
	if j.Leaving {
		fmt.Fprintf(&b, "  %s\n", Lines(p.Page.Back, 2))
		if p.Page.Restart != "" {
			fmt.Fprintf(&b, "\nWhat to restart\n  %s\n", Lines(p.Page.Restart, 2))
		}
		return b.String()
	}
	for n, s := range p.Page.Steps {
		fmt.Fprintf(&b, "  %d. %s\n", n+1, Lines(s, 5))
	}
	for _, s := range [][2]string{{"What to restart", p.Page.Restart}, {"How to see that it worked", p.Page.Worked},
		{"How to remove it", p.Page.Back}} {
		if s[1] != "" {
			fmt.Fprintf(&b, "\n%s\n  %s\n", s[0], Lines(s[1], 2))
		}
	}
	return b.String()
}

// pageWidth is how wide the lines of a page are, in characters.
const pageWidth = 96

// Lines breaks a text at blanks; what follows its last colon, which is often a command to be
// copied, stays whole.
func Lines(text string, indent int) string {
	words := strings.Fields(text)
	if at := strings.LastIndex(text, ": "); at >= 0 && !strings.Contains(text[at:], ". ") &&
		len(text[at+2:]) <= pageWidth-indent {
		words = append(strings.Fields(text[:at+1]), text[at+2:])
	}
	var b strings.Builder
	used := indent
	for i, w := range words {
		switch n := utf8.RuneCountInString(w); {
		case i > 0 && used+1+n > pageWidth:
			b.WriteString("\n" + strings.Repeat(" ", indent) + w)
			used = indent + n
		case i > 0:
			b.WriteString(" " + w)
			used += 1 + n
		default:
			b.WriteString(w)
			used += n
		}
	}
	return b.String()
}
