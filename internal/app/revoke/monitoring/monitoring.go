// Package monitoring tells whether clients find the revocation lists that were published: what
// stands at the addresses in certificates is compared with what is on record.
package monitoring

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/fetch"
	"ironseal/internal/store"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/revocation"
)

// Checked is a list that is served, compared with what was published.
type Checked struct {
	Where    string       `json:"where" doc:"the address or the file"`
	Title    string       `json:"title" doc:"which list it is; empty where that is unknown"`
	Number   string       `json:"number" doc:"its number"`
	Good     bool         `json:"good" doc:"whether it is the one that was published, and fresh"`
	Findings finding.List `json:"findings" doc:"what is wrong with it"`
}

// Addresses are those at which clients look for the lists that were published: what certificates on
// record name, and what the next ones will.
func Addresses(ctx context.Context, e *estate.Estate) ([]string, error) {
	have, err := inventory.Known(ctx, e.Records)
	if err != nil {
		return nil, err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	places, err := e.Records.Addresses(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, p := range places {
		g := h.Generation(p.Generation)
		if p.Kind == store.ListAddress && g != nil && !e.Now().After(g.Certificate.NotAfter) {
			out = append(out, p.Address)
		}
	}
	if base := e.Settings.Publication.Address; base != "" {
		for _, i := range have.Served(e.Now()) {
			if g := h.Generation(i.List); g != nil && !g.Authority.External() {
				out = append(out, revocation.Address(base, i.Title()))
			}
		}
	}
	slices.Sort(out)
	if out = slices.Compact(out); len(out) == 0 {
		return nil, fmt.Errorf("no certificate names an address, and publication.address in %s is empty: name what "+
			"is to be checked: an address or a file", estate.SettingsFile)
	}
	return out, nil
}

// expected is what clients look for at an address, by the certificates that name it; false where none
// does.
func expected(ctx context.Context, e *estate.Estate, h hierarchy.Hierarchy, where string) (event.Scope, bool,
	error) {
	places, err := e.Records.Addresses(ctx)
	for _, p := range places {
		if g := h.Generation(p.Generation); p.Kind == store.ListAddress && p.Address == where && g != nil {
			return event.Scope{List: g.ListName(), Part: p.Part}, true, nil
		}
	}
	return event.Scope{}, false, err
}

// Fetch gets a list from an address and checks it.
func Fetch(ctx context.Context, e *estate.Estate, address string, r fetch.Rules) (Checked, error) {
	data, err := fetch.Get(ctx, address, r)
	if err != nil {
		return Checked{Where: address, Findings: finding.List{finding.New(finding.ListUnreachable,
			"Nothing comes from %s.",
			err)}}, nil
	}
	return Check(ctx, e, address, data)
}

// Check holds the bytes of a list against what was published.
func Check(ctx context.Context, e *estate.Estate, where string, data []byte) (Checked, error) {
	out := Checked{Where: where, Findings: finding.List{}}
	add := func(code finding.Code, format string, args ...any) {
		out.Findings = append(out.Findings, finding.New(code, format, args...))
	}
	l, err := revocation.ReadList(data)
	if err != nil {
		add(finding.ListUnread, "The content at %s is not a list that clients can use: %s.", where, err)
		return out, nil
	}
	if l.Number != nil {
		out.Number = l.Number.String()
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return out, err
	}
	have, err := inventory.Known(ctx, e.Records)
	if err != nil {
		return out, err
	}
	by := inventory.SignedBy(h, l)
	if by == nil {
		add(finding.ListForeign, "The list at %s is of %s, and was signed by no authority that is on record.", where,
			l.Issuer)
		return out, nil
	}
	is := event.List{List: by.ListName(), Delta: l.Base != nil}
	for _, n := range l.Scope.Names {
		is.Part = max(is.Part, revocation.PartAt(n.URI, by.ListName()))
	}
	now := e.Now()
	published, there := have.At(is.Scope(), now)
	out.Title = is.Title()
	wanted, named, err := expected(ctx, e, h, where)
	if err != nil {
		return out, err
	}
	if base := strings.TrimSuffix(where, ".pem"); named && wanted != is.Scope() || !named && strings.HasSuffix(base,
		".crl") && strings.Contains(where, "://") &&
		!strings.HasSuffix(base, "/"+out.Title) {
		add(finding.ListForeign, "At %s stands %s, the list of another.", where, out.Title)
	}
	if why := l.Fresh(now); why != "" {
		add(finding.ListStale, "The list at %s is not fresh: %s.", where, why)
	}
	switch {
	case !there:
		add(finding.ListUnknown, "No list %s was published here.", out.Title)
	case inventory.Is(published, l):
	case l.Number != nil && l.Number.IsInt64() && l.Number.Int64() < published.Number:
		add(finding.ListOlder, "The list at %s has the number %s; %d was published on %s.", where, out.Number,
			published.Number, published.This.Format("2006-01-02 15:04 UTC"))
	default:
		add(finding.ListUnknown, "The list at %s has the number %s, was signed by %s, and is not on record.", where,
			out.Number, by.Label())
	}
	out.Good = len(out.Findings.Refusing()) == 0
	return out, nil
}
