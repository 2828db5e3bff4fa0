package estate

import (
	"bytes"
	"context"
	"crypto"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironseal/internal/disk"
	"ironseal/internal/store"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/handover"
	"ironseal/pki/hierarchy"
	"ironseal/pki/key"
	"ironseal/pki/label"
)

// Held is a certificate on record, read, with its state as of now.
type Held struct {
	Record store.Certificate
	*cert.Certificate
	State string // one of the states below
}

// States that certificates have.
const (
	Valid    = "valid"
	Expiring = "expiring"
	Expired  = "expired"
	Replaced = "replaced" // another was signed in its place; it goes on holding until its end
	Staged   = "staged"   // it waits for a switch day
	Revoked  = "revoked"
)

// States are all of them.
var States = []string{Valid, Expiring, Expired, Replaced, Staged, Revoked}

// AnyState stands for whatever state, where states are chosen from.
const AnyState = "any"

// Serves reports whether a certificate in a state is one that servers should show today.
func Serves(state string) bool { return state == Valid || state == Expiring }

// Holders tells who is known to hold a certificate.
func (e *Estate) Holders(ctx context.Context, c Held) ([]string, error) {
	return e.records.Holders(ctx, c.Record.ID)
}

func (e *Estate) held(r store.Certificate) (Held, error) {
	c, err := cert.Read(r.DER)
	if err != nil {
		return Held{}, fmt.Errorf("certificate %s on record does not read: %w", r.Title, err)
	}
	state := e.StateOf(c)
	switch {
	case r.Revoked:
		state = Revoked
	case r.Staged:
		state = Staged
	case r.Replaced && state != Expired:
		state = Replaced
	}
	return Held{r, c, state}, nil
}

// StateOf says what state a certificate is in today.
func (e *Estate) StateOf(c *cert.Certificate) string {
	now := e.Now()
	switch {
	case now.After(c.NotAfter):
		return Expired
	case e.Settings.ExpiringFrom(now).After(c.NotAfter):
		return Expiring
	}
	return Valid
}

// StateOfGeneration says what state a generation is in today: one that has a
// successor goes on holding, and is never simply valid.
func (e *Estate) StateOfGeneration(g *hierarchy.Generation) string {
	state := e.StateOf(g.Certificate)
	switch {
	case !g.Staged.IsZero():
		return Staged
	case state != Expired && g != g.Authority.Current():
		return Replaced
	}
	return state
}

// Certificates lists certificates, in the order in which they were signed.
func (e *Estate) Certificates(ctx context.Context) ([]Held, error) {
	list, err := e.records.Certificates(ctx)
	return e.heldAll(list, err)
}

func (e *Estate) heldAll(list []store.Certificate, err error) ([]Held, error) {
	if err != nil {
		return nil, err
	}
	out := make([]Held, 0, len(list))
	for _, r := range list {
		h, err := e.held(r)
		if err != nil {
			return nil, err
		}
		out = append(out, h)
	}
	return out, nil
}

// FindCertificate finds a certificate by a unique prefix of its serial, by its
// request, by an authority's handle or by a name. Where a name fits several, the
// newest valid one is taken and note says so.
func (e *Estate) FindCertificate(ctx context.Context, name string) (found Held, note string, err error) {
	name = strings.TrimSpace(name)
	if n, numErr := ParseNumber(name); numErr == nil && strings.HasPrefix(strings.ToUpper(name), "R") {
		list, err := e.heldAll(e.records.CertificatesByRequest(ctx, n))
		if err != nil {
			return found, "", err
		}
		if len(list) > 0 {
			return newest(list, fmt.Sprintf("came from R%d", n))
		}
		if rec, err := e.records.Request(ctx, n); err == nil {
			return found, "", fmt.Errorf("R%d is %s: there is no certificate for it", n, rec.State)
		}
		return found, "", fmt.Errorf("R%d: there is no such request", n)
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return found, "", err
	}
	if g := h.Generation(name); g != nil {
		rec, err := e.records.CertificateOf(ctx, g.Authority.Handle, g.Number)
		if err != nil {
			return found, "", err
		}
		found, err = e.held(rec)
		return found, "", err
	}
	list, err := e.heldAll(e.records.CertificatesByName(ctx, strings.TrimPrefix(name, "dns:")))
	if err != nil {
		return found, "", err
	}
	if len(list) > 0 {
		return newest(list, "have the name "+name)
	}
	return e.findBySerial(ctx, name)
}

// KnownAgainst says what the records know against a certificate that a client may
// accept all the same: that another was signed in its place, or that it waits.
func (e *Estate) KnownAgainst(ctx context.Context, c *cert.Certificate) finding.List {
	list, err := e.heldAll(e.records.CertificatesByKey(ctx, c.Key.Fingerprint(), 100))
	if err != nil {
		return nil // what does not read is told by estate check
	}
	for _, h := range list {
		if !bytes.Equal(h.Raw, c.Raw) {
			continue
		}
		switch h.State {
		case Replaced, Staged, Revoked:
			return finding.List{finding.New(finding.OnRecord, "On record %s is %s.", c.Title(), h.State)}
		}
	}
	return nil
}

// TemplatesSignedBy are the names of the templates that something was signed by.
func (e *Estate) TemplatesSignedBy(ctx context.Context) ([]string, error) {
	var out []string
	err := e.records.EachTemplate(ctx, func(_ []byte, name string, _ []byte) { out = append(out, name) })
	slices.Sort(out)
	return slices.Compact(out), err
}

// standing is how much a state counts where several certificates fit a name.
var standing = map[string]int{Valid: 3, Expiring: 3, Replaced: 2, Staged: 1}

// newest takes the newest of those that serve; where none does, of those that were
// replaced, then of those that wait, then any. fits says what they have in common.
func newest(list []Held, fits string) (Held, string, error) {
	best := list[0]
	for _, c := range list[1:] {
		if standing[c.State] >= standing[best.State] {
			best = c
		}
	}
	if len(list) == 1 {
		return best, "", nil
	}
	return best, fmt.Sprintf("%d certificates %s; this is the newest that serves, serial %s", len(list), fits,
		best.Serial.Short()), nil
}

func (e *Estate) findBySerial(ctx context.Context, name string) (Held, string, error) {
	digits := strings.ToLower(strings.NewReplacer(" ", "", ":", "").Replace(name))
	none := fmt.Errorf("certificate %q: there is none with this serial, request, handle or name: see them with: "+
		"ironseal certificate list", name)
	if digits == "" || strings.Trim(strings.TrimPrefix(digits, "-"), "0123456789abcdef") != "" {
		return Held{}, "", none
	}
	list, err := e.heldAll(e.records.CertificatesBySerial(ctx, digits))
	switch {
	case err != nil:
		return Held{}, "", err
	case len(list) == 0:
		return Held{}, "", none
	case len(list) > 1:
		return Held{}, "", fmt.Errorf("certificate %q: the serials of %d certificates begin so: give more digits", name,
			len(list))
	}
	return list[0], "", nil
}

// Line returns the certificates above one, the direct issuer first and the root
// last.
func (e *Estate) Line(ctx context.Context, c Held) ([]*cert.Certificate, error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	var g *hierarchy.Generation
	if c.Record.Issuer != "" {
		g = h.Generation(c.Record.Issuer)
	}
	var out []*cert.Certificate
	for _, i := range lineOf(g) {
		out = append(out, i.Certificate)
	}
	if c.Record.Issuer != "" || c.Record.ID == 0 {
		return out, nil
	}
	outside, err := e.records.Chain(ctx, c.Record.ID)
	if err != nil {
		return nil, err
	}
	for _, der := range outside {
		i, err := cert.Read(der)
		if err != nil {
			return nil, fmt.Errorf("the chain of %s on record does not read: %w", c.Title(), err)
		}
		out = append(out, i)
	}
	return out, nil
}

// Roots returns the certificates of every root of the estate, as anchors, and
// those of the other authorities. What waits for a switch day is neither yet.
func (e *Estate) Roots(ctx context.Context) (roots, others []*cert.Certificate, err error) {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, a := range h {
		for _, g := range a.Generations {
			switch {
			case g.IsRoot() && g.Staged.IsZero():
				roots = append(roots, g.Certificate)
			case g.Staged.IsZero():
				others = append(others, g.Certificate)
			}
		}
	}
	return roots, others, nil
}

// File is a file to hand out.
type File struct {
	Name string
	Data []byte
}

// What goes with a certificate when it is handed out.
const (
	Alone       = ""
	WithIssuers = "issuers" // leaf and intermediates
	WithRoot    = "root"    // leaf, intermediates and the root
	WithLinks   = "links"   // leaf and link certificates
	WithAll     = "all"     // leaf, intermediates, root and link certificates: for another estate
)

// Goods are a certificate with its whole line, and its key where it is given.
func (e *Estate) Goods(ctx context.Context, c Held, signer crypto.Signer) (handover.Goods, error) {
	g := handover.Goods{Leaf: c.Certificate, Key: signer}
	line, err := e.Line(ctx, c)
	if err != nil {
		return g, err
	}
	for _, i := range line {
		if i.SelfSigned() {
			g.Root = i
		} else {
			g.Intermediates = append(g.Intermediates, i)
		}
	}
	g.Links, err = e.linksTo(ctx, g, false)
	return g, err
}

// linksTo finds the link certificates that let a client which holds only
// another root of the same authority accept these goods; with all, those between
// any of its roots, for an estate that hands out certificates below each of them.
func (e *Estate) linksTo(ctx context.Context, g handover.Goods, all bool) ([]*cert.Certificate, error) {
	root := g.Root
	if root == nil && g.Leaf.SelfSigned() {
		root = g.Leaf
	}
	h, err := e.Hierarchy(ctx)
	if err != nil || root == nil {
		return nil, err
	}
	var out []*cert.Certificate
	for _, a := range h {
		for _, l := range a.Links {
			fits := all || key.Same(l.Certificate.Key, root.Key)
			if fits && l.By.Staged.IsZero() && l.To.Staged.IsZero() && l.Certificate.Subject.Equal(root.Subject) &&
				!e.Now().After(l.Certificate.NotAfter) {
				out = append(out, l.Certificate)
			}
		}
	}
	return out, nil
}

// Export makes the file for one certificate, in one of the forms that hold no key.
func (e *Estate) Export(ctx context.Context, c Held, as handover.Format, with string) (File, error) {
	if c.State == Staged {
		return File{}, fmt.Errorf("%s, serial %s, waits unused for its switch day", c.Title(), c.Serial.Short())
	}
	g, err := e.Goods(ctx, c, nil)
	if err != nil {
		return File{}, err
	}
	if with == WithAll {
		if g.Links, err = e.linksTo(ctx, g, true); err != nil {
			return File{}, err
		}
	}
	parts := map[string][]string{Alone: {handover.PartLeaf},
		WithIssuers: {handover.PartLeaf, handover.PartIntermediates},
		WithRoot:    {handover.PartLeaf, handover.PartIntermediates, handover.PartRoot},
		WithLinks:   {handover.PartLeaf, handover.PartLinks},
		WithAll:     {handover.PartLeaf, handover.PartIntermediates, handover.PartRoot, handover.PartLinks}}[with]
	suffix := "certificate"
	if with != Alone {
		suffix = "with-" + with
	}
	data, err := handover.Encode(g, handover.Writing{Parts: parts, Format: as})
	if err != nil {
		return File{}, fmt.Errorf("%s: %w", c.Title(), err)
	}
	return File{label.FileName(c.Title()) + "." + suffix + as.Ending(), data}, nil
}

// Target says where a file will go and whether another is there.
func Target(f File, out string) (path string, exists bool, err error) {
	path = filepath.Join(".", f.Name)
	if out != "" {
		info, statErr := os.Stat(out)
		path = out
		if statErr == nil && info.IsDir() || strings.HasSuffix(out, string(filepath.Separator)) ||
			strings.HasSuffix(out, "/") {
			path = filepath.Join(out, f.Name)
		}
	}
	same, there, err := disk.Holds(path, f.Data)
	return path, there && !same, err
}

// WriteFile writes a file to hand out.
func (e *Estate) WriteFile(path string, data []byte) error {
	if err := WriteOut(e.world.Disk, path, data, false); err != nil {
		return err
	}
	return e.world.Step(StepHandingOut)
}

// Status is how the estate stands.
type Status struct {
	Organisation string          `json:"organisation"`
	Dir          string          `json:"directory"`
	Counts       store.Counts    `json:"counts"`
	Authorities  []AuthorityLine `json:"authorities"`
	Waiting      []WaitingLine   `json:"waiting"`
	Ending       []EndingLine    `json:"ending"`
	Sent         []SentLine      `json:"sent"`
	Rehearsal    bool            `json:"rehearsal,omitempty"`
	Head         store.Head      `json:"journal_head"`
	ClockBehind  string          `json:"clock_behind,omitempty"`
	Faults       []string        `json:"faults,omitempty"`
	Next         []Advice        `json:"next"`
}

// AuthorityLine is an authority in a status.
type AuthorityLine struct {
	Handle string    `json:"handle"`
	Until  time.Time `json:"not_after"`
	State  string    `json:"state"`
	Root   bool      `json:"root"`
	Note   string    `json:"note,omitempty"` // where its key is elsewhere, since when it is retired, what is prepared
}

// WaitingLine is a waiting request in a status.
type WaitingLine struct {
	Name     string    `json:"request"`
	Title    string    `json:"title"`
	Received time.Time `json:"received"`
}

// EndingLine is a certificate that ends soon.
type EndingLine struct {
	Title  string    `json:"title"`
	Serial string    `json:"serial"`
	Until  time.Time `json:"not_after"`
	State  string    `json:"state"`
}

func noteOn(a *hierarchy.Authority) string {
	switch {
	case a.Elsewhere:
		return "its key is elsewhere"
	case !a.Retired.IsZero():
		return "retired since " + a.Retired.Format("2006-01-02")
	case a.Prepared() != nil:
		return fmt.Sprintf("g%d waits for %s", a.Prepared().Number, a.Prepared().Staged.Format("2006-01-02"))
	}
	return ""
}

// SentLine is an authority's request that is at a parent elsewhere.
type SentLine struct {
	Handle string    `json:"authority"`
	Parent string    `json:"parent,omitempty"`
	Made   time.Time `json:"sent"`
}

// Advice is the next thing to do: why, and the command.
type Advice struct {
	Why     string `json:"why"`
	Command string `json:"command"`
}

// Counts tells how many records of each kind there are.
func (e *Estate) Counts(ctx context.Context) (store.Counts, error) { return e.records.Count(ctx) }

// Status looks at everything that an administrator should know today.
func (e *Estate) Status(ctx context.Context) (Status, error) {
	s := Status{Organisation: e.Settings.Organisation.Name, Dir: e.Dir, Authorities: []AuthorityLine{},
		Waiting: []WaitingLine{}, Ending: []EndingLine{}, Next: []Advice{}}
	var err error
	if s.Counts, err = e.records.Count(ctx); err != nil {
		return s, err
	}
	var newest time.Time
	if s.Head, newest, err = e.records.Newest(ctx); err != nil {
		return s, err
	}
	now := e.Now()
	if now.Before(newest.Add(-time.Second)) {
		s.ClockBehind = fmt.Sprintf("this machine's clock says %s, and the newest record is of %s",
			now.Format(time.RFC3339), newest.Format(time.RFC3339))
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return s, err
	}
	for _, a := range h {
		g := a.Current()
		if g == nil {
			continue
		}
		s.Authorities = append(s.Authorities, AuthorityLine{a.Handle, g.Certificate.NotAfter, e.StateOfGeneration(g),
			g.IsRoot(), noteOn(a)})
		if !a.Elsewhere && !e.custody.Has(g.Certificate.Key) && a.Retired.IsZero() {
			s.Faults = append(s.Faults, fmt.Sprintf("the key of %s is missing: restore it from a backup", g.Label()))
		}
	}
	waiting, err := e.records.Requests(ctx, store.Waiting)
	if err != nil {
		return s, err
	}
	for _, r := range waiting {
		s.Waiting = append(s.Waiting, WaitingLine{fmt.Sprintf("R%d", r.Number), r.Title, r.Received})
	}
	ending, err := e.heldAll(e.records.Ending(ctx, now.AddDate(0, 0, -30), e.Settings.ExpiringFrom(now), 10))
	if err != nil {
		return s, err
	}
	for _, c := range ending {
		s.Ending = append(s.Ending, EndingLine{c.Title(), c.SerialHex(), c.NotAfter, c.State})
	}
	s.Sent, s.Rehearsal = []SentLine{}, e.Rehearsal
	open, err := e.records.Applications(ctx)
	if err != nil {
		return s, err
	}
	for _, a := range open {
		s.Sent = append(s.Sent, SentLine{a.Handle, a.Parent, a.Made})
	}
	_, faults := e.Templates()
	for _, f := range faults {
		s.Faults = append(s.Faults, f.Error())
	}
	s.Next = e.advice(h, s)
	return s, nil
}

func (e *Estate) advice(h hierarchy.Hierarchy, s Status) []Advice {
	var out []Advice
	switch {
	case len(h) == 0 && len(s.Sent) == 0:
		return []Advice{{"make the root", "ironseal authority create root"}}
	case len(h) == 1 && h[0].Signs() && h[0].Current().IsRoot():
		out = append(out, Advice{"make an authority for everyday work below the root",
			"ironseal authority create services --under " + h[0].Handle})
	case s.Counts.Requests == 0:
		out = append(out, Advice{"take in the first request", "ironseal request receive FILE"},
			Advice{"or draft one for a host", "ironseal request draft HOST"})
	}
	for _, a := range s.Sent {
		out = append(out, Advice{"take in the answer for " + a.Handle,
			"ironseal authority accept " + a.Handle + " FILE"})
	}
	for _, a := range h {
		if p := a.Prepared(); p != nil && !p.Staged.After(e.Now()) {
			out = append(out, Advice{"the switch day of " + a.Handle + " has come",
				"ironseal changeover switch " + a.Handle})
		}
	}
	if len(s.Waiting) > 0 {
		out = append(out, Advice{"look at the request that waits longest",
			"ironseal request show " + s.Waiting[0].Name}, Advice{"and sign it", "ironseal sign " + s.Waiting[0].Name})
	}
	if s.Counts.Certificates > 0 && len(s.Waiting) == 0 {
		out = append(out, Advice{"hand out the root to machines that must trust it",
			"ironseal authority export " + h[0].Handle})
	}
	return out
}

// Journal gives the estate's journal.
func (e *Estate) Journal() *store.Store { return e.records }
