package handover

import (
	"slices"
	"strings"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/key"
	"ironseal/pki/path"
	"ironseal/pki/request"
	"ironseal/pki/san"
)

// CheckAnswer judges a certificate that an outside authority returned for a
// request of ours: whether it is for this key, has what was asked for, is in
// force, and chains to an anchor among those that came with it or are known.
func CheckAnswer(r *request.Request, leaf *cert.Certificate, others, anchors []*cert.Certificate, now time.Time) finding.List {
	var out finding.List
	if !key.Same(r.Key, leaf.Key) {
		return append(out, finding.New(finding.AnswerOtherKey, "%s is a certificate for another key than the request's.", leaf.Title()))
	}
	var missing []string
	for _, n := range r.Names {
		if !slices.ContainsFunc(leaf.Names, func(have san.Name) bool { return have.Same(n) }) {
			missing = append(missing, n.String())
		}
	}
	if len(missing) > 0 {
		out = append(out, finding.New(finding.AnswerLacks, "It lacks what was asked for: %s.", strings.Join(missing, ", ")))
	}
	_, extended := r.Usage()
	var lacking []string
	for _, u := range ext.UsageNames(extended) {
		if leaf.HasExtended && !slices.Contains(ext.UsageNames(leaf.Extended), u) {
			lacking = append(lacking, u)
		}
	}
	if len(lacking) > 0 {
		out = append(out, finding.New(finding.AnswerLacks, "It lacks the usage %s.", strings.Join(lacking, ", ")))
	}
	for _, c := range others {
		if c.SelfSigned() {
			anchors = append(anchors, c)
		}
	}
	v := path.Verify(leaf, others, path.Question{Anchors: anchors, Now: now})
	for _, f := range v.Reasons() {
		if f.Code == finding.MissingIssuer || f.Code == finding.UnknownAnchor {
			f = finding.New(finding.AnswerOpen, "%s", f.Message)
		}
		out = append(out, f)
	}
	return out.Ranked()
}
