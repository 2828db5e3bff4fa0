package audit

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/hierarchy"
	"ironseal/pki/san"
)

// The journal is proved whole by its links. The records beside it are not: whoever
// can write the file can change a row and leave the journal alone. So the check reads
// the journal from its beginning, works out what must be on record, and holds every
// row of every table against that, and against the certificate or request that the
// row is about.

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
	names    map[int64]nameSum
	h        hierarchy.Hierarchy // nil where it does not load
	progress func()              // after each certificate
	replaces map[int64][]int64   // certificate to those that were signed in its place and serve
	own      map[string]int64    // generation, by name, to its certificate
	keys     map[string]bool     // RSA keys, by fingerprint
	template map[string]string
	ends     map[string]int64 // of certificates that were revoked, by authority and serial

	listNumber map[string]int64
	places     map[store.Address]bool // that certificates name; what is on record is taken out again
}

func (a *auditing) fault(about, format string, args ...any) {
	a.out.fault(about, fmt.Sprintf(format, args...),
		advice.Say("the records were changed outside this program, or the disk is failing: compare with a backup"),
		fromBackup)
}

// audit holds the records against the journal, both ways.
func audit(ctx context.Context, e *estate.Estate, out *Checked, said *told, progress func(done int)) error {
	schema, err := e.Records.Schema(ctx)
	if err != nil {
		return err
	}
	a := &auditing{told: said, e: e, ctx: ctx, out: out, ids: map[int64]string{}, gens: map[int64]string{},
		handles: map[int64]string{}, owner: map[int64]int64{}, names: map[int64]nameSum{},
		replaces: map[int64][]int64{}, own: map[string]int64{}, keys: map[string]bool{}, template: map[string]string{},
		ends: map[string]int64{}, places: map[store.Address]bool{}}
	if h, err := e.Hierarchy(ctx); err == nil { // one that does not load is reported already
		a.h = h
	}
	a.progress = estate.Counting(progress)
	for _, s := range schema {
		a.fault("records", "%s", s)
	}
	for _, seq := range a.unreadable {
		a.fault(fmt.Sprintf("J%d", seq), "the entry cannot be read")
	}
	for _, step := range []func() error{a.auditNames, a.auditAuthorities, a.auditTemplates, a.auditCertificates,
		a.auditPlaces, a.auditRevocations, a.auditRequests, a.auditDerived, a.auditSmall, a.auditKeys,
		a.auditKeyFiles} {
		if err := step(); err != nil {
			return err
		}
	}
	return ctx.Err()
}

func (a *auditing) each(table string, fn func(store.Row)) error {
	return a.e.Records.EachRow(a.ctx, table, func(r store.Row) error { fn(r); return a.ctx.Err() })
}

func (a *auditing) auditNames() error {
	return a.each("name", func(r store.Row) {
		id := r.Int("certificate")
		sum := a.names[id]
		sum.add(san.Kind(r.Text("kind")), r.Text("value"))
		a.names[id] = sum
	})
}

// auditDerived compares what is derived from the journal with the journal.
func (a *auditing) auditDerived() error {
	err := a.each("derived", func(r store.Row) {
		key := derivedKey(r.Text("kind"), r.Text("name"))
		if want, there := a.derived[key]; !there || want != (event.Row{Seq: r.Int("seq"), At: r.Text("at")}) {
			a.fault("derived", "the %s %q does not agree with the journal", r.Text("kind"), r.Text("name"))
		}
		delete(a.derived, key)
	})
	for key := range a.derived {
		kind, name, _ := strings.Cut(key, "\x00")
		a.fault("derived", "the journal tells of the %s %q, and it is not on record", kind, name)
	}
	return err
}

// auditPlaces holds the addresses on record against those that the certificates name.
func (a *auditing) auditPlaces() error {
	err := a.each("place", func(r store.Row) {
		p := store.Address{Generation: a.gens[r.Int("generation")], Part: int(r.Int("part")), Kind: r.Text("kind"),
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
	retired, holder := map[string]string{}, map[string]string{}
	a.listNumber = map[string]int64{}
	parents := map[int64]int64{}
	if err := a.each("authority", func(r store.Row) {
		a.handles[r.Int("id")] = r.Text("handle")
		retired[r.Text("handle")], holder[r.Text("handle")] = r.Text("retired"), r.Text("holder")
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
		case holder[handle] != string(heldBy(want.keyHere)):
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
	rows := map[int64]store.Row{}
	if err := a.each("generation", func(r store.Row) {
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
		if r.Text("staged") != want.switchDay && !a.older {
			a.fault(name, "its switch day is %q on record, and %q in the journal", r.Text("staged"), want.switchDay)
		}
		if r.Text("stopped") != want.stopped {
			a.fault(name, "why it grants nothing is %q on record, and %q in the journal", r.Text("stopped"),
				want.stopped)
		}
		if have := a.gens[issuers[id]]; !fits(want.by, have) {
			a.fault(name, "its issuer is %q on record, and %q in the journal", have, want.by)
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

// fits reports whether a generation is the one that the journal names.
func fits(want, have string) bool {
	if handle, any := strings.CutSuffix(want, ".*"); any {
		owner, _, _ := strings.Cut(have, ".")
		return owner == handle
	}
	return want == "*" || want == have
}

func (a *auditing) auditTemplates() error {
	return a.each("template", func(r store.Row) {
		if sum := sha256.Sum256(r.Bytes("source")); !bytes.Equal(sum[:], r.Bytes("sha256")) {
			a.fault("template "+r.Text("name"), "the text on record is not the one that was signed by")
		}
		a.template[string(r.Bytes("sha256"))] = r.Text("name")
	})
}

// auditSmall looks at the tables of few columns.
func (a *auditing) auditSmall() error {
	gather := func(table string, fn func(r store.Row) (key, value string)) (map[string]string, error) {
		out := map[string]string{}
		err := a.each(table, func(r store.Row) {
			k, v := fn(r)
			out[k] = v
		})
		return out, err
	}
	sent, err := gather("sent", func(r store.Row) (string, string) {
		return fmt.Sprintf("%x", sha256.Sum256(r.Bytes("der"))),
			fmt.Sprint(r.Text("handle"), r.Text("parent"), r.Text("made"), r.Text("answered"), r.Text("staged"),
				hex.EncodeToString(r.Bytes("key_sha256")))
	})
	if err != nil {
		return err
	}
	want := map[string]string{}
	for sum, s := range a.sent {
		want[sum] = fmt.Sprint(s.handle, s.parent, s.made, s.answered, s.switchDay, s.key)
	}
	if !a.older {
		a.both("request of an authority", sent, want)
	}
	drafts, err := gather("draft", func(r store.Row) (string, string) {
		return hex.EncodeToString(r.Bytes("key_sha256")),
			fmt.Sprint(r.Text("file"), r.Text("made"), r.Int("sealed") != 0)
	})
	if err != nil {
		return err
	}
	want = map[string]string{}
	for k, d := range a.drafts {
		want[k] = fmt.Sprint(d.file, d.made, d.encrypted)
	}
	if !a.older {
		a.both("draft", drafts, want)
	}
	holders, err := gather("holder", func(r store.Row) (string, string) {
		return fmt.Sprintf("%x %s", a.ids[r.Int("certificate")], r.Text("who")), r.Text("at")
	})
	if err != nil {
		return err
	}
	if !a.older {
		a.both("holder", holders, a.holders)
	}
	carried, err := gather("carried", func(r store.Row) (string, string) {
		return r.Text("id"),
			r.Text("at") + " " + r.Text("what")
	})
	if err != nil {
		return err
	}
	if !a.older {
		a.both("transfer", carried, a.carried)
	}
	return a.auditRest(gather)
}

func (a *auditing) auditRest(gather func(string, func(store.Row) (string, string)) (map[string]string, error)) error {
	outside := map[string][]string{}
	if err := a.each("outside", func(r store.Row) {
		sum := a.ids[r.Int("certificate")]
		if int(r.Int("position")) != len(outside[sum]) {
			a.fault("chain", "the chain of certificate %s is not in order", short(sum))
		}
		outside[sum] = append(outside[sum], fmt.Sprintf("%x", sha256.Sum256(r.Bytes("der"))))
	}); err != nil {
		return err
	}
	have, want := map[string]string{}, map[string]string{}
	for sum, list := range outside {
		have[fmt.Sprintf("%x", sum)] = strings.Join(list, " ")
	}
	for sum, c := range a.certificates {
		if len(c.chain) > 0 {
			want[fmt.Sprintf("%x", sum)] = strings.Join(c.chain, " ")
		}
	}
	if !a.older {
		a.both("chain", have, want)
	}
	meta, err := gather("meta", func(r store.Row) (string, string) { return r.Text("key"), r.Text("value") })
	if err != nil {
		return err
	}
	a.meta["version"] = fmt.Sprint(a.e.Records.Form())
	if a.settled != 0 {
		a.meta["clock"] = fmt.Sprint(a.settled)
	}
	delete(meta, "moved") // what was moved says so, and is not opened for acts any more
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

// heldBy is who holds an authority's key, by what the journal tells.
func heldBy(here bool) hierarchy.KeyHolder {
	if here {
		return hierarchy.HeldHere
	}
	return hierarchy.HeldExternally
}
