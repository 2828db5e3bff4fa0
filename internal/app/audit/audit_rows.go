package audit

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironseal/internal/store"
	"ironseal/pki/advice"
)

// unknownEnd is the end of what was revoked, until its certificate is read.
const unknownEnd = -1 << 62

func (a *auditing) auditCertificates() error {
	if err := a.each("revocation", func(r store.Row) {
		a.ends[a.handles[r.Int("authority")]+" "+r.Text("serial")] = unknownEnd
	}); err != nil {
		return err
	}
	replaced := map[int64]int64{} // by what
	if err := eachRead(a, "certificate", a.lookAt, func(r store.Row, x seenCertificate) {
		id, sum := r.Int("id"), x.sum
		a.out.Certificates++
		a.progress()
		if x.wrong != "" {
			a.out.fault(r.Text("title"), x.wrong, fromBackup)
		}
		if told := a.certificates[sum]; told != nil {
			sum, told.seen = told.sum, true // one text, and not two that are the same
		}
		a.ids[id] = sum
		if len(a.ends) > 0 {
			if key := a.handles[r.Int("authority")] + " " + r.Text("serial"); a.ends[key] == unknownEnd {
				a.ends[key] = r.Int("not_after")
			}
		}
		if r.Text("staged") == "" && r.Int("replaces") != 0 {
			a.replaces[r.Int("replaces")] = append(a.replaces[r.Int("replaces")], id)
		}
		if by := r.Int("replaced_by"); by != 0 {
			replaced[id] = by
		}
		a.auditCertificate(r, x)
	}); err != nil {
		return err
	}
	for sum, told := range a.certificates {
		if !told.seen {
			a.fault("certificate "+short(sum),
				"the journal tells of this certificate, and it is not on record")
		}
	}
	a.auditReplaced(replaced)
	for name, want := range a.generations {
		if id, ok := a.own[name]; ok && a.ids[id] != octets(want.certificate) {
			a.fault(name, "its certificate on record is not the one in the journal")
		}
	}
	return a.auditWaivers()
}

// auditReplaced compares which certificate is on record as signed in whose place, both ways.
func (a *auditing) auditReplaced(replaced map[int64]int64) {
	wrong := func(id int64) {
		sum := a.ids[id]
		a.fault("certificate "+short(sum), "what was signed in its place does not agree with the journal")
	}
	for id, by := range replaced {
		if !slices.Contains(a.replaces[id], by) {
			wrong(id)
		}
	}
	for id := range a.replaces {
		if _, on := a.ids[id]; on && replaced[id] == 0 {
			wrong(id)
		}
	}
}

func (a *auditing) auditCertificate(r store.Row, seen seenCertificate) {
	title, c, x := r.Text("title"), seen.c, seen.columns
	if c == nil {
		return // reported already
	}
	if c.Key.Modulus() != nil {
		a.keys[fmt.Sprintf("%x", c.Key.Fingerprint())] = true
	}
	switch {
	case r.Text("serial") != x.Serial, title != x.Title, r.Text("subject") != x.Subject,
		r.Int("not_after") != c.NotAfter.Unix(), !bytes.Equal(r.Bytes("key_sha256"), x.Key[:]):
		a.fault(title, "its serial, title, subject, end or key on record is not that of its certificate")
	case !briefFits(r, x.Brief):
		a.fault(title, "what lists tell of it on record (its names, key or beginning) is not that of its certificate")
	case int(r.Int("part")) != a.partOf(seen, r.Int("issuer")):
		a.fault(title, "the part of its issuer's lists on record is not that of its certificate")
	case r.Int("authority") != a.owner[r.Int("issuer")]:
		a.fault(title, "the authority on record is not that of the generation that signed it")
	}
	if seen.names != a.names[r.Int("id")] {
		a.fault(title, "its names on record are not those of its certificate")
	}
	delete(a.names, r.Int("id"))
	for _, p := range store.AddressesIn(c) {
		if p.Generation, p.Part = a.gens[r.Int("issuer")], int(r.Int("part")); r.Int("issuer") != 0 {
			a.places[p] = true
		}
	}
	want := a.certificates[seen.sum]
	if want == nil {
		if !a.older {
			a.fault(title, "no entry of the journal tells of this certificate")
		}
		return
	}
	a.compare(r, title, want)
}

// briefFits reports whether the columns that lists and daily questions are answered from tell what a certificate does.
func briefFits(r store.Row, b store.Brief) bool {
	return r.Int("not_before") == b.NotBefore.Unix() && r.Text("key_kind") == b.KeyKind &&
		r.Text("names") == b.NameList && r.Int("traits") == int64(b.Traits)
}

func (a *auditing) compare(r store.Row, title string, want *toldCertificate) {
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
	case want.sheet != "" && string(r.Bytes("sheet")) != want.sheet,
		want.sheet == "" && !allZero(r.Bytes("sheet")):
		a.fault(title, "its review sheet on record is not the one in the journal")
	case r.Int("replaces") != want.replaces && !a.older:
		a.fault(title, "in whose place it was signed does not agree with the journal")
	case r.Text("staged") != want.switchDay && !a.older:
		a.fault(title, "its switch day is %q on record, and %q in the journal", r.Text("staged"), want.switchDay)
	}
}

func allZero(b []byte) bool { return len(bytes.Trim(b, "\x00")) == 0 }

func (a *auditing) auditWaivers() error {
	have := map[string]map[string]string{}
	if err := a.each("waiver", func(r store.Row) {
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
			a.fault("certificate "+short(sum), "what was waived on record is not what the journal tells")
		}
	}
	return nil
}

func (a *auditing) auditRequests() error {
	if err := eachRead(a, "request", lookAtRequest, func(r store.Row, x seenRequest) {
		label := fmt.Sprintf("R%d", r.Int("number"))
		sum, q := x.sum, x.q
		want := a.requests[label]
		if want != nil {
			want.seen = true
		}
		if q == nil {
			a.fault(label, "its bytes on record cannot be parsed")
			return
		}
		if q.Key.Modulus() != nil {
			a.keys[fmt.Sprintf("%x", q.Key.Fingerprint())] = true
		}
		switch {
		case want == nil:
			a.fault(label, "no entry of the journal tells of this request")
		case !bytes.Equal(sum[:], r.Bytes("sha256")), string(sum[:]) != want.sum:
			a.fault(label, "its bytes on record are not those that were received")
		case r.Text("title") != q.Title(), !bytes.Equal(r.Bytes("key_sha256"), x.key[:]):
			a.fault(label, "its title or key on record is not that of the request")
		case r.Text("sender") != want.from, r.Text("received") != want.received && !a.older:
			a.fault(label, "who sent it, or when, does not agree with the journal")
		case r.Text("state") != string(want.state), !a.older &&
			(earlierReason(r.Text("reason")) != want.reason || r.Text("decided") != want.decided):
			a.fault(label, "it is %s on record (%q), and %s in the journal (%q)", r.Text("state"), r.Text("reason"),
				want.state, want.reason)
		}
	}); err != nil {
		return err
	}
	for label, told := range a.requests {
		if !told.seen {
			a.fault(label, "the journal tells of this request, and it is not on record")
		}
	}
	return nil
}

// both compares what is on record with what was reported, both ways.
func (a *auditing) both(what string, have, want map[string]string) {
	for k, v := range want {
		if h, ok := have[k]; !ok || h != v {
			a.fault(what, "%s: the journal records it, but the table differs or lacks it", k)
		}
	}
	for k := range have {
		if _, ok := want[k]; !ok && !a.older {
			a.fault(what, "%s: the journal has no entry for it", k)
		}
	}
}

func (a *auditing) auditLinks() error {
	links := map[string]bool{}
	if err := a.each("link", func(r store.Row) {
		sum := a.ids[r.Int("certificate")]
		links[sum] = true
		if c := a.certificates[sum]; (c == nil || !c.link) && !a.older {
			a.fault("link", "no entry of the journal tells of the link certificate %s", short(sum))
		}
		a.auditLink(r, sum)
	}); err != nil {
		return err
	}
	for sum, c := range a.certificates {
		if c.link && !links[sum] {
			a.fault("link", "the journal tells of the link certificate %s, and it is not on record as one",
				short(sum))
		}
	}
	return nil
}

// auditLink holds the two generations of a link against its certificate.
func (a *auditing) auditLink(r store.Row, sum string) {
	h, err := a.e.Hierarchy(a.ctx)
	if err != nil {
		return // reported by the check of authorities
	}
	for _, x := range h {
		for _, l := range x.Links {
			if octets(fmt.Sprintf("%x", l.Certificate.SHA256())) != sum {
				continue
			}
			if l.Certificate.VerifiedBy(l.By.Certificate.Key) != nil || !bytes.Equal(l.Certificate.Key.Canonical(),
				l.To.Certificate.Key.Canonical()) || a.gens[r.Int("by_generation")] != l.By.Name() {
				a.fault("link", "the link certificate %s does not join the generations that the record names",
					short(sum))
			}
		}
	}
}

// auditKeyFiles holds the files of keys whose passphrase was changed against what the journal tells.
func (a *auditing) auditKeyFiles() error {
	for _, k := range slices.Sorted(maps.Keys(a.keyFiles)) {
		f := a.keyFiles[k]
		handle, _, _ := strings.Cut(f.name, ".g")
		now := a.e.Keys.StoredSHA256(k)
		switch {
		case now == "":
		case f.begun:
			a.out.fault(f.name, "a change of its passphrase was cut off", advice.To("give the command again",
				advice.ChangePassphrase, "authority", handle))
		case now != f.file:
			a.out.fault(f.name, "its key file is not the one that the last change of its passphrase wrote", fromBackup)
		}
	}
	return nil
}

func (a *auditing) auditKeys() error {
	have := map[string]bool{}
	if err := a.each("moduli", func(r store.Row) {
		keys := r.Bytes("keys")
		for at := 0; at+32 <= len(keys); at += 32 {
			k := fmt.Sprintf("%x", keys[at:at+32])
			if have[k] {
				a.fault("moduli", "a key is listed more than once")
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
	if err := a.each("flaw", func(r store.Row) {
		flaws[fmt.Sprintf("%x %s: %s", r.Bytes("key_sha256"), r.Text("code"), r.Text("message"))] = true
		a.out.fault(fmt.Sprintf("key %x…", r.Bytes("key_sha256")[:min(8, len(r.Bytes("key_sha256")))]),
			r.Text("message"), advice.Say("replace what was signed for this key, with a new key"))
	}); err != nil {
		return err
	}
	if !maps.Equal(flaws, a.flaws) {
		a.fault("flaw", "what is known against keys does not agree with the journal")
	}
	return nil
}

// earlierReason is the reason of a request as it is written today: earlier versions called a transfer a courier.
func earlierReason(text string) string {
	return strings.Replace(text, "by courier ", "by transfer ", 1)
}
