package client

import (
	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/path"
	"ironseal/pki/san"
)

// Presented judges what a machine presents, the leaf first, as one does that holds the
// anchors: a server's by its first host, any other's without name and usage.
func Presented(chain, anchors []*cert.Certificate, q path.Question) path.Verdict {
	leaf := chain[0]
	q.Anchors = anchors
	host := san.FirstHost(leaf.Names)
	if usage, err := ext.ParseExtendedUsage("serverAuth"); err == nil && host != "" &&
		(!leaf.HasExtended || path.Permits(leaf.Extended, usage)) {
		q.Usage, q.Name = usage, host
	}
	return path.Verify(leaf, chain[1:], q)
}

// Findings says which kinds would refuse what was judged. Those that are wanted have to
// accept; of the others it is reported where they refuse what the standard accepts.
func Findings(v path.Verdict, wanted []Kind) (out finding.List) {
	named := map[string]bool{}
	for _, k := range wanted {
		named[k.Name] = true
		if a := k.Judge(v); !a.Accepts {
			out = append(out, finding.New(finding.ClientRefuses, "%s would refuse it. %s", k.Title, a.Because[0]))
		}
	}
	if !v.Valid {
		return out
	}
	for _, k := range All() {
		if a := k.Judge(v); !a.Accepts && !named[k.Name] {
			out = append(out, finding.New(finding.SomeRefuse, "%s would refuse it. %s", k.Title, a.Because[0]))
		}
	}
	return out
}

// Losing says which kinds accept what serves today and would refuse its successor.
func Losing(kinds []Kind, before, after path.Verdict) (out []Answer) {
	for _, k := range kinds {
		if a := k.Judge(after); !a.Accepts && k.Judge(before).Accepts {
			out = append(out, a)
		}
	}
	return out
}
