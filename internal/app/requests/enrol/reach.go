package enrol

import (
	"context"
	"fmt"
	"strings"

	"ironseal/internal/estate"
	"ironseal/pki/template"
)

// Reach is what machines need in their settings, beside a credential.
type Reach struct {
	EST         string `json:"est,omitempty" doc:"the address for EST"`
	ACME        string `json:"acme,omitempty" doc:"the directory for ACME"`
	SCEP        string `json:"scep,omitempty" doc:"the address for SCEP"`
	Fingerprint string `json:"fingerprint,omitempty" doc:"SHA-256 of the certificate of the authority that signs, in hex, which gateways ask for"`
	Person      bool   `json:"person_decides,omitempty" doc:"whether the template lets a person decide on every request"`
}

// HowToReach tells what machines need that enrol by a template, as far as the settings tell where the server is.
func HowToReach(ctx context.Context, e *estate.Estate, name string) (Reach, error) {
	var out Reach
	t, err := e.Template(name)
	if err != nil {
		return out, err
	}
	u, set := t.Unattended, e.Settings.Serve
	out.Person = len(u.By) == 0
	base := strings.TrimSuffix(set.MachinesAddress, "/")
	if base == "" && set.Machines != "" {
		base = "https://" + set.Machines
	}
	if base != "" {
		out.EST, out.ACME = base+"/.well-known/est/"+name, base+"/acme/"+name+"/directory"
	}
	if !u.Allows(template.SCEP) {
		return out, nil
	}
	if set.Public != "" {
		out.SCEP = "http://" + set.Public + "/scep/" + name
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return out, err
	}
	if a := h.Find(u.Authority); a != nil && a.Current() != nil {
		out.Fingerprint = fmt.Sprintf("%X", a.Current().Certificate.SHA256())
	}
	return out, nil
}
