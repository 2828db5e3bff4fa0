package issue

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/hierarchy"
	"ironseal/pki/key"
	"ironseal/pki/request"
	"ironseal/pki/san"
	"ironseal/pki/span"
	"ironseal/pki/template"
)

// storedFormat is the number of the form in which plans are stored.
const storedFormat = 1

// stored is a plan as it can be kept and sent: everything that it was computed from, what was waived, and the digest
// that it has to have again. It holds no secret.
type stored struct {
	Format  int    `json:"format"`
	Version int    `json:"digest_version"`
	Digest  string `json:"digest"` // hex

	Request      []byte            `json:"request,omitempty"` // DER
	Template     string            `json:"template"`
	Source       []byte            `json:"template_source"`
	Issuer       string            `json:"issuer,omitempty"` // the generation, such as services.g1
	IssuerSHA256 string            `json:"issuer_sha256,omitempty"`
	Handle       string            `json:"handle,omitempty"`
	Subject      []byte            `json:"subject,omitempty"` // DER
	KeyKind      key.Kind          `json:"key_kind,omitempty"`
	SameKey      []byte            `json:"same_key,omitempty"` // SubjectPublicKeyInfo
	KeyID        []byte            `json:"key_id,omitempty"`
	Amend        storedAmendments  `json:"amendments"`
	Now          time.Time         `json:"now"`
	Newest       time.Time         `json:"newest"`
	BeginsBefore time.Duration     `json:"begins_before"` // nanoseconds
	Grants       span.Span         `json:"grants,omitzero"`
	Sender       string            `json:"sender,omitempty"`
	Beside       []string          `json:"beside,omitempty"` // names, with their kinds
	Published    template.Publish  `json:"published"`
	PartOfLists  int               `json:"part,omitempty"`
	Upkeep       bool              `json:"upkeep,omitempty"`
	Rehearse     bool              `json:"rehearse,omitempty"`
	SeenAs       string            `json:"seen_as,omitempty"`
	KeyFlaws     finding.List      `json:"key_flaws,omitempty"`
	Replaces     []byte            `json:"replaces,omitempty"` // DER
	Waived       map[string]string `json:"waived,omitempty"`   // codes and reasons
}

type storedAmendments struct {
	Add        []string  `json:"add,omitempty"`
	Drop       []string  `json:"drop,omitempty"`
	Subject    []byte    `json:"subject,omitempty"` // DER
	Lifetime   span.Span `json:"lifetime,omitzero"`
	PathLength *int      `json:"path_length,omitempty"`
	Unlimited  bool      `json:"unlimited,omitempty"`
	Permitted  []string  `json:"permitted,omitempty"`
	Excluded   []string  `json:"excluded,omitempty"`
}

// Store writes a plan so that it can be kept until another person agrees to it, and recomputed then.
func (p Plan) Store() ([]byte, error) {
	if p.in == nil {
		return nil, fault.New(fault.Internal, "there is no plan to store")
	}
	in, sum := p.in, p.Digest()
	out := stored{Format: storedFormat, Version: SheetVersion, Digest: hex.EncodeToString(sum[:]),
		Template: in.Template.Name, Source: in.Template.Source(), Handle: in.Handle, Subject: in.Subject.DER(),
		KeyKind: in.KeyKind, KeyID: in.KeyID, Now: in.Now, Newest: in.Newest, BeginsBefore: in.BeginsBefore,
		Grants: in.Grants, Sender: in.Sender, Published: in.Published, PartOfLists: in.Part, Upkeep: in.Upkeep,
		Rehearse: in.Rehearse, SeenAs: in.SeenAs, KeyFlaws: in.KeyFlaws, Replaces: p.Replaces,
		Amend: storeAmendments(in.Amend), Waived: map[string]string{}}
	if in.Request != nil {
		out.Request = in.Request.Raw
	}
	for _, n := range in.Beside {
		out.Beside = append(out.Beside, n.String())
	}
	if in.SameKey != nil {
		out.SameKey = in.SameKey.SPKI
	}
	if in.Issuer != nil {
		out.Issuer, out.IssuerSHA256 = in.Issuer.Name(), fmt.Sprintf("%x", in.Issuer.Certificate.SHA256())
	}
	for _, f := range p.Findings {
		if f.Waived != "" {
			out.Waived[string(f.Code)] = f.Waived
		}
	}
	return json.Marshal(out)
}

func storeAmendments(a Amendments) storedAmendments {
	out := storedAmendments{Lifetime: a.Lifetime, PathLength: a.PathLength, Unlimited: a.Unlimited}
	for _, n := range a.Add {
		out.Add = append(out.Add, n.String())
	}
	for _, n := range a.Drop {
		out.Drop = append(out.Drop, n.String())
	}
	if a.Subject != nil {
		out.Subject = a.Subject.DER()
	}
	for _, c := range a.Permit.Permitted {
		out.Permitted = append(out.Permitted, c.String())
	}
	for _, c := range a.Permit.Excluded {
		out.Excluded = append(out.Excluded, c.String())
	}
	return out
}

// Recompute reads a stored plan and computes it again, with the authorities as they are now. A plan that does not get
// the digest that it was stored with is refused as changed: what someone agreed to is not what would be signed.
func Recompute(data []byte, h hierarchy.Hierarchy) (Plan, error) {
	var s stored
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(&s); err != nil {
		return Plan{}, fault.New(fault.BadInput, "the stored plan cannot be read: %w", err)
	}
	if s.Format != storedFormat || s.Version != SheetVersion {
		return Plan{}, fault.New(fault.BadInput, "the stored plan has form %d with digests of version %d, and this "+
			"program "+
			"computes form %d with version %d: plan again", s.Format, s.Version, storedFormat, SheetVersion)
	}
	in, err := s.input(h)
	if err != nil {
		return Plan{}, err
	}
	p, err := New(in)
	if err != nil {
		return Plan{}, err
	}
	p.Replaces = s.Replaces
	for i := range p.Findings {
		f := &p.Findings[i]
		if because := s.Waived[string(f.Code)]; because != "" && f.Severity != finding.Refused {
			f.Waived = because
		}
	}
	if sum := p.Digest(); hex.EncodeToString(sum[:]) != s.Digest {
		return Plan{}, fault.New(fault.Changed, "the plan is not what it was when it was stored: plan again")
	}
	return p, nil
}

// input reads what the plan was computed from.
func (s stored) input(h hierarchy.Hierarchy) (in Input, err error) {
	fail := func(what string, err error) (Input, error) {
		return Input{}, fault.New(fault.BadInput, "the stored plan: %s: %w", what, err)
	}
	in = Input{Handle: s.Handle, KeyKind: s.KeyKind, KeyID: s.KeyID, Others: h, Now: s.Now, Newest: s.Newest,
		BeginsBefore: s.BeginsBefore, Grants: s.Grants, Sender: s.Sender, Published: s.Published, Part: s.PartOfLists,
		Upkeep: s.Upkeep, Rehearse: s.Rehearse, SeenAs: s.SeenAs, KeyFlaws: s.KeyFlaws}
	if in.Template, err = template.Parse(s.Template, s.Source, nil); err != nil {
		return fail("its template", err)
	}
	if len(s.Request) > 0 {
		if in.Request, err = request.Read(s.Request); err != nil {
			return fail("its request", err)
		}
	}
	if len(s.SameKey) > 0 {
		k, err := key.Read(s.SameKey)
		if err != nil {
			return fail("its key", err)
		}
		in.SameKey = &k
	}
	if len(s.Subject) > 0 {
		if in.Subject, err = dn.Read(s.Subject); err != nil {
			return fail("its subject", err)
		}
	}
	if s.Issuer != "" {
		in.Issuer = h.Generation(s.Issuer)
		if in.Issuer == nil || fmt.Sprintf("%x", in.Issuer.Certificate.SHA256()) != s.IssuerSHA256 {
			return Input{}, fault.New(fault.Changed, "the plan's issuer %s is not on record as it was", s.Issuer).
				On(fault.Authority.Named("%s", s.Issuer))
		}
	}
	if in.Beside, err = readAll(s.Beside, san.ParseTyped); err != nil {
		return fail("the names beside its request", err)
	}
	if in.Amend, err = s.Amend.read(); err != nil {
		return fail("its amendments", err)
	}
	return in, nil
}

func (a storedAmendments) read() (out Amendments, err error) {
	out = Amendments{Lifetime: a.Lifetime, PathLength: a.PathLength, Unlimited: a.Unlimited}
	if out.Add, err = readAll(a.Add, san.ParseTyped); err != nil {
		return out, err
	}
	if out.Drop, err = readAll(a.Drop, san.ParseTyped); err != nil {
		return out, err
	}
	var permit ext.Constraints
	if permit.Permitted, err = readAll(a.Permitted, san.ParseConstraint); err != nil {
		return out, err
	}
	if permit.Excluded, err = readAll(a.Excluded, san.ParseConstraint); err != nil {
		return out, err
	}
	out.Permit = permit
	if len(a.Subject) > 0 {
		n, err := dn.Read(a.Subject)
		if err != nil {
			return out, err
		}
		out.Subject = &n
	}
	return out, nil
}

func readAll[T any](texts []string, read func(string) (T, error)) (out []T, err error) {
	for _, text := range texts {
		one, err := read(text)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}
