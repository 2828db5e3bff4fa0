package issue

import (
	"fmt"

	"ironseal/pki/finding"
)

// NeedsPerson says why the plan must not be signed without a person, as sentences; none where it may. A machine is
// never
// granted what a person could not sign without a waiver, nor anything else than it asked for. renews says that the
// machine has a certificate for these names; without one, a name that another certificate serves waits.
func (p Plan) NeedsPerson(by string, renews bool) (why []string) {
	u := p.in.Template.Unattended
	if !u.Allows(by) {
		return []string{fmt.Sprintf("The template %s lets a person decide.", p.in.Template.Name)}
	}
	if p.in.Template.Approvals > 1 {
		why = append(why, fmt.Sprintf("%d operators must agree.", p.in.Template.Approvals))
	}
	if p.in.Issuer == nil || p.in.Issuer.Authority.Handle != u.Authority {
		why = append(why, fmt.Sprintf("Another authority than %s would sign.", u.Authority))
	}
	for _, f := range p.Findings {
		if f.Severity >= finding.Waivable || f.Code == finding.KeyReused || f.Code == finding.NameLive && !renews {
			why = append(why, fmt.Sprintf("%s (%s)", f.Message, f.Code))
		}
	}
	if len(p.Names) == 0 {
		why = append(why, "It has no name.")
	}
	for _, n := range p.Names {
		if !u.Covers(n) {
			why = append(why, fmt.Sprintf("The name %s is outside what may be signed without a person.", n.Value()))
		}
	}
	for _, r := range p.Rows {
		if r.Field == "name" && r.Asked != "" && r.Signed == "" {
			why = append(why, fmt.Sprintf("The name %s was asked for and would be left out.", r.Asked))
		}
	}
	return why
}
