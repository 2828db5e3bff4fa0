// Package client knows how kinds of client differ. The standard says what a chain must be;
// real clients take some of what it forbids and refuse some of what it allows. Each kind is
// data: a list of such differences, every one with the fact that was measured. A verdict
// rests on the standard's, changed by the kind's differences alone, so that it can always be
// said which fact it comes from.
package client

import (
	"embed"
	"fmt"
	"slices"
	"strings"

	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/key"
	"ironseal/pki/path"
	"ironseal/pki/strict"
)

//go:embed kind/*.toml
var kinds embed.FS

var embedded = strict.Embedded{Files: kinds, Dir: "kind"}

// Kind is a kind of client.
type Kind struct {
	Name     string       `toml:"-" json:"name"`
	Title    string       `toml:"title" json:"title" doc:"what it is, with the version that was tried"`
	Measured string       `toml:"measured" json:"measured" doc:"how and when it was tried"`
	Differs  []Difference `toml:"differs" json:"differs" doc:"in what it differs from the standard"`
}

// Difference is one thing in which a kind differs from the standard.
type Difference struct {
	When  string `toml:"when" json:"when" doc:"the circumstance"`
	Takes bool   `toml:"takes" json:"takes" doc:"whether it accepts it; what the standard accepts and it refuses has false"`
	Fact  string `toml:"fact" json:"fact" doc:"what was measured"`
}

// Names lists the kinds that are known.
func Names() []string {
	return embedded.Names()
}

// All are the kinds that are known.
func All() (out []Kind) {
	for _, name := range Names() {
		if k, err := Of(name); err == nil { // they are part of the program, and tests read them all
			out = append(out, k)
		}
	}
	return out
}

// Of reads a kind; the error of an unknown name has a suggestion.
func Of(name string) (Kind, error) {
	text := embedded.Text(name)
	if text == "" {
		return Kind{}, fmt.Errorf("client %q: there is no such kind; %s", name, strict.Offered(name, Names()))
	}
	return Parse(name, []byte(text))
}

// Parse reads the file of a kind. Reading is strict.
func Parse(name string, data []byte) (Kind, error) {
	k := Kind{Name: name}
	if err := strict.Read(data, &k); err != nil {
		return k, fmt.Errorf("client %s:%w", name, err)
	}
	for i, d := range k.Differs {
		c, ok := circumstances[d.When]
		if !ok {
			return k, fmt.Errorf("client %s: differs %d: when = %q: use one of %s", name, i+1, d.When,
				strings.Join(Circumstances(), ", "))
		}
		if (c.excuses != nil) != d.Takes || d.Fact == "" {
			return k, fmt.Errorf("client %s: differs %d: %s needs takes = %v, and the fact that was measured", name,
				i+1, d.When, c.excuses != nil)
		}
	}
	strict.Fill(&k)
	return k, nil
}

// Answer is what a kind of client makes of a chain.
type Answer struct {
	Kind    string   `json:"client" doc:"the kind of client"`
	Accepts bool     `json:"accepts" doc:"whether it would"`
	Because []string `json:"because" doc:"the facts that decide, or what the standard has against it"`
}

// Judge says what the kind makes of a chain that was judged by the standard. The chain is
// the verdict's.
func (k Kind) Judge(v path.Verdict) Answer {
	var against, excuses []string
	reasons := v.Reasons()
	for _, d := range k.Differs {
		c := circumstances[d.When]
		if !d.Takes && c.holds(v) {
			against = append(against, d.Fact)
		}
		if d.Takes {
			before := len(reasons)
			reasons = slices.DeleteFunc(reasons, func(f finding.Finding) bool { return c.excuses(v, f) })
			if len(reasons) < before {
				excuses = append(excuses, d.Fact)
			}
		}
	}
	for _, f := range reasons {
		against = append(against, f.Message)
	}
	if len(against) > 0 {
		return Answer{Kind: k.Name, Because: against}
	}
	return Answer{Kind: k.Name, Accepts: true, Because: append([]string{}, excuses...)}
}

// circumstance is something that kinds of client differ in: it excuses what the standard
// refuses, or it holds of a chain that the standard accepts.
type circumstance struct {
	excuses func(v path.Verdict, f finding.Finding) bool
	holds   func(v path.Verdict) bool
}

// Circumstances lists what kinds of client can differ in.
func Circumstances() []string {
	var out []string
	for name := range circumstances {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

var circumstances = map[string]circumstance{
	"name-only-in-common-name": {excuses: func(_ path.Verdict, f finding.Finding) bool {
		return f.Code == finding.OnlyCommonName
	}},
	"leaf-without-the-usage": {excuses: func(v path.Verdict, f finding.Finding) bool {
		return f.Code == finding.UsageMissing && at(v, f) == 0
	}},
	"issuer-without-the-usage": {excuses: func(v path.Verdict, f finding.Finding) bool {
		return f.Code == finding.UsageMissing && at(v, f) > 0
	}},
	"short-rsa-key": {excuses: func(v path.Verdict, f finding.Finding) bool {
		n := at(v, f)
		return f.Code == finding.WeakKey && n >= 0 && v.Steps[n].Certificate.Key.Kind.Family() == "rsa" &&
			v.Steps[n].Certificate.Key.Bits >= 1024 && v.Steps[n].Certificate.Key.Bits < 2048
	}},
	"negative-serial": {excuses: func(v path.Verdict, f finding.Finding) bool {
		n := at(v, f)
		return f.Code == finding.Malformed && n >= 0 &&
			slices.Equal(v.Steps[n].Certificate.Faults, []string{"its serial is negative"})
	}},
	"ed25519-anywhere": {holds: func(v path.Verdict) bool {
		return slices.ContainsFunc(v.Steps, func(s path.Step) bool {
			return s.Certificate.Key.Kind == key.Ed25519 && s.Role != path.Anchor
		})
	}},
	"p521-leaf": {holds: func(v path.Verdict) bool {
		l := leaf(v)
		return l != nil && l.Key.Kind == key.P521
	}},
	"rsa-leaf-only-enciphers": {holds: func(v path.Verdict) bool {
		l := leaf(v)
		return l != nil && l.HasUsage && l.Usage&ext.DigitalSignature == 0 && l.Usage&ext.KeyEncipherment != 0
	}},
	"chain-over-32-kb": {holds: func(v path.Verdict) bool {
		size := 0
		for _, s := range v.Steps {
			if s.Role != path.Anchor {
				size += len(s.Certificate.Raw)
			}
		}
		return size > 32<<10
	}},
}

func leaf(v path.Verdict) *cert.Certificate {
	if len(v.Steps) == 0 {
		return nil
	}
	return v.Steps[0].Certificate
}

// at says at which step of the chain a finding stands; -1 where it stands at none.
func at(v path.Verdict, f finding.Finding) int {
	return slices.IndexFunc(v.Steps, func(s path.Step) bool {
		return slices.ContainsFunc(s.Findings, func(x finding.Finding) bool {
			return x.Code == f.Code && x.Message == f.Message
		})
	})
}
