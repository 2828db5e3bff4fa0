package checking

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ironseal/internal/act/carrying"
	"ironseal/internal/act/elsewhere"
	"ironseal/internal/estate"
	"ironseal/internal/records"
	"ironseal/internal/records/lineage"
	"ironseal/internal/records/sqlite"
	"ironseal/pki/cert"
	"ironseal/pki/journal"
	"ironseal/pki/request"
)

// The journal is proved whole by its links. The records beside it are not: whoever
// can write the file can change a row and leave the journal alone. So the check reads
// the journal from its beginning, works out what must be on record, and holds every
// row of every table against that, and against the certificate or request that the
// row is about.

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
	meta         map[string]string
	settled      int64
	older        bool // entries that tell less were written by an earlier form of this program
}

type toldCertificate struct {
	by, request, template, sheet, actor string
	replaces                            int64
	staged                              string
	waived                              map[string]string
	chain                               []string
	link                                bool
}

type toldRequest struct {
	sum, title, from, received, state, reason, decided string
}

type toldGeneration struct{ certificate, by, staged, stopped string }

type toldAuthority struct {
	retired     string
	keyHere     bool
	generations int
	revoked     toldRevocations
}

type toldSent struct{ handle, parent, made, answered, staged, key string }

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
		flaws: map[string]bool{}, meta: map[string]string{}}
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

// entry takes in one entry.
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
			received: at, state: records.Waiting}
		t.numbers[d.Text("sha256")] = en.Object
	case "decline", "withdraw":
		t.decide(en.Object, map[string]string{"decline": records.Declined, "withdraw": records.Withdrawn}[en.Act],
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
			t.decide(fmt.Sprintf("R%v", n), records.Sent, "by courier "+d.Text("id")[:min(8, len(d.Text("id")))], at)
		}
		t.older = t.older || d["requests"] == nil && d.Text("kind") == carrying.ErrandRequests
	case "open":
		t.carried[d.Text("id")] = at + " " + d.Text("what")
		t.older = t.older || d["what"] == nil
	case "handover":
		t.holders[d.Text("certificate")+" "+d.Text("holder")] = at
	case records.FlawAct:
		t.flaws[en.Object+" "+en.Detail] = true
	case journal.ClockAct:
		t.settled = en.Seq
	case "sign":
		t.sign(en, d, at)
	default:
		t.authority(en, d, at)
	}
}

func (t *told) decide(label, state, reason, at string) {
	if r := t.requests[label]; r != nil {
		r.state, r.reason, r.decided = state, reason, at
	}
}

func (t *told) sign(en journal.Entry, d journal.Detail, at string) {
	for _, s := range d.Objects("signed") {
		replaces, _ := s["replaces"].(float64)
		t.certificates[s.Text("certificate")] = &toldCertificate{by: s.Text("by"), request: s.Text("request"),
			template: s.Text("template"), sheet: s.Text("sheet"),
			actor: en.Actor, replaces: int64(replaces), staged: recordDay(s.Text("switch_day")),
			waived: s.Texts("waived")}
		if r := t.requests[s.Text("request")]; r != nil && r.state != records.Signed {
			r.state, r.decided = records.Signed, at // a reason, if any, stays from before
		}
	}
}

// authority takes in what is about authorities.
func (t *told) authority(en journal.Entry, d journal.Detail, at string) {
	handle := en.Object
	switch en.Act {
	case "create authority", "renew authority":
		t.made(handle, en, d)
	case "adopt authority", elsewhere.TookAuthority, elsewhere.TookAuthorityOnce:
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
	case "rehearse":
		t.older = t.older || d["generations"] == nil
		for _, g := range d.Objects("generations") {
			t.imported(g, en.Actor)
			t.generations[g.Text("generation")].staged = recordDay(g.Text("switch_day"))
			name, _, _ := strings.Cut(g.Text("generation"), ".")
			t.authorities[name].retired, t.authorities[name].keyHere = recordDay(g.Text("retired")), true
		}
		t.links(d, en.Actor)
	case elsewhere.TookIn, elsewhere.TookInOnce:
		c := &toldCertificate{by: d.Text("by"), actor: en.Actor, waived: d.Texts("waived"), chain: d.List("chain")}
		if t.requests[handle] != nil {
			c.request = handle
			t.decide(handle, records.Signed, "by an outside authority", at)
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

func (t *told) generation(handle, name, certificate, by, staged string, keyHere bool) {
	a := t.authorities[handle]
	if a == nil {
		a = &toldAuthority{keyHere: keyHere}
		t.authorities[handle] = a
	}
	a.generations++
	t.generations[name] = &toldGeneration{certificate, by, staged, ""}
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
	return en.Act == elsewhere.TookAuthority || en.Act == elsewhere.TookAuthorityOnce
}

func (t *told) adopted(handle string, en journal.Entry, d journal.Detail) {
	parent, staged, here := d.Text("by"), "", d.Flag("key here")
	if tookAuthority(en) {
		parent, staged, here = d.Text("parent"), recordDay(d.Text("switch day")), true
	}
	number := 1
	if a := t.authorities[handle]; a != nil {
		number = a.generations + 1
	}
	name := fmt.Sprintf("%s.g%d", handle, number)
	t.generation(handle, name, d.Text("certificate"), anyOf(parent), staged, here)
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
		g.staged = day
	}
	for _, c := range t.certificates {
		if c.by == name && (day == "" || c.replaces != 0) {
			c.staged = day
		}
	}
}

// auditing is an audit under way.
type auditing struct {
	*told
	e   *estate.Estate
	ctx context.Context
	out *Checked

	ids      map[int64]string // certificate to fingerprint
	gens     map[int64]string // generation to name
	handles  map[int64]string
	owner    map[int64]int64 // generation to authority
	names    map[int64]map[string]int
	replaces map[int64][]int64 // certificate to those that were signed in its place and serve
	own      map[string]int64  // generation, by name, to its certificate
	keys     map[string]bool   // RSA keys, by fingerprint
	template map[string]string
	ends     map[string]int64 // of certificates, by authority and serial

	listNumber map[string]int64
	places     map[lineage.Place]bool // that certificates name; what is on record is taken out again
}

func (a *auditing) fault(about, format string, args ...any) {
	a.out.fault(about, fmt.Sprintf(format, args...),
		"somebody changed the records outside this program, or the disk is failing: compare with a backup; "+fromBackup)
}

// audit holds the records against the journal, both ways.
func audit(ctx context.Context, e *estate.Estate, out *Checked) error {
	schema, err := e.Records.Schema(ctx)
	if err != nil {
		return err
	}
	a := &auditing{e: e, ctx: ctx, out: out, ids: map[int64]string{}, gens: map[int64]string{},
		handles: map[int64]string{}, owner: map[int64]int64{}, names: map[int64]map[string]int{},
		replaces: map[int64][]int64{}, own: map[string]int64{}, keys: map[string]bool{}, template: map[string]string{},
		ends: map[string]int64{}, places: map[lineage.Place]bool{}}
	for _, s := range schema {
		a.fault("records", "%s", s)
	}
	if a.told, err = tell(ctx, e); err != nil {
		return err
	}
	for _, step := range []func() error{a.auditNames, a.auditAuthorities, a.auditTemplates, a.auditCertificates,
		a.auditPlaces, a.auditRevocations, a.auditRequests, a.auditSmall, a.auditKeys} {
		if err := step(); err != nil {
			return err
		}
	}
	return ctx.Err()
}

func (a *auditing) each(table string, fn func(records.Row)) error {
	return a.e.Records.EachRow(a.ctx, table, func(r records.Row) error { fn(r); return a.ctx.Err() })
}

func (a *auditing) auditNames() error {
	return a.each("name", func(r records.Row) {
		id := r.Int("certificate")
		if a.names[id] == nil {
			a.names[id] = map[string]int{}
		}
		a.names[id][r.Text("kind")+":"+r.Text("value")]++
	})
}

// auditPlaces holds the addresses on record against those that the certificates name.
func (a *auditing) auditPlaces() error {
	err := a.each("place", func(r records.Row) {
		p := lineage.Place{Generation: a.gens[r.Int("generation")], Part: int(r.Int("part")), Kind: r.Text("kind"),
			Address: r.Text("address")}
		if !a.places[p] {
			a.fault(p.Generation, "the address %q is on record, and no certificate of it names that", p.Address)
		}
		delete(a.places, p)
	})
	for p := range a.places {
		a.fault(p.Generation, "its certificates name the address %q, and that is not on record", p.Address)
	}
	return err
}

func (a *auditing) auditAuthorities() error {
	retired, elsewhere := map[string]string{}, map[string]int64{}
	a.listNumber = map[string]int64{}
	parents := map[int64]int64{}
	if err := a.each("authority", func(r records.Row) {
		a.handles[r.Int("id")] = r.Text("handle")
		retired[r.Text("handle")], elsewhere[r.Text("handle")] = r.Text("retired"), r.Int("elsewhere")
		parents[r.Int("id")] = r.Int("parent")
		a.listNumber[r.Text("handle")] = r.Int("list_number")
	}); err != nil {
		return err
	}
	for handle, want := range a.authorities {
		have, ok := retired[handle]
		switch {
		case !ok:
			a.fault(handle, "the journal tells of this authority, and it is not on record")
		case have != want.retired && (!a.older || have == "" || want.retired == ""):
			a.fault(handle, "it is retired since %q on record, and since %q in the journal", have, want.retired)
		case (elsewhere[handle] != 0) == want.keyHere:
			a.fault(handle, "where its key is does not agree with the journal")
		}
	}
	for _, handle := range a.handles {
		if a.authorities[handle] == nil && !a.older {
			a.fault(handle, "no entry of the journal tells of this authority")
		}
	}
	return a.auditGenerations(parents)
}

// auditGenerations holds the generations against the journal; parents are the
// authorities above, by row.
func (a *auditing) auditGenerations(parents map[int64]int64) error {
	seen := map[string]bool{}
	issuers := map[int64]int64{}
	newest := map[int64]int64{}
	rows := map[int64]records.Row{}
	if err := a.each("generation", func(r records.Row) {
		id := r.Int("id")
		a.gens[id], a.owner[id], rows[id] = fmt.Sprintf("%s.g%d", a.handles[r.Int("authority")], r.Int("number")),
			r.Int("authority"), r
		issuers[id] = r.Int("issuer")
		if n := newest[r.Int("authority")]; n == 0 || rows[n].Int("number") < r.Int("number") {
			newest[r.Int("authority")] = id
		}
	}); err != nil {
		return err
	}
	for id, r := range rows {
		name := a.gens[id]
		seen[name] = true
		want := a.generations[name]
		if want == nil {
			if !a.older {
				a.fault(name, "no entry of the journal tells of this generation")
			}
			continue
		}
		if r.Text("staged") != want.staged && !a.older {
			a.fault(name, "its switch day is %q on record, and %q in the journal", r.Text("staged"), want.staged)
		}
		if r.Text("stopped") != want.stopped {
			a.fault(name, "why it grants nothing is %q on record, and %q in the journal", r.Text("stopped"),
				want.stopped)
		}
		if have := a.gens[issuers[id]]; !fits(want.by, have) {
			a.fault(name, "it stands below %q on record, and below %q in the journal", have, want.by)
		}
	}
	for name := range a.generations {
		if !seen[name] {
			a.fault(name, "the journal tells of this generation, and it is not on record")
		}
	}
	for authority, parent := range parents {
		if up := a.owner[issuers[newest[authority]]]; up != parent {
			a.fault(a.handles[authority], "the authority above it is not the one that signed its newest generation")
		}
	}
	for id, r := range rows {
		a.own[a.gens[id]] = r.Int("certificate")
	}
	return nil
}

// fits reports whether a generation is the one that was told of.
func fits(want, have string) bool {
	if handle, any := strings.CutSuffix(want, ".*"); any {
		owner, _, _ := strings.Cut(have, ".")
		return owner == handle
	}
	return want == "*" || want == have
}

func (a *auditing) auditTemplates() error {
	return a.each("template", func(r records.Row) {
		if sum := sha256.Sum256(r.Bytes("source")); !bytes.Equal(sum[:], r.Bytes("sha256")) {
			a.fault("template "+r.Text("name"), "the text on record is not the one that was signed by")
		}
		a.template[string(r.Bytes("sha256"))] = r.Text("name")
	})
}

func (a *auditing) auditCertificates() error {
	var rows []records.Row // few columns of each
	seen := map[string]bool{}
	if err := a.each("certificate", func(r records.Row) {
		sum := fmt.Sprintf("%x", sha256.Sum256(r.Bytes("der")))
		a.ids[r.Int("id")] = sum
		a.ends[a.handles[r.Int("authority")]+" "+r.Text("serial")] = r.Int("not_after")
		if r.Text("staged") == "" && r.Int("replaces") != 0 {
			a.replaces[r.Int("replaces")] = append(a.replaces[r.Int("replaces")], r.Int("id"))
		}
		seen[sum] = true
		a.auditCertificate(r, sum)
		rows = append(rows, records.Row{"id": r.Int("id"), "title": r.Text("title"),
			"replaced_by": r.Int("replaced_by")})
	}); err != nil {
		return err
	}
	for sum := range a.certificates {
		if !seen[sum] {
			a.fault("certificate "+sum[:min(16, len(sum))],
				"the journal tells of this certificate, and it is not on record")
		}
	}
	for _, r := range rows {
		by, signed := r.Int("replaced_by"), a.replaces[r.Int("id")]
		if by == 0 && len(signed) > 0 || by != 0 && !slices.Contains(signed, by) {
			a.fault(r.Text("title"), "what was signed in its place does not agree with the journal")
		}
	}
	for name, want := range a.generations {
		if id, ok := a.own[name]; ok && a.ids[id] != want.certificate {
			a.fault(name, "its certificate on record is not the one in the journal")
		}
	}
	return a.auditWaivers()
}

func (a *auditing) auditCertificate(r records.Row, sum string) {
	title := r.Text("title")
	c, err := cert.Read(r.Bytes("der"))
	if err != nil {
		return // told by the check of signatures
	}
	if c.Key.Modulus() != nil {
		a.keys[fmt.Sprintf("%x", c.Key.Fingerprint())] = true
	}
	fingerprint := c.Key.Fingerprint()
	switch {
	case r.Text("serial") != c.SerialHex(), title != c.Title(), r.Text("subject") != c.Subject.String(),
		r.Int("not_after") != c.NotAfter.Unix(), !bytes.Equal(r.Bytes("key_sha256"), fingerprint[:]):
		a.fault(title, "its serial, title, subject, end or key on record is not that of its certificate")
	case int(r.Int("part")) != a.partOf(c, r.Int("issuer")):
		a.fault(title, "the part of its issuer's lists on record is not that of its certificate")
	case r.Int("authority") != a.owner[r.Int("issuer")]:
		a.fault(title, "the authority on record is not that of the generation that signed it")
	}
	names := map[string]int{}
	for _, n := range c.Names {
		names[string(n.Kind())+":"+strings.ToLower(n.Value())]++
	}
	if !maps.Equal(names, a.names[r.Int("id")]) {
		a.fault(title, "its names on record are not those of its certificate")
	}
	delete(a.names, r.Int("id"))
	for _, p := range lineage.PlacesIn(c) {
		if p.Generation, p.Part = a.gens[r.Int("issuer")], int(r.Int("part")); r.Int("issuer") != 0 {
			a.places[p] = true
		}
	}
	want := a.certificates[sum]
	if want == nil {
		if !a.older {
			a.fault(title, "no entry of the journal tells of this certificate")
		}
		return
	}
	a.compare(r, title, want)
}

func (a *auditing) compare(r records.Row, title string, want *toldCertificate) {
	label := ""
	if n := r.Int("request"); n != 0 {
		label = fmt.Sprintf("R%d", n)
	}
	by := a.gens[r.Int("issuer")]
	switch {
	case !fits(want.by, by) && (want.by != "" || by != ""):
		a.fault(title, "it was signed by %q on record, and by %q in the journal", by, want.by)
	case label != want.request:
		a.fault(title, "it came from %q on record, and from %q in the journal", label, want.request)
	case want.template != "" && a.template[string(r.Bytes("template"))] != want.template,
		want.template == "" && r.Bytes("template") != nil && !a.older:
		a.fault(title, "its template on record is not the one in the journal")
	case want.sheet != "" && hex.EncodeToString(r.Bytes("sheet")) != want.sheet,
		want.sheet == "" && !allZero(r.Bytes("sheet")):
		a.fault(title, "its review sheet on record is not the one in the journal")
	case r.Int("replaces") != want.replaces && !a.older:
		a.fault(title, "in whose place it was signed does not agree with the journal")
	case r.Text("staged") != want.staged && !a.older:
		a.fault(title, "its switch day is %q on record, and %q in the journal", r.Text("staged"), want.staged)
	}
}

func allZero(b []byte) bool { return len(bytes.Trim(b, "\x00")) == 0 }

func (a *auditing) auditWaivers() error {
	have := map[string]map[string]string{}
	if err := a.each("waiver", func(r records.Row) {
		sum := a.ids[r.Int("certificate")]
		if _, twice := have[sum][r.Text("code")]; twice {
			a.fault("waiver of "+r.Text("code"), "it is on record more than once")
		}
		if have[sum] == nil {
			have[sum] = map[string]string{}
		}
		have[sum][r.Text("code")] = r.Text("reason")
		label := ""
		if n := r.Int("request"); n != 0 {
			label = fmt.Sprintf("R%d", n)
		}
		if want := a.certificates[sum]; want == nil || want.actor != r.Text("who") ||
			want.request != label && want.request != "" {
			a.fault("waiver of "+r.Text("code"), "who waived it, or for what, does not agree with the journal")
		}
	}); err != nil {
		return err
	}
	for sum, want := range a.certificates {
		same := len(want.waived) == len(have[sum])
		for code, why := range want.waived {
			same = same && have[sum][code] == why
		}
		if !same {
			a.fault("certificate "+sum[:min(16, len(sum))], "what was waived on record is not what the journal tells")
		}
	}
	return nil
}

func (a *auditing) auditRequests() error {
	seen := map[string]bool{}
	if err := a.each("request", func(r records.Row) {
		label := fmt.Sprintf("R%d", r.Int("number"))
		seen[label] = true
		sum := sha256.Sum256(r.Bytes("der"))
		want := a.requests[label]
		q, err := request.Read(r.Bytes("der"))
		if err != nil {
			a.fault(label, "its bytes on record cannot be parsed")
			return
		}
		if q.Key.Modulus() != nil {
			a.keys[fmt.Sprintf("%x", q.Key.Fingerprint())] = true
		}
		fingerprint := q.Key.Fingerprint()
		switch {
		case want == nil:
			a.fault(label, "no entry of the journal tells of this request")
		case !bytes.Equal(sum[:], r.Bytes("sha256")), hex.EncodeToString(sum[:]) != want.sum:
			a.fault(label, "its bytes on record are not those that were received")
		case r.Text("title") != q.Title(), !bytes.Equal(r.Bytes("key_sha256"), fingerprint[:]):
			a.fault(label, "its title or key on record is not that of the request")
		case r.Text("sender") != want.from, r.Text("received") != want.received && !a.older:
			a.fault(label, "who sent it, or when, does not agree with the journal")
		case r.Text("state") != want.state, !a.older &&
			(r.Text("reason") != want.reason || r.Text("decided") != want.decided):
			a.fault(label, "it is %s on record (%q), and %s in the journal (%q)", r.Text("state"), r.Text("reason"),
				want.state, want.reason)
		}
	}); err != nil {
		return err
	}
	for label := range a.requests {
		if !seen[label] {
			a.fault(label, "the journal tells of this request, and it is not on record")
		}
	}
	return nil
}

// both compares what is on record with what was told, both ways.
func (a *auditing) both(what string, have, want map[string]string) {
	for k, v := range want {
		if h, ok := have[k]; !ok || h != v {
			a.fault(what, "%s: the journal tells of it, and the record says something else, or nothing", k)
		}
	}
	for k := range have {
		if _, ok := want[k]; !ok && !a.older {
			a.fault(what, "%s: no entry of the journal tells of it", k)
		}
	}
}

// auditSmall looks at the tables of few columns.
func (a *auditing) auditSmall() error {
	gather := func(table string, fn func(r records.Row) (key, value string)) (map[string]string, error) {
		out := map[string]string{}
		err := a.each(table, func(r records.Row) {
			k, v := fn(r)
			out[k] = v
		})
		return out, err
	}
	sent, err := gather("sent", func(r records.Row) (string, string) {
		return fmt.Sprintf("%x", sha256.Sum256(r.Bytes("der"))),
			fmt.Sprint(r.Text("handle"), r.Text("parent"), r.Text("made"), r.Text("answered"), r.Text("staged"),
				hex.EncodeToString(r.Bytes("key_sha256")))
	})
	if err != nil {
		return err
	}
	want := map[string]string{}
	for sum, s := range a.sent {
		want[sum] = fmt.Sprint(s.handle, s.parent, s.made, s.answered, s.staged, s.key)
	}
	if !a.older {
		a.both("request of an authority", sent, want)
	}
	drafts, err := gather("draft", func(r records.Row) (string, string) {
		return hex.EncodeToString(r.Bytes("key_sha256")),
			fmt.Sprint(r.Text("file"), r.Text("made"), r.Int("sealed") != 0)
	})
	if err != nil {
		return err
	}
	want = map[string]string{}
	for k, d := range a.drafts {
		want[k] = fmt.Sprint(d.file, d.made, d.sealed)
	}
	if !a.older {
		a.both("draft", drafts, want)
	}
	holders, err := gather("holder", func(r records.Row) (string, string) {
		return a.ids[r.Int("certificate")] + " " + r.Text("who"), r.Text("at")
	})
	if err != nil {
		return err
	}
	if !a.older {
		a.both("holder", holders, a.holders)
	}
	carried, err := gather("carried", func(r records.Row) (string, string) {
		return r.Text("id"),
			r.Text("at") + " " + r.Text("what")
	})
	if err != nil {
		return err
	}
	if !a.older {
		a.both("courier", carried, a.carried)
	}
	return a.auditRest(gather)
}

func (a *auditing) auditRest(gather func(string, func(records.Row) (string, string)) (map[string]string, error)) error {
	outside := map[string][]string{}
	if err := a.each("outside", func(r records.Row) {
		sum := a.ids[r.Int("certificate")]
		if int(r.Int("position")) != len(outside[sum]) {
			a.fault("chain", "the chain of certificate %s is not in order", sum[:min(16, len(sum))])
		}
		outside[sum] = append(outside[sum], fmt.Sprintf("%x", sha256.Sum256(r.Bytes("der"))))
	}); err != nil {
		return err
	}
	have, want := map[string]string{}, map[string]string{}
	for sum, list := range outside {
		have[sum] = strings.Join(list, " ")
	}
	for sum, c := range a.certificates {
		if len(c.chain) > 0 {
			want[sum] = strings.Join(c.chain, " ")
		}
	}
	if !a.older {
		a.both("chain", have, want)
	}
	meta, err := gather("meta", func(r records.Row) (string, string) { return r.Text("key"), r.Text("value") })
	if err != nil {
		return err
	}
	a.meta["version"] = fmt.Sprint(sqlite.Version)
	if a.settled != 0 {
		a.meta["clock"] = fmt.Sprint(a.settled)
	}
	for k, v := range meta {
		if a.meta[k] != v {
			a.fault("records", "%s is %q on record, and %q in the journal", k, v, a.meta[k])
		}
	}
	for k := range a.meta {
		if _, ok := meta[k]; !ok {
			a.fault("records", "%s is missing", k)
		}
	}
	if len(a.names) > 0 {
		a.fault("names", "there are names on record that belong to no certificate")
	}
	return a.auditLinks()
}

func (a *auditing) auditLinks() error {
	links := map[string]bool{}
	if err := a.each("link", func(r records.Row) {
		sum := a.ids[r.Int("certificate")]
		links[sum] = true
		if c := a.certificates[sum]; (c == nil || !c.link) && !a.older {
			a.fault("link", "no entry of the journal tells of the link certificate %s", sum[:min(16, len(sum))])
		}
		a.auditLink(r, sum)
	}); err != nil {
		return err
	}
	for sum, c := range a.certificates {
		if c.link && !links[sum] {
			a.fault("link", "the journal tells of the link certificate %s, and it is not on record as one",
				sum[:min(16, len(sum))])
		}
	}
	return nil
}

// auditLink holds the two generations of a link against its certificate.
func (a *auditing) auditLink(r records.Row, sum string) {
	h, err := a.e.Hierarchy(a.ctx)
	if err != nil {
		return // told by the check of authorities
	}
	for _, x := range h {
		for _, l := range x.Links {
			if fmt.Sprintf("%x", l.Certificate.SHA256()) != sum {
				continue
			}
			if l.Certificate.VerifiedBy(l.By.Certificate.Key) != nil || !bytes.Equal(l.Certificate.Key.Canonical(),
				l.To.Certificate.Key.Canonical()) || a.gens[r.Int("by_generation")] != l.By.Name() {
				a.fault("link", "the link certificate %s does not join the generations that the record names",
					sum[:min(16, len(sum))])
			}
		}
	}
}

func (a *auditing) auditKeys() error {
	have := map[string]bool{}
	if err := a.each("moduli", func(r records.Row) {
		keys := r.Bytes("keys")
		for at := 0; at+32 <= len(keys); at += 32 {
			k := fmt.Sprintf("%x", keys[at:at+32])
			if have[k] {
				a.fault("moduli", "a key stands there more than once")
			}
			have[k] = true
		}
	}); err != nil {
		return err
	}
	if !maps.Equal(a.keys, have) {
		a.fault("moduli", "the RSA keys that new ones are held against are not those on record")
	}
	why, err := a.e.Records.CheckModuli(a.ctx)
	if err != nil {
		return err
	}
	if why != "" {
		a.fault("moduli", "%s", why)
	}
	flaws := map[string]bool{}
	if err := a.each("flaw", func(r records.Row) {
		flaws[fmt.Sprintf("%x %s: %s", r.Bytes("key_sha256"), r.Text("code"), r.Text("message"))] = true
		a.out.fault(fmt.Sprintf("key %x…", r.Bytes("key_sha256")[:min(8, len(r.Bytes("key_sha256")))]),
			r.Text("message"), "replace what was signed for this key, with a new key")
	}); err != nil {
		return err
	}
	if !maps.Equal(flaws, a.flaws) {
		a.fault("flaw", "what is known against keys does not agree with the journal")
	}
	return nil
}
