package audit

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ironseal/internal/app/ca/authorities"
	"ironseal/internal/app/ca/external"
	"ironseal/internal/app/ca/passphrases"
	"ironseal/internal/app/transfer"
	"ironseal/internal/estate"
	"ironseal/internal/store"
	"ironseal/pki/journal"
	"ironseal/pki/lifecycle"
)

// told is what the journal says must be on record.
type told struct {
	certificates map[string]*toldCertificate // by fingerprint, in hex
	requests     map[string]*toldRequest     // by label, "R7"
	numbers      map[string]string           // the label of a request, by the hash of its bytes
	generations  map[string]*toldGeneration  // by name, "root.g1"
	authorities  map[string]*toldAuthority   // by handle
	sent         map[string]*toldSent        // by the hash of the request
	drafts       map[string]*toldDraft       // by the key
	holders      map[string]string           // certificate and holder to time
	carried      map[string]string           // courier's folder to time and what it brought
	flaws        map[string]bool             // key, code and message
	keyFiles     map[string]toldKeyFile      // by the key, whose passphrase was changed
	meta         map[string]string
	settled      int64
	older        bool // entries that tell less were written by an earlier form of this program
}

type toldCertificate struct {
	by, request, template, sheet, actor string
	replaces                            int64
	switchDay                           string
	waived                              map[string]string
	chain                               []string
	link                                bool
}

type toldRequest struct {
	sum, title, from, received, reason, decided string
	state                                       lifecycle.RequestState
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
	sealed     bool
}

// recordTime is how the records write a time.
const recordTime = "2006-01-02T15:04:05.000000000Z"

func written(t time.Time) string { return t.UTC().Format(recordTime) }

// day brings a switch day from an entry to the form of the records.
func recordDay(text string) string {
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return ""
	}
	return written(t)
}

func tell(ctx context.Context, e *estate.Estate) (*told, error) {
	t := &told{certificates: map[string]*toldCertificate{}, requests: map[string]*toldRequest{},
		numbers: map[string]string{}, generations: map[string]*toldGeneration{},
		authorities: map[string]*toldAuthority{}, sent: map[string]*toldSent{}, drafts: map[string]*toldDraft{},
		holders: map[string]string{}, carried: map[string]string{},
		flaws: map[string]bool{}, keyFiles: map[string]toldKeyFile{}, meta: map[string]string{}}
	err := e.Records.Entries(ctx, 0, 0, func(en journal.Entry) error {
		d, err := en.Details()
		if err != nil { // an entry whose detail is a sentence
			d = journal.Detail{}
		}
		t.entry(en, d)
		return nil
	})
	return t, err
}

// entry applies one entry.
func (t *told) entry(en journal.Entry, d journal.Detail) {
	at := written(en.At)
	switch en.Act {
	case "create":
		t.meta["estate"] = d.Text("id")
		if en.Object == "rehearsal" {
			t.meta["rehearsal"] = "yes"
		}
	case "receive":
		t.requests[en.Object] = &toldRequest{sum: d.Text("sha256"), title: d.Text("title"), from: d.Text("from"),
			received: at, state: lifecycle.Waiting}
		t.numbers[d.Text("sha256")] = en.Object
	case "decline", "withdraw":
		t.decide(en.Object, map[string]lifecycle.RequestState{"decline": lifecycle.Declined, "withdraw": lifecycle.Withdrawn}[en.Act],
			d.Text("because"), at)
		if d.Text("key kept") != "" {
			delete(t.drafts, d.Text("key"))
		}
	case "destroy draft key":
		delete(t.drafts, d.Text("key"))
	case "draft":
		t.drafts[d.Text("key")] = &toldDraft{d.Text("file"), at, d.Flag("sealed")}
		t.older = t.older || d["file"] == nil
	case "pack":
		numbers, _ := d["requests"].([]any)
		for _, n := range numbers {
			t.decide(fmt.Sprintf("R%v", n), lifecycle.Sent, "by courier "+d.Text("id")[:min(8, len(d.Text("id")))], at)
		}
		t.older = t.older || d["requests"] == nil && d.Text("kind") == transfer.ErrandRequests
	case "open":
		t.carried[d.Text("id")] = at + " " + d.Text("what")
		t.older = t.older || d["what"] == nil
	case "handover":
		t.holders[d.Text("certificate")+" "+d.Text("holder")] = at
	case store.FlawAct:
		t.flaws[en.Object+" "+en.Detail] = true
	case passphrases.BeginAct, passphrases.ChangeAct:
		for _, k := range d.Objects("keys") {
			t.keyFiles[k.Text("key")] = toldKeyFile{k.Text("name"), k.Text("file"), en.Act == passphrases.BeginAct}
		}
	case passphrases.DraftAct:
		if f := t.drafts[d.Text("key")]; f != nil {
			f.sealed = true
		}
	case journal.ClockAct:
		t.settled = en.Seq
	case "sign":
		t.sign(en, d, at)
	default:
		t.authority(en, d, at)
	}
}

func (t *told) decide(label string, state lifecycle.RequestState, reason, at string) {
	if r := t.requests[label]; r != nil {
		r.state, r.reason, r.decided = state, reason, at
	}
}

func (t *told) sign(en journal.Entry, d journal.Detail, at string) {
	for _, s := range d.Objects("signed") {
		replaces, _ := s["replaces"].(float64)
		t.certificates[s.Text("certificate")] = &toldCertificate{by: s.Text("by"), request: s.Text("request"),
			template: s.Text("template"), sheet: s.Text("sheet"),
			actor: en.Actor, replaces: int64(replaces), switchDay: recordDay(s.Text("switch_day")),
			waived: s.Texts("waived")}
		if r := t.requests[s.Text("request")]; r != nil && r.state != lifecycle.Signed {
			r.state, r.decided = lifecycle.Signed, at // a reason, if any, stays from before
		}
	}
}

// authority applies what is about authorities.
func (t *told) authority(en journal.Entry, d journal.Detail, at string) {
	handle := en.Object
	switch en.Act {
	case "create authority", "renew authority":
		t.made(handle, en, d)
	case "adopt authority", external.TookAuthority, external.TookAuthorityOnce:
		t.older = t.older || d["above"] == nil && d["links"] == nil
		for _, up := range d.Objects("above") {
			t.imported(up, en.Actor)
		}
		t.adopted(handle, en, d)
		t.links(d, en.Actor)
		t.adoptedRevocations(handle, d)
		t.answered(handle, tookAuthority(en), at)
	case "adopt link":
		t.links(d, en.Actor)
	case authorities.CrossAct:
		t.links(d, en.Actor)
		for _, sum := range d.List("links") {
			c := t.certificates[sum]
			c.by, c.sheet, c.waived = d.Text("by"), d.Text("sheet"), d.Texts("waived")
		}
	case "rehearse":
		t.older = t.older || d["generations"] == nil
		for _, g := range d.Objects("generations") {
			t.imported(g, en.Actor)
			t.generations[g.Text("generation")].switchDay = recordDay(g.Text("switch_day"))
			name, _, _ := strings.Cut(g.Text("generation"), ".")
			t.authorities[name].retired, t.authorities[name].keyHere = recordDay(g.Text("retired")), true
		}
		t.links(d, en.Actor)
	case external.TookIn, external.TookInOnce:
		c := &toldCertificate{by: d.Text("by"), actor: en.Actor, waived: d.Texts("waived"), chain: d.List("chain")}
		if t.requests[handle] != nil {
			c.request = handle
			t.decide(handle, lifecycle.Signed, "by an outside authority", at)
		}
		t.older = t.older || d["by"] == nil
		t.certificates[d.Text("certificate")] = c
	case "apply":
		t.sent[d.Text("request")] = &toldSent{handle, d.Text("parent"), at, "", recordDay(d.Text("switch day")),
			d.Text("key")}
	case "withdraw application":
		t.answered(handle, true, at)
	case "retire authority":
		if a := t.authorities[handle]; a != nil {
			a.retired = at
		}
	case authorities.ReinstateAct:
		if a := t.authorities[handle]; a != nil {
			a.retired = ""
		}
	case "switch":
		t.switched(d.Text("to"), "")
	case "switch back":
		t.switched(d.Text("from"), recordDay(d.Text("until")))
	default:
		t.revocations(en, d, at)
	}
}

func (t *told) made(handle string, en journal.Entry, d journal.Detail) {
	by := d.Text("by")
	if d["by"] == nil {
		t.older, by = true, "*"
	}
	number, told := d["generation"].(float64)
	if !told {
		number = 1
	}
	name := fmt.Sprintf("%s.g%d", handle, int(number))
	t.generation(handle, name, d.Text("certificate"), by, recordDay(d.Text("switch day")), true)
	t.certificates[d.Text("certificate")] = &toldCertificate{by: by, template: d.Text("template"),
		sheet: d.Text("sheet"), actor: en.Actor, waived: d.Texts("waived")}
	t.links(d, en.Actor)
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

func (t *told) imported(up journal.Detail, actor string) {
	name := up.Text("generation")
	handle, _, _ := strings.Cut(name, ".")
	by := up.Text("by")
	if by != "" && !strings.Contains(by, ".g") {
		by = t.newest(by)
	}
	t.generation(handle, name, up.Text("certificate"), by, "", false)
	t.certificates[up.Text("certificate")] = &toldCertificate{by: by, actor: actor}
}

// newest is the last generation of an authority that was told of.
func (t *told) newest(handle string) string {
	if a := t.authorities[handle]; a != nil {
		return fmt.Sprintf("%s.g%d", handle, a.generations)
	}
	return ""
}

func tookAuthority(en journal.Entry) bool {
	return en.Act == external.TookAuthority || en.Act == external.TookAuthorityOnce
}

func (t *told) adopted(handle string, en journal.Entry, d journal.Detail) {
	parent, switchDay, here := d.Text("by"), "", d.Flag("key here")
	if tookAuthority(en) {
		parent, switchDay, here = d.Text("parent"), recordDay(d.Text("switch day")), true
	}
	number := 1
	if a := t.authorities[handle]; a != nil {
		number = a.generations + 1
	}
	name := fmt.Sprintf("%s.g%d", handle, number)
	t.generation(handle, name, d.Text("certificate"), anyOf(parent), switchDay, here)
	t.certificates[d.Text("certificate")] = &toldCertificate{by: anyOf(parent), actor: en.Actor,
		waived: d.Texts("waived")}
	for _, sum := range d.List("issued") {
		t.certificates[sum] = &toldCertificate{by: name, actor: en.Actor}
	}
}

// anyOf stands for whichever generation of an authority really signed: the check of
// signatures finds out whether it is that one.
func anyOf(handle string) string {
	if handle == "" {
		return ""
	}
	return handle + ".*"
}

func (t *told) links(d journal.Detail, actor string) {
	for _, sum := range d.List("links") {
		t.certificates[sum] = &toldCertificate{by: "*", actor: actor, link: true}
	}
}

func (t *told) answered(handle string, really bool, at string) {
	for _, s := range t.sent {
		if really && s.handle == handle && s.answered == "" {
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
