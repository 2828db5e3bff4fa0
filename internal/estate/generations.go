package estate

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ironseal/internal/event"
	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
)

// AllGenerations lists every generation of every authority.
func AllGenerations(h hierarchy.Hierarchy) []*hierarchy.Generation {
	var out []*hierarchy.Generation
	for _, a := range h {
		out = append(out, a.Generations...)
	}
	return out
}

// Hierarchy loads all authorities.
func (e *Estate) Hierarchy(ctx context.Context) (hierarchy.Hierarchy, error) {
	return e.Records.Hierarchy(ctx)
}

// Generation finds an authority's generation by its handle; candidates are
// listed if none exists.
func (e *Estate) Generation(ctx context.Context, name string) (*hierarchy.Generation, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	return FindGeneration(h, name)
}

// FindGeneration finds a generation by HANDLE, its current one, or HANDLE.gN.
func FindGeneration(h hierarchy.Hierarchy, name string) (*hierarchy.Generation, error) {
	if g := h.Generation(name); g != nil {
		return g, nil
	}
	if len(h) == 0 {
		return nil, fault.New(fault.NotFound, "authority %q: this estate has no authorities yet", name).
			On(fault.Authority.Named("%s", name)).Then(advice.To("make one", advice.CreateAuthority, "authority",
			"root"))
	}
	var handles []string
	for _, a := range h {
		handles = append(handles, a.Handle)
	}
	return nil, fault.New(fault.NotFound, "no authority is called %q; there are: %s", name,
		strings.Join(handles, ", "))
}

// LineOf is a generation and those above it, the root last.
func LineOf(g *hierarchy.Generation) []*hierarchy.Generation {
	if g == nil {
		return nil
	}
	return g.Line()
}

// Waived are the findings that were waived.
func Waived(l finding.List) finding.List {
	var out finding.List
	for _, f := range l {
		if f.Waived != "" {
			out = append(out, f)
		}
	}
	return out
}

// WaivedCodes are the codes of the findings that were waived, each with its reason.
func WaivedCodes(l finding.List) event.Waivers {
	out := event.Waivers{}
	for _, f := range Waived(l) {
		out[f.Code] = f.Waived
	}
	return out
}

// NameOf names a generation in the journal; "" for none.
func NameOf(g *hierarchy.Generation) string {
	if g == nil {
		return ""
	}
	return g.Name()
}

// DayOf writes a switch day into the journal; "" for none.
func DayOf(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339Nano)
}

// Hashes are the fingerprints by which the journal names certificates.
func Hashes(list []*cert.Certificate) []string {
	out := make([]string, len(list))
	for i, c := range list {
		out[i] = fmt.Sprintf("%x", c.SHA256())
	}
	return out
}
