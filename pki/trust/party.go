package trust

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironseal/pki/runes"
	"ironseal/pki/sheet"
)

// Party is a machine, a device or a person that holds a certificate of ours, must trust a
// set, or both.
type Party struct {
	Name      string   `json:"party" doc:"what it is called"`
	Endpoints []string `json:"endpoints" doc:"where it can be looked at: [NAME@]HOST:PORT"`
	Platforms []string `json:"platforms" doc:"the platforms of the kits that it takes"`
	Sets      []string `json:"sets" doc:"the trust sets that it must hold"`
	Receiver  string   `json:"receiver" doc:"the shape in which it takes a certificate"`
	Template  string   `json:"template" doc:"the template by which its requests are signed"`
	Owner     string   `json:"owner" doc:"who looks after it"`
	Closed    string   `json:"closed" doc:"why it can learn no other anchors; empty where it can"`
	Note      string   `json:"note" doc:"what else is to be known"`
}

// PartyColumns are the columns of a table of parties. Several of a kind stand in one cell,
// with blanks between them.
var PartyColumns = []string{"party", "endpoint", "platform", "set", "receiver", "template", "owner", "closed", "note"}

// Bounds on what is said of a party.
const (
	mostPartyName = 80
	mostPartyText = 500
	mostPartyList = 50
)

// Check says what is wrong with a party's own fields.
func (p Party) Check() error {
	switch {
	case p.Name == "":
		return errors.New("a party needs a name")
	case len(p.Name) > mostPartyName || strings.ContainsFunc(p.Name, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && !strings.ContainsRune("-._", r)
	}) || strings.Trim(p.Name, "-._") != p.Name:
		return fmt.Errorf("party %q: use letters, digits, hyphens, dots and underscores, at most %d", p.Name,
			mostPartyName)
	}
	for what, text := range map[string]string{"owner": p.Owner, "closed": p.Closed, "note": p.Note} {
		if len(text) > mostPartyText || runes.Misleading(text) {
			return fmt.Errorf("party %s: %s: write at most %d characters, and none that is invisible", p.Name, what,
				mostPartyText)
		}
	}
	for what, list := range map[string][]string{"endpoints": p.Endpoints, "platforms": p.Platforms, "sets": p.Sets} {
		if len(list) > mostPartyList {
			return fmt.Errorf("party %s: more than %d %s", p.Name, mostPartyList, what)
		}
	}
	return nil
}

// Row is the party as a row of a table.
func (p Party) Row() []string {
	return []string{p.Name, strings.Join(p.Endpoints, " "), strings.Join(p.Platforms, " "), strings.Join(p.Sets, " "),
		p.Receiver, p.Template, p.Owner, p.Closed, p.Note}
}

// PartyRow is a row of a table of parties, and why it cannot be used.
type PartyRow struct {
	Party
	Line int
	Err  error
}

// ReadParties reads a table of parties. A faulty row carries its error.
func ReadParties(data []byte) ([]PartyRow, error) {
	rows, err := sheet.Read("table of parties", data, PartyColumns)
	if err != nil {
		return nil, err
	}
	var out []PartyRow
	first := map[string]int{}
	for _, r := range rows {
		cell := func(column string) string { return strings.TrimPrefix(r.Cell(column), "'") }
		list := func(column string) []string {
			return slices.Compact(strings.FieldsFunc(cell(column),
				func(c rune) bool { return strings.ContainsRune(" ;\n", c) }))
		}
		x := PartyRow{Line: r.Line, Err: r.Err, Party: Party{Name: cell("party"), Endpoints: list("endpoint"),
			Platforms: list("platform"), Sets: list("set"), Receiver: cell("receiver"), Template: cell("template"),
			Owner: cell("owner"), Closed: cell("closed"), Note: cell("note")}}
		if x.Err == nil {
			x.Err = x.Check()
		}
		if line := first[x.Name]; x.Err == nil && line > 0 {
			x.Err = fmt.Errorf("party %s stands in line %d already", x.Name, line)
		}
		if x.Err == nil {
			first[x.Name] = x.Line
		}
		out = append(out, x)
	}
	return out, nil
}
