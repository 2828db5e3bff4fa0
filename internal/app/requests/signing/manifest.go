package signing

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"ironseal/internal/estate"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/issue"
	"ironseal/pki/lifecycle"
	"ironseal/pki/san"
	"ironseal/pki/sheet"
	"ironseal/pki/span"
)

// A manifest is a CSV file with one host a row, for drafting or signing many at
// once. Its first row names the columns; host is required, the others may be
// left out: names (separated by blanks or semicolons), template, receiver,
// lifetime, note.

// ManifestRow is one row of a manifest.
type ManifestRow struct {
	Line     int
	Host     san.Name
	Names    []san.Name // the others, without the host
	Template string
	Receiver string
	Lifetime span.Span
	Note     string
	Err      error // why the row cannot be used
}

// Label names the row in results: its line and its host.
func (r ManifestRow) Label() string { return fmt.Sprintf("line %d, %s", r.Line, r.Host.Value()) }

var manifestColumns = []string{"host", "names", "template", "receiver", "lifetime", "note"}

// ReadManifest reads a manifest. A faulty row carries its error and does not
// spoil the rest; an error means that the file as a whole is no manifest.
func ReadManifest(data []byte) ([]ManifestRow, error) {
	rows, err := sheet.Read("manifest", data, manifestColumns)
	if err != nil {
		return nil, err
	}
	var out []ManifestRow
	seen := map[string]int{}
	for _, r := range rows {
		if r.Err != nil {
			out = append(out, ManifestRow{Line: r.Line, Err: r.Err})
			continue
		}
		row := manifestRow(r.Line, r.Cell)
		if first := seen[row.Host.Key()]; row.Err == nil && first > 0 {
			row.Err = fmt.Errorf("the host stands in line %d already", first)
		} else if row.Err == nil {
			seen[row.Host.Key()] = r.Line
		}
		out = append(out, row)
	}
	return out, nil
}

func manifestRow(line int, cell func(string) string) ManifestRow {
	row := ManifestRow{Line: line, Template: cell("template"), Receiver: cell("receiver"), Note: cell("note")}
	if row.Host, row.Err = san.ParseTyped(cell("host")); row.Err != nil {
		row.Host = san.Found(san.DNS, cell("host"))
		return row
	}
	for _, n := range strings.FieldsFunc(cell("names"),
		func(r rune) bool { return r == ' ' || r == ';' || r == '\n' }) {
		name, err := san.ParseTyped(n)
		if err != nil {
			row.Err = err
			return row
		}
		if !name.Same(row.Host) {
			row.Names = append(row.Names, name)
		}
	}
	if text := cell("lifetime"); text != "" {
		row.Lifetime, row.Err = span.Parse(text)
	}
	return row
}

// ManifestAsks turns rows into asks: each row means the request that waits
// for its host. base gives what the rows leave open.
func ManifestAsks(ctx context.Context, e *estate.Estate, rows []ManifestRow, base SignAsk) ([]Planned, error) {
	waiting, err := e.Records.Requests(ctx, lifecycle.Waiting)
	if err != nil {
		return nil, err
	}
	byHost := map[string][]string{}
	for _, rec := range waiting {
		label := fmt.Sprintf("R%d", rec.Number)
		hosts := map[string]bool{}
		if n, ok := san.HostName(rec.Title); ok {
			hosts[n.Key()] = true
		}
		for h := range hosts {
			byHost[h] = append(byHost[h], label)
		}
	}
	out := make([]Planned, len(rows))
	for i, row := range rows {
		ask := base
		out[i] = Planned{Name: row.Label(), Err: row.Err, Ask: &ask}
		if row.Err != nil {
			continue
		}
		switch found := byHost[row.Host.Key()]; len(found) {
		case 0:
			out[i].Err = errors.New("no request waits for this host")
		case 1:
			out[i].Ask.Request = found[0]
		default:
			out[i].Err = fmt.Errorf("more than one request waits for this host: %s: sign it by number",
				strings.Join(found, ", "))
		}
		out[i].Ask.Amend = issue.Amendments{Add: row.Names, Lifetime: row.Lifetime}
		if row.Template != "" {
			out[i].Ask.Template = row.Template
		}
		if row.Receiver != "" {
			out[i].Ask.For = row.Receiver
		}
		if out[i].Err == nil && out[i].Ask.Template == "" {
			out[i].Err = fault.New(fault.BadInput, "no template: give the column template").
				Then(advice.To("or one for all", advice.UseTemplate))
		}
	}
	return out, nil
}
