package signing

import (
	"context"
	"encoding/asn1"
	"fmt"
	"slices"

	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/lifecycle"
	"ironseal/pki/path"
	"ironseal/pki/request"
	"ironseal/pki/template"
)

// Fit says how a template suits a request.
type Fit struct {
	Template string       `json:"template,omitempty"`
	Title    string       `json:"title,omitempty"`
	By       string       `json:"by,omitempty"`
	Fits     bool         `json:"fits"`
	Usages   []string     `json:"usages"`         // what it gives
	Life     string       `json:"life,omitempty"` // how long, in words
	Code     finding.Code `json:"code,omitempty"` // what speaks against it
	Reason   string       `json:"reason"`

	sheet *Sheet // nil where it could not be planned
}

// Fitting ranks the templates that make end entities by how they suit a
// request: first those that nothing speaks against.
func Fitting(ctx context.Context, e *estate.Estate, ask SignAsk) ([]Fit, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) ([]Fit, error) { return fitting(ctx, e, ask) })
}

func fitting(ctx context.Context, e *estate.Estate, ask SignAsk) ([]Fit, error) {
	rec, r, err := e.Request(ctx, ask.Request)
	if err != nil {
		return nil, err
	}
	if rec.State != lifecycle.Waiting && rec.State != lifecycle.Sent {
		return nil, fault.New(fault.Changed, "R%d is %s", rec.Number, rec.State).On(fault.Request.Named("R%d",
			rec.Number)).
			Then(afterState(rec)...)
	}
	good, bad, err := tried(ctx, e, ask, rec, r)
	return append(good, bad...), err
}

// tried plans a request by every template that makes end entities.
func tried(ctx context.Context, e *estate.Estate, ask SignAsk, rec store.Request, r *request.Request) (good,
	bad []Fit, err error) {
	p, err := NewPlanning(ctx, e)
	if err != nil {
		return nil, nil, err
	}
	seen, err := e.Records.KeySeenAs(ctx, r.Key.Fingerprint())
	if err != nil {
		return nil, nil, err
	}
	list, faults := e.Templates()
	for _, t := range list {
		if t.IsAuthority() {
			continue
		}
		ask.Template, ask.Waivers = t.Name, nil
		if f := try(ctx, e, p, ask, t, rec, r, seen); !f.Fits {
			bad = append(bad, f)
		} else if f.Reason != t.Purpose { // a usage that is asked for is lacking
			good = append(good, f)
		} else {
			good = append([]Fit{f}, good...)
		}
	}
	for _, err := range faults {
		bad = append(bad, Fit{Reason: err.Error(), Usages: []string{}})
	}
	return good, bad, nil
}

// try plans a request by one template.
func try(ctx context.Context, e *estate.Estate, p *Planning, ask SignAsk, t template.Template, rec store.Request,
	r *request.Request, seen []string) Fit {
	f := Fit{Template: t.Name, Title: t.Title, Usages: append([]string{}, t.Extended...), Life: t.Lifetime.Words()}
	err := p.Learn(ctx, e, ask)
	if err == nil {
		f.sheet, err = PlanRead(ctx, e, p, ask, rec, r, seen, 0)
	}
	if err != nil {
		f.Reason = err.Error()
		return f
	}
	f.By = f.sheet.Issuer.Authority.Handle
	if bad := f.sheet.Plan.Findings.Refusing(); len(bad) > 0 {
		f.Reason, f.Code = bad[0].Message, bad[0].Code
		return f
	}
	f.Fits, f.Reason = true, t.Purpose
	if usage := lacking(f.sheet.Plan.Findings); usage != "" {
		f.Reason = usage
	}
	return f
}

// Foresee plans a request that may not be on record: by the template named, else by the first
// that fits and has the usages wanted, else by the first that fits.
func Foresee(ctx context.Context, e *estate.Estate, r *request.Request, named string,
	wanted []asn1.ObjectIdentifier) (*Sheet, error) {
	return estate.Snapshot(ctx, e, func(e *estate.Estate) (*Sheet, error) {
		good, bad, err := tried(ctx, e, SignAsk{}, store.Request{}, r)
		if err != nil {
			return nil, err
		}
		if named != "" {
			if _, err := e.Template(named); err != nil {
				return nil, err
			}
			for _, f := range append(good, bad...) {
				if f.Template == named && f.sheet == nil {
					return nil, fmt.Errorf("%s by the template %s: %s", r.Title(), named, f.Reason)
				}
				if f.Template == named {
					return f.sheet, nil
				}
			}
			return nil, fmt.Errorf("template %s makes authorities, and no certificate for %s", named, r.Title())
		}
		for _, f := range good {
			have := f.sheet.Template.ExtendedUsage()
			lacks := func(u asn1.ObjectIdentifier) bool { return !path.Permits(have, u) }
			if !slices.ContainsFunc(wanted, lacks) {
				return f.sheet, nil
			}
		}
		if len(good) == 0 {
			return nil, fmt.Errorf("no template fits the request for %s: %s", r.Title(), bad[0].Reason)
		}
		return good[0].sheet, nil
	})
}

func lacking(l finding.List) string {
	for _, f := range l {
		if f.Code == finding.AsksUsage {
			return f.Message
		}
	}
	return ""
}
