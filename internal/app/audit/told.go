package audit

import (
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"ironseal/internal/app/transfer"
	"ironseal/internal/event"
	"ironseal/pki/journal"
	"ironseal/pki/lifecycle"
)

// told is what the journal says must be on record.
type told struct {
	certificates map[string]*toldCertificate // by fingerprint
	requests     map[string]*toldRequest     // by label, "R7"
	generations  map[string]*toldGeneration  // by name, "root.g1"
	authorities  map[string]*toldAuthority   // by handle
	sent         map[string]*toldSent        // by the hash of the request
	drafts       map[string]*toldDraft       // by the key
	holders      map[string]string           // certificate and holder to time
	carried      map[string]string           // transfer folder to time and what it brought
	flaws        map[string]bool             // key, code and message
	keyFiles     map[string]toldKeyFile      // by the key, whose passphrase was changed
	derived      map[string]event.Row        // kind and name
	meta         map[string]string
	settled      int64
	unreadable   []int64 // entries that cannot be read
	texts        map[string]string
	older        bool // entries that tell less were written by an earlier form of this program
}

type toldCertificate struct {
	by, request, template, sheet, actor string
	replaces                            int64
	switchDay                           string
	waived                              map[string]string
	chain                               []string
	link                                bool
	sum                                 string // its fingerprint
	seen                                bool   // on record
}

type toldRequest struct {
	label, sum, from, received, reason, decided string
	state                                       lifecycle.RequestState
	seen                                        bool // on record
}

type toldGeneration struct{ certificate, by, switchDay, stopped string }

type toldAuthority struct {
	retired     string
	keyHere     bool
	generations int
	revoked     toldRevocations
}

type toldSent struct{ handle, parent, made, answered, switchDay, key string }

type toldKeyFile struct {
	name, file string
	begun      bool // and not told to be done
}

type toldDraft struct {
	file, made string
	encrypted  bool
}

// recordTime is how the records write a time.
const recordTime = "2006-01-02T15:04:05.000000000Z"

func written(t time.Time) string { return t.UTC().Format(recordTime) }

// recordDay brings a switch day from an entry to the form of the records.
func recordDay(text string) string {
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return ""
	}
	return written(t)
}

func nothingTold() *told {
	return &told{certificates: map[string]*toldCertificate{}, requests: map[string]*toldRequest{},
		generations: map[string]*toldGeneration{},
		authorities: map[string]*toldAuthority{}, sent: map[string]*toldSent{}, drafts: map[string]*toldDraft{},
		holders: map[string]string{}, carried: map[string]string{}, flaws: map[string]bool{},
		keyFiles: map[string]toldKeyFile{}, derived: map[string]event.Row{}, meta: map[string]string{},
		texts: map[string]string{}}
}

// add applies the next entry.
func (t *told) add(en journal.Entry) {
	if en.Seq <= 0 {
		return
	}
	what, err := event.Read(en)
	if err != nil {
		t.unreadable = append(t.unreadable, en.Seq)
		return
	}
	t.entry(en, what)
	t.derive(en)
}

// derive works out again which entry counts about which thing.
func (t *told) derive(en journal.Entry) {
	marks, err := event.Marks(en)
	if err != nil {
		return // told as unreadable
	}
	for _, m := range marks {
		key := derivedKey(string(m.Kind), m.Name)
		before, there := t.derived[key]
		delete(t.derived, key)
		if row, keep := m.Apply(en.Seq, before, there); keep {
			t.derived[key] = row
		}
	}
}

func derivedKey(kind, name string) string { return kind + "\x00" + name }

// entry applies one entry.
func (t *told) entry(en journal.Entry, what event.Event) {
	at := written(en.At)
	switch e := what.(type) {
	case *event.EstateCreated:
		t.meta["estate"] = e.ID
		if en.Object == "rehearsal" {
			t.meta["rehearsal"] = "yes"
		}
	case *event.HandedOver:
		t.holders[e.Certificate+" "+e.Holder] = at
	case *event.FlawFound:
		t.flaws[en.Object+" "+e.Code+": "+e.Message] = true
	case *event.PassphraseChangeBegun:
		t.keysChanged(e.Keys, true)
	case *event.PassphraseChanged:
		t.keysChanged(e.Keys, false)
	case *event.ClockSettled:
		t.settled = en.Seq
	case *event.Signed:
		t.sign(en, e, at)
	default:
		t.requestEntry(en, what, at)
	}
}

func (t *told) keysChanged(keys []event.KeyFile, begun bool) {
	for _, k := range keys {
		t.keyFiles[k.Key] = toldKeyFile{k.Name, k.File, begun}
	}
}

// requestEntry applies what is about requests and drafts.
func (t *told) requestEntry(en journal.Entry, what event.Event, at string) {
	switch e := what.(type) {
	case *event.Received:
		e.Each(en.Object, func(r event.ReceivedRequest) {
			t.requests[r.Number] = &toldRequest{label: r.Number, sum: octets(r.SHA256), from: t.same(e.From),
				received: at, state: lifecycle.Waiting}
		})
	case *event.Declined:
		t.decide(en.Object, lifecycle.Declined, e.Because, at)
	case *event.Withdrawn:
		t.decide(en.Object, lifecycle.Withdrawn, e.Because, at)
		if e.KeyKept != "" {
			delete(t.drafts, e.Key)
		}
	case *event.DraftKeyDestroyed:
		delete(t.drafts, e.Key)
	case *event.Drafted:
		if e.File == nil {
			t.older, e.File = true, new(string)
		}
		t.drafts[e.Key] = &toldDraft{*e.File, at, e.Encrypted}
	case *event.DraftKeyEncrypted:
		if f := t.drafts[e.Key]; f != nil {
			f.encrypted = true
		}
	case *event.TransferPacked:
		for _, n := range e.Requests {
			t.decide(fmt.Sprintf("R%d", n), lifecycle.Sent, transfer.SentBy(e.ID), at)
		}
		t.older = t.older || e.Requests == nil && e.Kind == transfer.RequestsFolder
	case *event.TransferOpened:
		if e.What == nil {
			t.older, e.What = true, new(string)
		}
		t.carried[e.ID] = at + " " + *e.What
	default:
		t.authority(en, what, at)
	}
}

func (t *told) decide(label string, state lifecycle.RequestState, reason, at string) {
	if r := t.requests[label]; r != nil {
		r.state, r.reason, r.decided = state, reason, at
	}
}

func (t *told) sign(en journal.Entry, e *event.Signed, at string) {
	for _, s := range e.Signed {
		c := &toldCertificate{by: t.same(s.By), request: s.Request, template: t.same(s.Template),
			sheet: octets(s.Sheet), actor: t.same(en.Actor), replaces: s.Replaces, switchDay: recordDay(s.SwitchDay),
			waived: texts(s.Waived)}
		if r := t.requests[s.Request]; r != nil {
			if c.request = r.label; r.state != lifecycle.Signed {
				r.state, r.decided = lifecycle.Signed, at // a reason, if any, stays from before
			}
		}
		t.certificate(s.Certificate, c)
	}
}

// certificate notes what the journal says about one.
func (t *told) certificate(sum string, c *toldCertificate) {
	c.sum = octets(sum)
	t.certificates[c.sum] = c
}

// octets are those of a hash that the journal tells in hex, which takes less room; what is none stays as it is.
func octets(digits string) string {
	b, err := hex.DecodeString(digits)
	if err != nil {
		return digits
	}
	return string(b)
}

// short names a certificate by the beginning of its fingerprint.
func short(sum string) string { return fmt.Sprintf("%x", sum[:min(8, len(sum))]) }

// same keeps a text once that the journal repeats often.
func (t *told) same(text string) string {
	if kept, known := t.texts[text]; known {
		return kept
	}
	if len(t.texts) < mostTexts {
		t.texts[text] = text
	}
	return text
}

// mostTexts bounds how many such texts are kept.
const mostTexts = 1000

// texts are waivers as the records have them.
func texts(w event.Waivers) map[string]string {
	if len(w) == 0 {
		return nil
	}
	out := map[string]string{}
	for code, because := range w {
		out[string(code)] = because
	}
	return out
}

// authority applies what is about authorities.
func (t *told) authority(en journal.Entry, what event.Event, at string) {
	handle := en.Object
	switch e := what.(type) {
	case *event.AuthorityCreated:
		t.made(handle, en.Actor, e.Generation)
	case *event.AuthorityRenewed:
		t.made(handle, en.Actor, e.Generation)
	case *event.AuthorityAdopted:
		t.above(e.Above, e.Links, en.Actor)
		t.adopted(handle, en.Actor, adoption{certificate: e.Certificate, parent: e.By, keyHere: e.KeyHere,
			issued: e.Issued, waived: e.Waived})
		t.links(e.Links, en.Actor)
		t.adoptedRevocations(handle, e)
	case *event.AnswerImported:
		t.above(e.Above, e.Links, en.Actor)
		t.adopted(handle, en.Actor, adoption{certificate: e.Certificate, parent: e.Parent, keyHere: true,
			switchDay: recordDay(e.SwitchDay), waived: e.Waived})
		t.links(e.Links, en.Actor)
		t.answered(handle, at)
	case *event.LinkAdopted:
		t.links(e.Links, en.Actor)
	case *event.CrossCertified:
		t.links(e.Links, en.Actor)
		for _, sum := range e.Links {
			c := t.certificates[octets(sum)]
			c.by, c.sheet, c.waived = e.By, octets(e.Sheet), texts(e.Waived)
		}
	case *event.Rehearsed:
		t.rehearsed(e, en.Actor)
	case *event.CertificateImported:
		t.certificateImported(handle, e, en.Actor, at)
	case *event.Applied:
		t.sent[e.Request] = &toldSent{handle, e.Parent, at, "", recordDay(e.SwitchDay), e.Key}
	case *event.ApplicationWithdrawn:
		t.answered(handle, at)
	case *event.AuthorityRetired:
		if a := t.authorities[handle]; a != nil {
			a.retired = at
		}
	case *event.AuthorityReinstated:
		if a := t.authorities[handle]; a != nil {
			a.retired = ""
		}
	case *event.Switched:
		t.switched(e.To, "")
	case *event.SwitchedBack:
		t.switched(e.From, recordDay(e.Until))
	default:
		t.revocations(en, what, at)
	}
}

func (t *told) certificateImported(about string, e *event.CertificateImported, actor, at string) {
	if e.By == nil {
		t.older, e.By = true, new(string)
	}
	c := &toldCertificate{by: *e.By, actor: actor, waived: texts(e.Waived), chain: e.Chain}
	if t.requests[about] != nil {
		c.request = about
		t.decide(about, lifecycle.Signed, "by an outside authority", at)
	}
	t.certificate(e.Certificate, c)
}

func (t *told) rehearsed(e *event.Rehearsed, actor string) {
	t.older = t.older || e.Generations == nil
	for _, g := range e.Generations {
		t.imported(g.Imported, actor)
		t.generations[g.Generation].switchDay = recordDay(g.SwitchDay)
		name, _, _ := strings.Cut(g.Generation, ".")
		t.authorities[name].retired, t.authorities[name].keyHere = recordDay(g.Retired), true
	}
	t.links(e.Links, actor)
}

func (t *told) made(handle, actor string, g event.Generation) {
	if g.By == nil {
		t.older, g.By = true, new("*")
	}
	name := fmt.Sprintf("%s.g%d", handle, max(g.Number, 1))
	t.generation(handle, name, g.Certificate, *g.By, recordDay(g.SwitchDay), true)
	t.certificate(g.Certificate, &toldCertificate{by: *g.By, template: g.Template, sheet: octets(g.Sheet), actor: actor,
		waived: texts(g.Waived)})
	t.links(g.Links, actor)
}

func (t *told) generation(handle, name, certificate, by, switchDay string, keyHere bool) {
	a := t.authorities[handle]
	if a == nil {
		a = &toldAuthority{keyHere: keyHere}
		t.authorities[handle] = a
	}
	a.generations++
	t.generations[name] = &toldGeneration{certificate, by, switchDay, ""}
}

// above applies the authorities that came with an import.
func (t *told) above(list []event.Imported, links []string, actor string) {
	t.older = t.older || list == nil && links == nil
	for _, up := range list {
		t.imported(up, actor)
	}
}

func (t *told) imported(up event.Imported, actor string) {
	handle, _, _ := strings.Cut(up.Generation, ".")
	by := up.By
	if by != "" && !strings.Contains(by, ".g") {
		by = t.newest(by)
	}
	t.generation(handle, up.Generation, up.Certificate, by, "", false)
	t.certificate(up.Certificate, &toldCertificate{by: by, actor: actor})
}

// newest is the last generation of an authority that the journal names.
func (t *told) newest(handle string) string {
	if a := t.authorities[handle]; a != nil {
		return fmt.Sprintf("%s.g%d", handle, a.generations)
	}
	return ""
}

// adoption is what an import tells of an authority.
type adoption struct {
	certificate, parent, switchDay string
	keyHere                        bool
	issued                         []string
	waived                         event.Waivers
}

func (t *told) adopted(handle, actor string, d adoption) {
	number := 1
	if a := t.authorities[handle]; a != nil {
		number = a.generations + 1
	}
	name := fmt.Sprintf("%s.g%d", handle, number)
	t.generation(handle, name, d.certificate, anyOf(d.parent), d.switchDay, d.keyHere)
	t.certificate(d.certificate, &toldCertificate{by: anyOf(d.parent), actor: actor, waived: texts(d.waived)})
	for _, sum := range d.issued {
		t.certificate(sum, &toldCertificate{by: name, actor: actor})
	}
}

// anyOf means whichever generation of an authority really signed: the check of
// signatures finds out whether it is that one.
func anyOf(handle string) string {
	if handle == "" {
		return ""
	}
	return handle + ".*"
}

func (t *told) links(list []string, actor string) {
	for _, sum := range list {
		t.certificate(sum, &toldCertificate{by: "*", actor: actor, link: true})
	}
}

func (t *told) answered(handle, at string) {
	for _, s := range t.sent {
		if s.handle == handle && s.answered == "" {
			s.answered = at
		}
	}
}

// switched moves a generation, and what it signed, to or from behind a switch day.
func (t *told) switched(name, day string) {
	if g := t.generations[name]; g != nil {
		g.switchDay = day
	}
	for _, c := range t.certificates {
		if c.by == name && (day == "" || c.replaces != 0) {
			c.switchDay = day
		}
	}
}
