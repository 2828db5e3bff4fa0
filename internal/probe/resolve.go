package probe

import (
	"context"
	"net"
	"time"

	"ironseal/pki/finding"
	"ironseal/pki/san"
)

// mostLookups bounds how many names are looked up.
const mostLookups = 50

// Unresolved looks names up and says which do not resolve from here. Wildcards
// and names that are no hosts are passed over.
func Unresolved(ctx context.Context, names []san.Name) finding.List {
	var out finding.List
	for i, n := range names {
		if i == mostLookups {
			break
		}
		if n.Kind() != san.DNS || n.IsWildcard() || n.Fault() != "" {
			continue
		}
		one, cancel := context.WithTimeout(ctx, 3*time.Second)
		_, err := net.DefaultResolver.LookupHost(one, n.Value())
		cancel()
		if err != nil {
			out = append(out, finding.New(finding.Unresolved, "%s does not resolve from here.", n.Value()))
		}
	}
	return out
}
