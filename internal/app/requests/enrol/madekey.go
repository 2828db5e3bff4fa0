package enrol

import (
	"context"
	"strings"

	"ironseal/internal/app/requests/intake"
	"ironseal/internal/estate"
	"ironseal/pki/est"
	"ironseal/pki/ext"
	"ironseal/pki/fault"
	"ironseal/pki/key"
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
	"ironseal/pki/san"
)

// MakeKey makes a key for a machine, and enrols the machine with it (RFC 7030 section 4.4). The key is sealed to an RSA
// key of the machine: that of its certificate, else that of its request. It is kept nowhere, so a request that would
// have to wait for a person is declined.
func MakeKey(ctx context.Context, e *estate.Estate, ask Ask, by est.By) (out Outcome, sealed []byte, err error) {
	t, err := e.Template(ask.Label)
	if err != nil {
		return out, nil, err
	}
	if !t.Unattended.MakeKeys {
		return out, nil, fault.New(fault.Refused, "by the template %s, machines make their keys themselves", ask.Label)
	}
	r, err := request.Read(ask.Request)
	if err == nil {
		err = r.Proven()
	}
	if err != nil {
		return out, nil, fault.New(fault.BadInput, "%w", err)
	}
	to := r.Key
	if ask.Certificate != nil {
		to = ask.Certificate.Key
	}
	if to.Kind.Family() != "rsa" {
		return out, nil, fault.New(fault.Refused, "a key is sealed to an RSA key, that of your certificate or of your "+
			"request: yours is of kind %s", to.Kind)
	}
	if bad := to.Weakness().Refusing(); len(bad) > 0 { // whoever breaks it has the key that is made
		return out, nil, fault.New(fault.Refused, "a key is not sealed to yours: %s", bad[0].Message)
	}
	made, err := key.Generate(est.KeyOf(t), e.Env.Random)
	if err != nil {
		return out, nil, err
	}
	var fresh []san.Name
	for _, n := range r.Names {
		fresh = append(fresh, n.Fresh())
	}
	var set ext.Set
	if len(fresh) > 0 {
		alt, err := ext.NamesExtension(fresh, false)
		if err != nil {
			return out, nil, fault.New(fault.BadInput, "%w", err)
		}
		set = ext.Set{alt}
	}
	if ask.Request, err = request.Draft(r.Subject, set, made, e.Env.Random); err != nil {
		return out, nil, err
	}
	if sealed, err = est.SealKey(made, to, by, e.Now(), e.Env.Random); err != nil {
		return out, nil, err
	}
	if out, err = Enrol(ctx, e, ask); err != nil || out.Certificate != nil {
		return out, sealed, err
	}
	why := "its key was made by the server, which keeps none"
	if _, err := intake.Decide(ctx, e, out.Number, lifecycle.Declined, why, false); err != nil {
		return out, nil, err
	}
	return out, nil, fault.New(fault.Refused, "the request would wait for a person, and %s: %s", why,
		strings.Join(out.Waits, " "))
}
